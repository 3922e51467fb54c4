"""Size and digest of each packet as its source gave it, and whether a file holds packets that were framed again.

To digest H.264 in a form that no container changes, every start code of the source has to be found: that takes longer
than reading it. A file with lengths tells where its units are: from them the source's packet is put together again,
with start codes in place of lengths, and must have the same digest. How many of those have three bytes and how many
four is told by the packet's size.
"""

from __future__ import annotations

import itertools
from array import array
from collections.abc import Iterator, Sequence

import xxhash

from diadoche.core.identify.units import unit_length_bytes

_Data = bytes | memoryview
_START_CODES = (b"\x00\x00\x01", b"\x00\x00\x00\x01")
_LENGTH_BYTES = 4
# Parameter sets and delimiters, which have the long start code, as has the first unit [H264, B.1.2]; and slices, which
# hardly ever have.
_LONG_CODED, _SLICES = {7, 8, 9}, {1, 5}
# So many ways are tried for a row of units that was not met before.
_MOST_TRIED = 300
_Kinds = tuple[int, ...]
_Places = tuple[int, ...]


def fingerprints_suffice(codec: str, extradata: bytes | None) -> bool:
    """Whether a track's packets are found again by their fingerprints, when another container has framed them.

    Args:
        codec: its published name.
        extradata: the head of the track in its source.
    """
    return codec == "h264" or unit_length_bytes(codec, extradata) > 0


class PacketFingerprints:
    """Takes the packets of one track in order, as its source gave them."""

    def __init__(self) -> None:
        self.sizes = array("I")
        self.digests = array("Q")

    def take(self, data: _Data) -> None:
        """The next packet."""
        self.sizes.append(len(data))
        self.digests.append(xxhash.xxh3_64_intdigest(data))


class FingerprintReader:
    """Takes the packets of a file, and holds each against the source's."""

    def __init__(self, fingerprints: PacketFingerprints, codec: str, extradata: bytes | None) -> None:
        """
        Args:
            fingerprints: of the source.
            codec: its published name.
            extradata: the head of the track in the file: whether units have lengths there.
        """
        self._fingerprints = fingerprints
        self._has_lengths = codec == "h264" and unit_length_bytes(codec, extradata) == _LENGTH_BYTES
        self._place = 0
        self._differs = False
        # Which units had the long start code, by the kinds of all of them and how many had it: streams have habits.
        self._habits: dict[tuple[_Kinds, int], _Places] = {}

    def take(self, data: _Data) -> None:
        """The next packet."""
        place, fingerprints = self._place, self._fingerprints
        self._place += 1
        if self._differs or place >= len(fingerprints.sizes):
            self._differs = True
            return
        size, digest = fingerprints.sizes[place], fingerprints.digests[place]
        if size == len(data) and xxhash.xxh3_64_intdigest(data) == digest:
            return
        self._differs = not self._has_lengths or not self._is_framed_again(memoryview(data), size, digest)

    @property
    def is_equal(self) -> bool:
        """Whether all of the source's packets were taken, and nothing else."""
        return not self._differs and self._place == len(self._fingerprints.sizes)

    def _is_framed_again(self, data: memoryview, size: int, digest: int) -> bool:
        units = _units(data)
        if units is None:
            return False
        kinds = tuple(unit[0] & 0x1F for unit in units)
        longer = size - len(data) + (_LENGTH_BYTES - len(_START_CODES[0])) * len(units)
        if not 0 <= longer <= len(units):
            return False
        known = self._habits.get((kinds, longer))
        if known is not None and _digest(units, known) == digest:
            return True
        for places in itertools.islice(_long_coded(kinds, longer), _MOST_TRIED):
            if _digest(units, places) == digest:
                self._habits[kinds, longer] = places
                return True
        return False


def _long_coded(kinds: _Kinds, count: int) -> Iterator[_Places]:
    """Which units may have the long start code, so many of them; the likely ones first."""
    asked = tuple(place for place, kind in enumerate(kinds) if not place or kind in _LONG_CODED)
    if len(asked) <= count:
        others = [place for place, kind in enumerate(kinds) if place not in asked and kind not in _SLICES]
        for more in itertools.combinations(others, count - len(asked)):
            yield (*asked, *more)
    yield from itertools.combinations(range(len(kinds)), count)


def _units(data: memoryview) -> list[memoryview] | None:
    """The units of a packet that stand behind their lengths; None where those do not add up."""
    found, place, size = [], 0, len(data)
    while place < size:
        begin = place + _LENGTH_BYTES
        place = begin + int.from_bytes(data[place:begin], "big")
        if begin >= size or not begin < place <= size:
            return None
        found.append(data[begin:place])
    return found


def _digest(units: Sequence[memoryview], long_coded: _Places) -> int:
    digest = xxhash.xxh3_64()
    for place, unit in enumerate(units):
        digest.update(_START_CODES[place in long_coded])
        digest.update(unit)
    return digest.intdigest()
