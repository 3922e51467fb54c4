"""Spans as one run of packets: byte after byte where the camera only cut, else file after file.

Times that come out begin with the first picture at zero; sound keeps its place beside the picture.
"""

from __future__ import annotations

import itertools
from collections.abc import Iterator, Sequence
from dataclasses import dataclass
from fractions import Fraction
from pathlib import Path
from typing import Any

import av
from av.container import InputContainer
from av.stream import Stream

from diadoche.core.errors import MediaError
from diadoche.core.identify.container import container_of
from diadoche.core.media import decoding, opened

_TRANSPORT = {"M2TS", "MPEG-TS"}
# Sound and picture of a camera end up to a few frames apart, and so do its estimates of a length.
_SEAM_S = Fraction(1, 4)


@dataclass(frozen=True, slots=True)
class TimedPacket:
    """A packet of track `track` (counted over picture and sound tracks); times in seconds from the first picture."""

    track: int
    packet: av.Packet[Any]
    pts_s: Fraction
    dts_s: Fraction


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
    return container_of(path) in _TRANSPORT or path.suffix.upper() in {".MTS", ".M2TS"}


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


def packets(paths: Sequence[Path]) -> Iterator[TimedPacket]:
    """All packets of a clip in the order of their files.

    Raises:
        MediaError: a part cannot be read.
    """
    offset_s = Fraction(0)
    for part in parts(paths):
        end_s = offset_s
        with opened(part) as media, decoding(part[0]):
            tracks = tracks_of(media)
            shift_s = offset_s - first_picture_s(media)
            place = {stream.index: number for number, stream in enumerate(tracks)}
            lasts: dict[int, Fraction] = {}
            for packet in media.demux(tracks):
                if packet.size == 0:
                    continue
                timed = _timed(packet, place[packet.stream_index], shift_s, lasts)
                if timed.track == 0:
                    end_s = max(end_s, timed.pts_s + _length_s(packet))
                yield timed
        offset_s = end_s


def first_picture_s(media: InputContainer) -> Fraction:
    """When the first picture is shown, on the container's own clock."""
    stream = tracks_of(media)[0]
    return (stream.start_time or 0) * (stream.time_base or Fraction(1))


def _timed(packet: av.Packet[Any], track: int, shift_s: Fraction, lasts: dict[int, Fraction]) -> TimedPacket:
    base = Fraction(packet.time_base or 1)
    dts = packet.dts if packet.dts is not None else packet.pts
    # A camera may leave out times of some packets; then one follows right after the other.
    dts_s = dts * base + shift_s if dts is not None else lasts.get(track, Fraction(0))
    pts_s = packet.pts * base + shift_s if packet.pts is not None else dts_s
    lasts[track] = dts_s + _length_s(packet)
    return TimedPacket(track, packet, pts_s, dts_s)


def _length_s(packet: av.Packet[Any]) -> Fraction:
    return (packet.duration or 0) * Fraction(packet.time_base or 1)
