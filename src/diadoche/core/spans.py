"""Spans as one run of packets: byte after byte where the camera only cut, else file after file.

Times that come out begin with the first picture at zero; sound keeps its place beside the picture.
"""

from __future__ import annotations

import itertools
from collections.abc import Iterator, Sequence
from dataclasses import dataclass
from fractions import Fraction
from heapq import merge
from pathlib import Path
from typing import Any

import av
from av.container import InputContainer
from av.stream import Stream

from diadoche.core.errors import MediaError
from diadoche.core.identify.container import TRANSPORT, container_of
from diadoche.core.media import decoding, opened

# Sound and picture of a camera end up to a few frames apart, and so do its estimates of a length.
_SEAM_S = Fraction(1, 4)


@dataclass(slots=True)
class TimedPacket:
    """A packet of track `track` (counted over picture and sound tracks).

    Times are ticks of `tick_s` from the first picture: whole numbers, for there are many packets.
    """

    track: int
    packet: av.Packet[Any]
    pts: int
    dts: int
    tick_s: Fraction


def parts(paths: Sequence[Path]) -> list[tuple[Path, ...]]:
    """Which spans can be read as one stream of bytes. Each part is opened by itself."""
    groups: list[list[Path]] = [[paths[0]]]
    for before, after in itertools.pairwise(paths):
        if _is_transport(before) and _is_transport(after) and _clock_runs_on(before, after, otherwise=True):
            groups[-1].append(after)
        else:
            groups.append([after])
    return [tuple(group) for group in groups]


def runs_on(before: Path, after: Path) -> bool:
    """Whether two transport streams are spans of one recording, by their clocks alone."""
    return _is_transport(before) and _is_transport(after) and _clock_runs_on(before, after, otherwise=False)


def _is_transport(path: Path) -> bool:
    # A span may begin in the middle of a packet; only what the camera called it is left then.
    return container_of(path) in TRANSPORT or path.suffix.upper() in {".MTS", ".M2TS"}


def _clock_runs_on(before: Path, after: Path, *, otherwise: bool) -> bool:
    try:
        ends_s, begins_s = _edge_s(before, last=True), _edge_s(after, last=False)
        return abs(begins_s - ends_s) < _SEAM_S and begins_s > _edge_s(before, last=False)
    except (MediaError, ValueError):
        # Too short or too broken to have a clock of its own: only the joined stream can be understood.
        return otherwise


def _edge_s(path: Path, *, last: bool) -> Fraction:
    with opened([path]) as media, decoding(path):
        stream = media.streams.video[0] if media.streams.video else media.streams[0]
        base = stream.time_base or Fraction(1, 90_000)
        if stream.start_time is None or (last and stream.duration is None):
            raise ValueError
        return (stream.start_time + ((stream.duration or 0) if last else 0)) * base


def tracks_of(media: InputContainer) -> list[Stream]:
    """The picture and sound tracks that are taken along, the first picture first."""
    return [*media.streams.video[:1], *media.streams.audio]


def packets(paths: Sequence[Path], sounds: Sequence[Path] = ()) -> Iterator[TimedPacket]:
    """All packets of a clip in the order of their files, those of its sound files between them.

    Args:
        paths: the spans.
        sounds: files beside them that hold sound alone, and begin with the first picture; their tracks count on.

    Raises:
        MediaError: a part cannot be read.
    """
    apart = [_packets_of_sound(path, number) for number, path in enumerate(sounds, start=1)]
    return merge(_packets_of_spans(paths), *apart, key=lambda timed: timed.dts * timed.tick_s)


def _packets_of_sound(path: Path, number: int) -> Iterator[TimedPacket]:
    """Only mute pictures have sound files beside them: the first is track 1."""
    with opened([path]) as media, decoding(path):
        stream = media.streams.audio[0]
        clock = _Clock(number, stream, -(stream.start_time or 0) * Fraction(stream.time_base or 1))
        for packet in media.demux(stream):
            if packet.size:
                yield clock.timed(packet)


def _packets_of_spans(paths: Sequence[Path]) -> Iterator[TimedPacket]:
    offset_s = Fraction(0)
    for part in parts(paths):
        with opened(part) as media, decoding(part[0]):
            tracks = tracks_of(media)
            shift_s = offset_s - first_picture_s(media)
            clocks = {stream.index: _Clock(number, stream, shift_s) for number, stream in enumerate(tracks)}
            for packet in media.demux(tracks):
                if packet.size:
                    yield clocks[packet.stream_index].timed(packet)
            picture = clocks[tracks[0].index]
            offset_s = max(offset_s, picture.end * picture.tick_s)


def first_picture_s(media: InputContainer) -> Fraction:
    """When the first picture is shown, on the container's own clock."""
    stream = tracks_of(media)[0]
    return (stream.start_time or 0) * (stream.time_base or Fraction(1))


class _Clock:
    """The times of one track, moved to the joined clip's beginning."""

    def __init__(self, number: int, stream: Stream, shift_s: Fraction) -> None:
        self.tick_s = Fraction(stream.time_base or Fraction(1, 90_000))
        self.end = 0
        self._number = number
        self._shift = round(shift_s / self.tick_s)
        self._next_dts = self._shift

    def timed(self, packet: av.Packet[Any]) -> TimedPacket:
        """The packet with its times; where a camera left one out, it follows right after the packet before."""
        dts = packet.dts if packet.dts is not None else packet.pts
        dts = dts + self._shift if dts is not None else self._next_dts
        pts = packet.pts + self._shift if packet.pts is not None else dts
        length = packet.duration or 0
        self._next_dts = dts + length
        self.end = max(self.end, pts + length)
        return TimedPacket(self._number, packet, pts, dts, self.tick_s)
