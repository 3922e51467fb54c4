"""Picture sources: what converting reads from. A file and joined spans are the first; a stitch or a
developed clip is another class with the same three members.
"""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from dataclasses import dataclass
from fractions import Fraction
from heapq import merge
from pathlib import Path
from typing import Protocol

import av

from diadoche.core.identify.facts import Facts
from diadoche.core.media import decoding, opened
from diadoche.core.spans import first_picture_s, parts, tracks_of


@dataclass(frozen=True, slots=True)
class Picture:
    """A decoded picture and its place in time, in seconds from the first."""

    frame: av.VideoFrame
    time_s: Fraction


@dataclass(frozen=True, slots=True)
class Sound:
    """Decoded sound of one track; the time is that of its first sample, from the first picture."""

    track: int
    frame: av.AudioFrame
    time_s: Fraction


class PictureSource(Protocol):
    """Anything that pictures and sound come from, in one pass from the original."""

    facts: Facts

    @property
    def originals(self) -> tuple[Path, ...]:
        """The files it is made from."""

    def units(self) -> Iterator[Picture | Sound]:
        """Pictures in order of showing, and sound between them, in about the order of time."""


class FileSource:
    """A file, or the spans of one clip, decoded, with the sound files beside them."""

    def __init__(self, paths: Sequence[Path], facts: Facts, sounds: Sequence[Path] = ()) -> None:
        self.facts = facts
        self._paths = tuple(paths)
        self._sounds = tuple(sounds)

    @property
    def originals(self) -> tuple[Path, ...]:
        """The files it is made from."""
        return (*self._paths, *self._sounds)

    def units(self) -> Iterator[Picture | Sound]:
        """Everything, decoded.

        Raises:
            MediaError: a span cannot be opened or decoded.
        """
        apart = [_sound_units(path, number) for number, path in enumerate(self._sounds)]
        return merge(self._span_units(), *apart, key=lambda unit: unit.time_s)

    def _span_units(self) -> Iterator[Picture | Sound]:
        offset_s = Fraction(0)
        frame_s = 1 / self.facts.video[0].frame_rate
        for part in parts(self._paths):
            end_s = offset_s
            with opened(part) as media, decoding(part[0]):
                tracks = tracks_of(media)
                media.streams.video[0].thread_type = "AUTO"
                place = {stream.index: number for number, stream in enumerate(tracks)}
                shift_s = offset_s - first_picture_s(media)
                for packet in media.demux(tracks):
                    for frame in packet.decode():
                        if not isinstance(frame, av.VideoFrame | av.AudioFrame):
                            continue
                        time_s = (frame.pts or 0) * Fraction(frame.time_base or 1) + shift_s
                        if isinstance(frame, av.VideoFrame):
                            end_s = max(end_s, time_s + frame_s)
                            yield Picture(frame, time_s)
                        else:
                            yield Sound(place[packet.stream_index] - 1, frame, time_s)
            offset_s = end_s


def _sound_units(path: Path, track: int) -> Iterator[Picture | Sound]:
    """The sound of a file that begins with the first picture."""
    with opened([path]) as media, decoding(path):
        stream = media.streams.audio[0]
        begin_s = (stream.start_time or 0) * Fraction(stream.time_base or 1)
        for frame in media.decode(stream):
            yield Sound(track, frame, (frame.pts or 0) * Fraction(frame.time_base or 1) - begin_s)
