"""Digests of packets with each container's own framing undone, so that a rewrap can be proven.

H.264 and HEVC: start codes become lengths, and parameter sets, delimiters and filler may be repeated
or left out without a change to the picture [H264, annex B; 14496-15]. AAC: the ADTS header goes
[14496-3, 1.A.2]. Plain PCM is one run of samples, which every container cuts as it likes. Everything else is compared
packet by packet, byte for byte.
"""

from __future__ import annotations

from collections.abc import Iterator

import xxhash

from diadoche.core.identify.units import unit_bounds, unit_length_bytes

# AV1: temporal delimiters stand only where no container tells where pictures begin [AV1, 5.6].
_AV1_DELIMITER = 2
_FRAMING_UNITS = {"h264": {7, 8, 9, 12}, "hevc": {32, 33, 34, 35, 38}}


class TrackDigest:
    """Takes the packets of one track in order."""

    def __init__(self, codec: str, extradata: bytes | None) -> None:
        self._codec = codec
        self._length_bytes = unit_length_bytes(codec, extradata)
        self._left_out = _FRAMING_UNITS.get(codec, set())
        self._is_run = codec.startswith("pcm_")
        self._digest = xxhash.xxh3_128()
        self._count = 0

    def take(self, data: bytes | memoryview) -> None:
        """The next packet as its container gave it."""
        if self._is_run:
            self._count += len(data)
            self._digest.update(data)
            return
        self._count += 1
        if self._left_out:
            self._take_units(data)
            return
        for piece in self._pieces(data):
            self._digest.update(len(piece).to_bytes(4, "big"))
            self._digest.update(piece)

    def _take_units(self, data: bytes | memoryview) -> None:
        is_h264, left_out, update = self._codec == "h264", self._left_out, self._digest.update
        # Nothing is copied: pictures are large.
        view = memoryview(data)
        for begin, end in unit_bounds(view, self._length_bytes):
            if (view[begin] & 0x1F if is_h264 else view[begin] >> 1 & 0x3F) not in left_out:
                update((end - begin).to_bytes(4, "big"))
                update(view[begin:end])

    def value(self) -> tuple[int, str]:
        """How many packets, or bytes of plain PCM, and what they were."""
        return self._count, self._digest.hexdigest()

    def _pieces(self, data: bytes | memoryview) -> Iterator[bytes | memoryview]:
        if self._codec == "av1":
            yield from _av1_units(data)
        elif self._codec == "aac" and data[:1] == b"\xff" and len(data) > 7 and data[1] & 0xF6 == 0xF0:
            yield data[7 if data[1] & 1 else 9 :]
        else:
            yield data


def _av1_units(data: bytes | memoryview) -> Iterator[bytes | memoryview]:
    """The units of an AV1 picture without delimiters [AV1, 5.3.2]; data of another kind stays whole."""
    place = 0
    while place < len(data):
        begin, head = place, data[place]
        place += 1 + (head >> 2 & 1)
        size, shift = 0, 0
        if head >> 1 & 1:
            while place < len(data):
                size |= (data[place] & 0x7F) << shift
                shift, place = shift + 7, place + 1
                if not data[place - 1] & 0x80:
                    break
        else:
            size = len(data) - place
        place += size
        if head >> 3 & 15 != _AV1_DELIMITER:
            yield data[begin:place]
