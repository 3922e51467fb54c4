"""When the pictures of a transport stream are shown, by its packets' own heads: no library reads it here.

A picture's stamp stands in front of it, in the head of a packet of its own stream (PES). Whoever asks knows how many
pictures there are: where it is not one head for each, pictures stand behind others, and heads do not tell.

Source: [13818-1] ISO/IEC 13818-1, 2.4.3.2 (packets), 2.4.3.4 (adaptation field), 2.4.3.6 and 2.4.3.7 (PES), 2.4.4
(tables), table 2-34 (kinds of streams).
"""

from __future__ import annotations

import threading
from collections.abc import Iterator, Sequence
from contextlib import ExitStack
from dataclasses import dataclass, field
from pathlib import Path

import numpy as np
from numpy.typing import NDArray

from diadoche.core.diskfiles import unseen_file

_SYNC = 0x47
_CHUNK_PACKETS = 32_768
# How long a packet is, and where in it that begins which is a packet in every kind of file.
_FRAMINGS = ((188, 0), (192, 4))
_PROBED = 16
# The first word of a packet.
_DAMAGED, _BEGINS, _SCRAMBLED, _PADDED, _FILLED = 0x800000, 0x400000, 0xC0, 0x20, 0x10
# Kinds of streams that are pictures [13818-1, table 2-34].
_VIDEO = frozenset({0x01, 0x02, 0x10, 0x1B, 0x20, 0x21, 0x24, 0x33, 0xEA})
# Of the head of a PES packet, up to the end of both stamps.
_PES_BYTES = 19
_Bytes = NDArray[np.uint8]
_Words = NDArray[np.uint32]


@dataclass(frozen=True, slots=True)
class StreamStamps:
    """In the order of the stream, in ticks of 90 kHz of 33 bits: when pictures are shown, and decoded."""

    shown: NDArray[np.int64]
    decoded: NDArray[np.int64]


class _Unclear(Exception):
    """The heads of packets do not tell it without doubt."""


def stream_stamps(paths: Sequence[Path], stop: threading.Event | None = None) -> StreamStamps | None:
    """The stamps of the first video stream; None where packets' heads do not tell them without doubt.

    Args:
        paths: spans that follow each other byte by byte.
        stop: reading ends when it is set; then nothing is known.

    Raises:
        OSError: a file cannot be read.
    """
    found = _Stamps()
    try:
        for words, packets in _chunks(paths):
            if stop is not None and stop.is_set():
                return None
            found.take(words, packets)
    except _Unclear:
        return None
    return found.stamps()


def _chunks(paths: Sequence[Path]) -> Iterator[tuple[_Words, _Bytes]]:
    """Packets, by their first words and as rows of bytes; a packet may lie in two files, and be cut off at the end."""
    with ExitStack() as opened:
        files = [opened.enter_context(unseen_file(path)) for path in paths]
        size, begin = _framing(files[0].read(192 * _PROBED))
        files[0].seek(0)
        buffer = np.empty(size * _CHUNK_PACKETS, np.uint8)
        # By words of four bytes: to touch a packet once is all that most of them cost.
        words = buffer.view(">u4").reshape(-1, size // 4)[:, begin // 4]
        rows = buffer.reshape(-1, size)[:, begin:]
        kept = 0
        for file in files:
            while read := file.readinto(buffer[kept:].data):  # type: ignore[attr-defined]  # of raw files
                whole, rest = divmod(kept + read, size)
                yield words[:whole].astype(np.uint32), rows[:whole]
                kept = rest
                buffer[:rest] = buffer[whole * size : whole * size + rest].copy()


def _framing(head: bytes) -> tuple[int, int]:
    for size, begin in _FRAMINGS:
        places = range(begin, len(head), size)
        if len(places) > 1 and all(head[place] == _SYNC for place in places):
            return size, begin
    raise _Unclear


@dataclass(slots=True)
class _Stamps:
    """Takes packets in their order."""

    _stream: int = -1
    _tables: int = -1
    _counter: int = -1
    _shown: list[NDArray[np.int64]] = field(default_factory=list)
    _decoded: list[NDArray[np.int64]] = field(default_factory=list)

    def take(self, words: _Words, packets: _Bytes) -> None:
        """The next packets.

        Raises:
            _Unclear: they do not tell.
        """
        # Packets without their mark, or that somebody who passed them on knows to be damaged.
        if ((words >> 24 != _SYNC) | (words & _DAMAGED != 0)).any():
            raise _Unclear
        streams = (words >> 8 & 0x1FFF).astype(np.uint32)
        if self._stream < 0:
            self._find_stream(words, streams, packets)
        own = np.flatnonzero((streams == self._stream) & (words & _FILLED != 0))
        if not own.size:
            return
        self._follow(words[own])
        self._take_heads(packets[own[words[own] & _BEGINS != 0]])

    def stamps(self) -> StreamStamps | None:
        """What was found."""
        if not self._shown:
            return None
        return StreamStamps(np.concatenate(self._shown), np.concatenate(self._decoded))

    def _find_stream(self, words: _Words, streams: _Words, packets: _Bytes) -> None:
        """The first video stream of the only program [13818-1, 2.4.4.3 and 2.4.4.8]."""
        begins = words & _BEGINS != 0
        for packet in packets[(streams == 0) & begins][:1]:
            section = _section(packet)
            entries = range(8, _end_of(section) - 3, 4)
            programs = [place for place in entries if section[place] or section[place + 1]]
            if len(programs) != 1:
                raise _Unclear
            self._tables = (section[programs[0] + 2] & 0x1F) << 8 | section[programs[0] + 3]
        for packet in packets[(streams == self._tables) & begins][:1]:
            section = _section(packet)
            place, end = 12 + ((section[10] & 0x0F) << 8 | section[11]), _end_of(section)
            while place + 5 <= end:
                if section[place] in _VIDEO:
                    self._stream = (section[place + 1] & 0x1F) << 8 | section[place + 2]
                    return
                place += 5 + ((section[place + 3] & 0x0F) << 8 | section[place + 4])
            raise _Unclear

    def _follow(self, own: _Words) -> None:
        """Raises where packets of the stream are scrambled, lost, or stand twice: pictures may be gone."""
        counters = own & 0x0F
        follows = (counters[1:] == (counters[:-1] + 1) % 16).all()
        if (own & _SCRAMBLED).any() or not follows or (self._counter >= 0 and counters[0] != (self._counter + 1) % 16):
            raise _Unclear
        self._counter = int(counters[-1])

    def _take_heads(self, begins: _Bytes) -> None:
        if not begins.size:
            return
        # An adaptation field may stand in front [13818-1, 2.4.3.4].
        offsets = np.where(begins[:, 3] & _PADDED, begins[:, 4].astype(np.int64) + 5, 4)
        if (offsets + _PES_BYTES > begins.shape[1]).any():
            raise _Unclear
        places = offsets[:, np.newaxis] + np.arange(_PES_BYTES)
        heads = np.take_along_axis(begins, places, axis=1).astype(np.int64)
        is_head = (heads[:, 0] == 0) & (heads[:, 1] == 0) & (heads[:, 2] == 1)
        if not (is_head & (heads[:, 7] & 0x80 != 0)).all():
            raise _Unclear
        shown = _stamp(heads[:, 9:14])
        self._shown.append(shown)
        self._decoded.append(np.where(heads[:, 7] & 0x40, _stamp(heads[:, 14:19]), shown))


def _section(packet: _Bytes) -> bytes:
    """A table from its first byte on; it lies in this packet whole, or nothing is told."""
    data = packet.tobytes()
    place = 4 + (1 + data[4] if data[3] & _PADDED else 0)
    section = data[place + 1 + data[place] :] if place < len(data) else b""
    if len(section) < 16 or _end_of(section) > len(section):
        raise _Unclear
    return section


def _end_of(section: bytes) -> int:
    """Where the checksum of a table begins."""
    return ((section[1] & 0x0F) << 8 | section[2]) - 1


def _stamp(fields: NDArray[np.int64]) -> NDArray[np.int64]:
    """33 bits in five bytes, with markers between them [13818-1, 2.4.3.7]."""
    high = fields[:, 0] >> 1 & 7
    middle = fields[:, 1] << 7 | fields[:, 2] >> 1
    low = fields[:, 3] << 7 | fields[:, 4] >> 1
    return high << 30 | middle << 15 | low
