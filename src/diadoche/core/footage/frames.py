"""Frames for eyes: any picture of a clip, shown right, at the size of the view.

Interlaced pictures are shown one field at a time, each filled to full height from its own lines
only, so that nothing combs and motion has its true rate. Positions are counted in moments: pictures,
or fields of interlaced clips.
"""

from __future__ import annotations

from collections import OrderedDict
from collections.abc import Iterator, Sequence
from dataclasses import dataclass
from fractions import Fraction
from pathlib import Path

import av

from diadoche.core.boxes import movie_payload
from diadoche.core.codecnames import spoken_codec
from diadoche.core.errors import MediaError
from diadoche.core.footage.display import Rgb, as_rgb, field_of, seen_size, upright
from diadoche.core.footage.still import still_frame
from diadoche.core.identify.container import container_of, is_still
from diadoche.core.identify.facts import CombEvidence, Facts
from diadoche.core.identify.tracks import count_pictures, picture_streams
from diadoche.core.media import decoding, opened, seek_to_key
from diadoche.core.sampletable import picture_table
from diadoche.core.spans import parts

_KEPT_BYTES = 96_000_000
_BACK_S = Fraction(1, 2)
# So far ahead, decoding on is quicker than going there.
_READ_ON = 30


@dataclass(frozen=True, slots=True)
class Shape:
    """How a clip is counted and shown."""

    moments: int
    moments_a_second: Fraction
    fields: int
    width: int
    height: int


def shape_of(facts: Facts) -> Shape:
    """The shape of a clip by its facts: width and height with square pixels and the rotation applied."""
    video = facts.video[0]
    fields = 2 if video.interlaced else 1
    frames = facts.frames or max(1, round(facts.duration_s * float(video.frame_rate)))
    width, height = seen_size(video.width, video.height, video.pixel_aspect, video.rotation)
    return Shape(frames * fields, video.frame_rate * fields, fields, width, height)


class FrameReader:
    """Reads pictures of one clip by their numbers; neighbours are kept, so that stepping back is quick."""

    def __init__(self, paths: Sequence[Path], facts: Facts, view: tuple[int, int]) -> None:
        """`view` is the size in pixels that pictures are fitted into; they are never enlarged."""
        self.shape = shape_of(facts)
        self._video = facts.video[0]
        scale = min(view[0] / self.shape.width, view[1] / self.shape.height, 1.0)
        self.width, self.height = max(2, round(self.shape.width * scale)), max(2, round(self.shape.height * scale))
        self._parts = parts(paths)
        # With which picture each part begins, as far as that was asked for.
        self._begins = [0]
        self._number = 0
        self._part = _PartReader(self._parts[0], self._video.frame_rate)
        self._kept: OrderedDict[int, Rgb] = OrderedDict()

    def close(self) -> None:
        """Closes the file."""
        self._part.close()

    def at(self, moment: int) -> Rgb | None:
        """The picture of a moment, shape (height, width, 3); where none is there, the one that stands on till the next.

        None past the end, or before the first that decodes.

        Raises:
            MediaError: the file fails.
        """
        if moment in self._kept:
            self._kept.move_to_end(moment)
            return self._kept[moment]
        wanted, went_by = moment // self.shape.fields, False
        for number, frame in self._up_to(wanted):
            self._keep(number, frame)
            went_by = went_by or number > wanted
        if moment in self._kept or not went_by:
            return self._kept.get(moment)
        before = max((each for each in self._kept if each < moment), default=None)
        return self._kept[before] if before is not None else None

    def combing(self, evidence: CombEvidence, times: int) -> Rgb | None:
        """The place where the fields were seen to differ, woven as the file holds it, each pixel `times` as large.

        Shape (side * times, side * times, 3); None where that picture does not decode.

        Raises:
            MediaError: the file fails.
        """
        wanted = round(Fraction(evidence.time_s) * self._video.frame_rate)
        for number, frame in self._up_to(wanted):
            if number < wanted:
                continue
            side, left, top = evidence.side_px, evidence.left_px, evidence.top_px
            whole = as_rgb(frame, frame.width, frame.height)
            return whole[top : top + side, left : left + side].repeat(times, axis=0).repeat(times, axis=1)
        return None

    def _up_to(self, picture: int) -> Iterator[tuple[int, av.VideoFrame]]:
        """Decodes up to a picture, within its part."""
        self._go_to_part(picture)
        begin = self._begins[self._number]
        for number, frame in self._part.up_to(picture - begin):
            yield begin + number, frame

    def _go_to_part(self, picture: int) -> None:
        while len(self._begins) < len(self._parts) and picture >= self._begins[-1]:
            # How many pictures a part has is only asked where somebody looks behind it.
            length = part_length(self._parts[len(self._begins) - 1])
            if picture < self._begins[-1] + length:
                break
            self._begins.append(self._begins[-1] + length)
        number = max(place for place, begin in enumerate(self._begins) if begin <= max(0, picture))
        if number != self._number:
            self._part.close()
            self._number, self._part = number, _PartReader(self._parts[number], self._video.frame_rate)

    def _keep(self, picture: int, frame: av.VideoFrame) -> None:
        for field in range(self.shape.fields):
            first = 0 if self._video.field_order != "bottom" else 1
            shown = field_of(frame, (first + field) % 2) if self.shape.fields == 2 else frame
            self._kept[picture * self.shape.fields + field] = self._fitted(shown)
        room = max(8, _KEPT_BYTES // (self.width * self.height * 3))
        while len(self._kept) > room:
            self._kept.popitem(last=False)

    def _fitted(self, frame: av.VideoFrame) -> Rgb:
        turned = self._video.rotation in {90, 270}
        size = (self.height, self.width) if turned else (self.width, self.height)
        return upright(as_rgb(frame, *size), self._video.rotation)


class _PartReader:
    """Decodes one part of a clip, from anywhere in it."""

    def __init__(self, part: Sequence[Path], rate: Fraction) -> None:
        self._path = part[0]
        self._rate = rate
        self._opening = opened(part)
        self._media = self._opening.__enter__()
        self._stream = picture_streams(self._media)[0]
        self._stream.thread_type = "AUTO"
        self._start_s = (self._stream.start_time or 0) * Fraction(self._stream.time_base or 1)
        self._frames: Iterator[av.VideoFrame] | None = None
        self._next = 0

    def close(self) -> None:
        """Closes the file."""
        self._opening.__exit__(None, None, None)

    def up_to(self, picture: int) -> Iterator[tuple[int, av.VideoFrame]]:
        """Pictures with their numbers, the last of them the one that is wanted, or the one after.

        Raises:
            MediaError: the file fails.
        """
        with decoding(self._path):
            if self._frames is None or not self._next <= picture <= self._next + _READ_ON:
                self._go_to(picture)
            assert self._frames is not None
            for frame in self._frames:
                if frame.pts is None or frame.time_base is None:
                    continue
                number = round((frame.pts * Fraction(frame.time_base) - self._start_s) * self._rate)
                self._next = number + 1
                yield number, frame
                if number >= picture:
                    return
            self._frames = None

    def _go_to(self, picture: int) -> None:
        base = self._stream.time_base or Fraction(1, 90_000)
        # Before the start too: transport streams are entered a little after the place that is asked for.
        wanted_s = self._start_s + picture / self._rate - _BACK_S
        seek_to_key(self._media, self._stream, int(wanted_s / base))
        self._frames = self._media.decode(self._stream)


def part_length(part: Sequence[Path]) -> int:
    """How many pictures a part shows, by its table, or else by its packets."""
    movie = movie_payload(part[0]) if len(part) == 1 and container_of(part[0]) in {"MP4", "MOV"} else None
    with opened(part) as media, decoding(part[0]):
        return count_pictures(media, picture_streams(media)[0], picture_table(movie) if movie else None).pictures


class SequenceReader:
    """Reads a picture a frame: numbered stills, or the DNGs of a recording."""

    def __init__(self, paths: Sequence[Path], facts: Facts, view: tuple[int, int]) -> None:
        """`view` is the size in pixels that pictures are fitted into; they are never enlarged."""
        self.shape = shape_of(facts)
        self._paths = tuple(paths)
        self._view = view
        self._kept: OrderedDict[int, Rgb] = OrderedDict()

    def close(self) -> None:
        """Nothing is kept open."""
        self._kept.clear()

    def at(self, moment: int) -> Rgb | None:
        """The picture of a moment, shape (height, width, 3); None past the end.

        Raises:
            MediaError: that picture does not decode.
        """
        if moment in self._kept:
            return self._kept[moment]
        if not 0 <= moment < len(self._paths):
            return None
        frame = still_frame(self._paths[moment])
        scale = min(self._view[0] / frame.width, self._view[1] / frame.height, 1.0)
        size = max(2, round(frame.width * scale)), max(2, round(frame.height * scale))
        picture = as_rgb(frame, *size)
        self._kept[moment] = picture
        while len(self._kept) > max(8, _KEPT_BYTES // picture.nbytes):
            self._kept.popitem(last=False)
        return picture

    def combing(self, evidence: CombEvidence, times: int) -> Rgb | None:
        """Single pictures have no fields."""
        return None


def reader_for(paths: Sequence[Path], facts: Facts, view: tuple[int, int]) -> FrameReader | SequenceReader:
    """The reader that fits what a clip consists of.

    Raises:
        MediaError: it cannot be opened, or nothing here decodes its picture.
    """
    if facts.container == "R3D" or not facts.video[0].decodable:
        raise MediaError(
            f"Its picture is in {spoken_codec(facts.video[0].codec)}, which nothing installed can decode.",
            path=paths[0],
            safe="It is kept like every other clip.",
            do="Open it with a program that knows it.",
        )
    if is_still(facts.container):
        return SequenceReader(paths, facts, view)
    return FrameReader(paths, facts, view)
