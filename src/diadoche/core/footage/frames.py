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
from typing import cast

import av
import numpy as np
from numpy.typing import NDArray

from diadoche.core.codecnames import spoken_codec
from diadoche.core.errors import MediaError
from diadoche.core.footage.still import still_frame
from diadoche.core.identify.container import is_still
from diadoche.core.identify.facts import CombEvidence, Facts
from diadoche.core.media import decoding, opened
from diadoche.core.spans import first_picture_s, parts

Rgb = NDArray[np.uint8]
_KEPT_BYTES = 96_000_000
_BACK_S = Fraction(1, 2)


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
    width, height = round(video.width * float(video.pixel_aspect)), video.height
    if video.rotation in {90, 270}:
        width, height = height, width
    return Shape(frames * fields, video.frame_rate * fields, fields, width, height)


class FrameReader:
    """Reads pictures of one clip by their numbers; neighbours are kept, so that stepping back is quick."""

    def __init__(self, paths: Sequence[Path], facts: Facts, view: tuple[int, int]) -> None:
        """`view` is the size in pixels that pictures are fitted into; they are never enlarged."""
        self.shape = shape_of(facts)
        self._video = facts.video[0]
        self._path = paths[0]
        scale = min(view[0] / self.shape.width, view[1] / self.shape.height, 1.0)
        self.width, self.height = max(2, round(self.shape.width * scale)), max(2, round(self.shape.height * scale))
        # A preview of parts with clocks of their own shows the first part; joining is the outputs' work.
        self._opening = opened(parts(paths)[0])
        self._media = self._opening.__enter__()
        self._stream = self._media.streams.video[0]
        self._stream.thread_type = "AUTO"
        self._start_s = first_picture_s(self._media)
        self._frames: Iterator[av.VideoFrame] | None = None
        self._next_picture = 0
        self._kept: OrderedDict[int, Rgb] = OrderedDict()

    def close(self) -> None:
        """Closes the file."""
        self._opening.__exit__(None, None, None)

    def at(self, moment: int) -> Rgb | None:
        """The picture of a moment, shape (height, width, 3); None past the end or where it does not decode.

        Raises:
            MediaError: the file fails.
        """
        if moment in self._kept:
            self._kept.move_to_end(moment)
            return self._kept[moment]
        picture = moment // self.shape.fields
        with decoding(self._path):
            if self._frames is None or not self._next_picture <= picture <= self._next_picture + 30:
                self._go_to(picture)
            for number, frame in self._decoded():
                self._keep(number, frame)
                if number >= picture:
                    break
        return self._kept.get(moment)

    def combing(self, evidence: CombEvidence, times: int) -> Rgb | None:
        """The place where the fields were seen to differ, woven as the file holds it, each pixel `times` as large.

        Shape (side * times, side * times, 3); None where that picture does not decode.

        Raises:
            MediaError: the file fails.
        """
        picture = round(Fraction(evidence.time_s) * self._video.frame_rate)
        with decoding(self._path):
            self._go_to(picture)
            for number, frame in self._decoded():
                if number < picture:
                    continue
                self._frames = None
                side, left, top = evidence.side_px, evidence.left_px, evidence.top_px
                whole = cast(Rgb, frame.reformat(format="rgb24").to_ndarray())
                return whole[top : top + side, left : left + side].repeat(times, axis=0).repeat(times, axis=1)
        return None

    def _go_to(self, picture: int) -> None:
        base = self._stream.time_base or Fraction(1, 90_000)
        # Before the start too: transport streams are entered a little after the place that is asked for.
        wanted_s = self._start_s + picture / self._video.frame_rate - _BACK_S
        self._media.seek(int(wanted_s / base), stream=self._stream, backward=True)
        self._frames = self._media.decode(self._stream)

    def _decoded(self) -> Iterator[tuple[int, av.VideoFrame]]:
        assert self._frames is not None
        for frame in self._frames:
            if frame.pts is None or frame.time_base is None:
                continue
            number = round((frame.pts * Fraction(frame.time_base) - self._start_s) * self._video.frame_rate)
            self._next_picture = number + 1
            yield number, frame
        self._frames = None

    def _keep(self, picture: int, frame: av.VideoFrame) -> None:
        for field in range(self.shape.fields):
            first = 0 if self._video.field_order != "bottom" else 1
            shown = _field(frame, (first + field) % 2) if self.shape.fields == 2 else frame
            self._kept[picture * self.shape.fields + field] = self._fitted(shown)
        room = max(8, _KEPT_BYTES // (self.width * self.height * 3))
        while len(self._kept) > room:
            self._kept.popitem(last=False)

    def _fitted(self, frame: av.VideoFrame) -> Rgb:
        turned = self._video.rotation in {90, 270}
        size = (self.height, self.width) if turned else (self.width, self.height)
        picture = cast(Rgb, frame.reformat(width=size[0], height=size[1], format="rgb24").to_ndarray())
        if self._video.rotation:
            picture = np.ascontiguousarray(np.rot90(picture, -self._video.rotation // 90))
        return picture


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
        picture = cast(Rgb, frame.reformat(width=size[0], height=size[1], format="rgb24").to_ndarray())
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


def _field(frame: av.VideoFrame, parity: int) -> av.VideoFrame:
    """One field as a picture of half the height."""
    field = av.VideoFrame(frame.width, frame.height // 2, frame.format.name)
    for source, target in zip(frame.planes, field.planes, strict=True):
        lines = np.frombuffer(source, np.uint8).reshape(-1, source.line_size)  # type: ignore[call-overload]  # a buffer
        into = np.frombuffer(target, np.uint8).reshape(-1, target.line_size)  # type: ignore[call-overload]  # a buffer
        wide = min(source.line_size, target.line_size)
        picked = lines[parity : target.height * 2 : 2, :wide]
        into[: picked.shape[0], :wide] = picked
    field.colorspace, field.color_range = frame.colorspace, frame.color_range
    return field
