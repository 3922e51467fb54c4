"""Frames for eyes: any picture of a clip, shown right, at the size of the view.

Interlaced pictures are shown one field at a time, each filled to full height from its own lines
only, so that nothing combs and motion has its true rate. Positions are counted in moments: pictures,
or fields of interlaced clips.
"""

from __future__ import annotations

from collections import OrderedDict
from collections.abc import Callable, Iterator, Sequence
from dataclasses import dataclass
from fractions import Fraction
from pathlib import Path
from typing import Literal, Protocol

import av
from av.index import IndexEntries

from diadoche.core.boxes import movie_payload
from diadoche.core.codecnames import spoken_codec
from diadoche.core.errors import MediaError
from diadoche.core.footage.display import Rgb, as_rgb, field_of, seen_size, upright
from diadoche.core.footage.still import still_frame
from diadoche.core.identify.container import container_of, is_still
from diadoche.core.identify.facts import CombEvidence, Facts
from diadoche.core.identify.picture_order import avi_times
from diadoche.core.identify.tracks import count_pictures, picture_streams
from diadoche.core.media import decoding, opened, seek_to_key, tells_key_pictures
from diadoche.core.orientation import Orientation
from diadoche.core.sampletable import picture_table
from diadoche.core.spans import parts

_KEPT_BYTES = 96_000_000
_BACK_S = Fraction(1, 2)
# So far ahead, decoding on is quicker than going there, where no index tells from where decoding can begin.
_READ_ON = 30
# Pictures before the one that is wanted, kept for whoever steps back from it.
_BEHIND = 8
# By so many pictures a key picture is stored before it is shown, at most [H264, A.3.1, MaxDpbFrames].
_REORDERED = 16

# Whether the picture of a moment is to be made ready for the eye; asked when it has been decoded.
Wants = Callable[[int], bool]


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
    width, height = seen_size(video.width, video.height, video.pixel_aspect, video.rotation)
    return Shape(facts.pictures * fields, video.frame_rate * fields, fields, width, height)


class Pictures(Protocol):
    """Pictures of a clip for the eye, by their moments: what decodes a file, or stitches, or develops."""

    shape: Shape
    # What one of them takes, at most.
    picture_bytes: int
    # Asked between pictures; what was asked for ends there when it is true, however much is missing.
    stopped: Callable[[], bool]

    def close(self) -> None:
        """Closes what is open."""

    def at(self, moment: int) -> Rgb | None:
        """The picture of a moment, shape (height, width, 3); where none is there, the one that stands on till the next.

        None past the end, or before the first that decodes.

        Raises:
            MediaError: the file fails.
        """

    def ahead(self, moment: int, wants: Wants) -> Iterator[tuple[int, Rgb | None]]:
        """Moments one after another, each with its picture where that is wanted.

        Raises:
            MediaError: the file fails.
        """

    def before(self, last: int, count: int, wants: Wants) -> list[tuple[int, Rgb | None]]:
        """So many moments up to one, or as many of them as one part holds, each with its picture where that is wanted.

        Raises:
            MediaError: the file fails.
        """

    def hurry(self, late: bool) -> None:
        """Leaves out, while it is late, what nothing else is decoded from."""

    def leads_on(self, moment: int) -> bool:
        """Whether a moment ahead is reached sooner by going there than by decoding on."""


def _never() -> bool:
    return False


class FrameReader:
    """Reads pictures of one clip by their numbers; neighbours are kept, so that stepping back is quick."""

    def __init__(self, paths: Sequence[Path], facts: Facts, view: tuple[int, int]) -> None:
        """`view` is the size in pixels that pictures are fitted into; they are never enlarged."""
        self.shape = shape_of(facts)
        self._video = facts.video[0]
        scale = min(view[0] / self.shape.width, view[1] / self.shape.height, 1.0)
        self.width, self.height = max(2, round(self.shape.width * scale)), max(2, round(self.shape.height * scale))
        self.picture_bytes = self.width * self.height * 3
        self._parts = parts(paths)
        # With which picture each part begins, as far as that was asked for.
        self._begins = [0]
        self._lengths: dict[int, int] = {}
        self._number = 0
        self.stopped: Callable[[], bool] = _never
        self._part = self._opened(0)
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
        passed: tuple[int, av.VideoFrame] | None = None
        for number, frame in self._up_to(wanted):
            if number < wanted - _BEHIND:
                # Made ready only if it turns out to be the one that stands on.
                passed = number, frame
                continue
            if number > wanted and passed is not None and wanted not in self._kept:
                self._keep(*passed)
            self._keep(number, frame)
            went_by = went_by or number > wanted
        if moment in self._kept or not went_by:
            return self._kept.get(moment)
        before = max((each for each in self._kept if each < moment), default=None)
        return self._kept[before] if before is not None else None

    def ahead(self, moment: int, wants: Wants) -> Iterator[tuple[int, Rgb | None]]:
        """Moments one after another, each with its picture where that is wanted.

        Raises:
            MediaError: the file fails.
        """
        self._go_to_part(moment // self.shape.fields)
        # What was read ahead when it was stopped.
        while moment in self._kept and moment // self.shape.fields < self._begins[self._number] + self._part.next:
            yield moment, self._kept[moment] if wants(moment) else None
            moment += 1
        while True:
            begin = self._begins[self._number]
            for number, frame in self._part.from_on(max(0, moment // self.shape.fields - begin)):
                for field in range(self.shape.fields):
                    at = (begin + number) * self.shape.fields + field
                    if at >= moment:
                        yield at, self._remembered(at, frame, field) if wants(at) else None
            if self.stopped() or not self._go_to_next_part():
                return

    def before(self, last: int, count: int, wants: Wants) -> list[tuple[int, Rgb | None]]:
        """So many moments up to one, or as many of them as one part holds, each with its picture where that is wanted.

        Raises:
            MediaError: the file fails.
        """
        found: list[tuple[int, Rgb | None]] = []
        first = max(0, last - count + 1)
        picture = last // self.shape.fields
        self._go_to_part(picture)
        begin = self._begins[self._number]
        for number, frame in self._part.between(first // self.shape.fields - begin, picture - begin):
            for field in range(self.shape.fields):
                at = (begin + number) * self.shape.fields + field
                if first <= at <= last:
                    found.append((at, self._remembered(at, frame, field) if wants(at) else None))
        return found

    def hurry(self, late: bool) -> None:
        """Leaves out, while it is late, what nothing else is decoded from."""
        self._part.hurry(late)

    def leads_on(self, moment: int) -> bool:
        """Whether a moment ahead is reached sooner by going there than by decoding on."""
        return self._part.leads_on(moment // self.shape.fields - self._begins[self._number])

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
            if picture < self._begins[-1] + self._length_of_last():
                break
            self._begins.append(self._begins[-1] + self._length_of_last())
        self._open(max(place for place, begin in enumerate(self._begins) if begin <= max(0, picture)))

    def _go_to_next_part(self) -> bool:
        """Whether there is one."""
        if self._number + 1 == len(self._parts):
            return False
        if self._number + 1 == len(self._begins):
            self._begins.append(self._begins[-1] + self._length_of_last())
        self._open(self._number + 1)
        return True

    def _length_of_last(self) -> int:
        """How many pictures the last part has whose beginning is known; asked only where somebody looks behind it."""
        place = len(self._begins) - 1
        if place not in self._lengths:
            self._lengths[place] = part_length(self._parts[place])
        return self._lengths[place]

    def _open(self, number: int) -> None:
        if number != self._number:
            self._part.close()
            self._number, self._part = number, self._opened(number)

    def _opened(self, number: int) -> _PartReader:
        return _PartReader(self._parts[number], self._video.frame_rate, lambda: self.stopped())

    def _keep(self, picture: int, frame: av.VideoFrame) -> None:
        for field in range(self.shape.fields):
            self._remembered(picture * self.shape.fields + field, frame, field)

    def _remembered(self, moment: int, frame: av.VideoFrame, field: int) -> Rgb:
        picture = self._kept[moment] = self._seen(frame, field)
        room = max(8, _KEPT_BYTES // self.picture_bytes)
        while len(self._kept) > room:
            self._kept.popitem(last=False)
        return picture

    def _seen(self, frame: av.VideoFrame, field: int) -> Rgb:
        """A picture, or one of its two fields by their order in time, as it is shown."""
        if self.shape.fields == 2:
            frame = field_of(frame, (field + (self._video.field_order == "bottom")) % 2)
        turned = self._video.rotation in {90, 270}
        size = (self.height, self.width) if turned else (self.width, self.height)
        return upright(as_rgb(frame, *size), Orientation(self._video.rotation, self._video.mirrored))


class _PartReader:
    """Decodes one part of a clip, from anywhere in it."""

    def __init__(self, part: Sequence[Path], rate: Fraction, stopped: Callable[[], bool]) -> None:
        self._path = part[0]
        self._stopped = stopped
        self._rate = rate
        self._opening = opened(part)
        self._media = self._opening.__enter__()
        self._stream = picture_streams(self._media)[0]
        self._stream.thread_type = "AUTO"
        self._start_s = (self._stream.start_time or 0) * Fraction(self._stream.time_base or 1)
        self._frames: Iterator[av.VideoFrame] | None = None
        self._avi_times = avi_times(part)
        # The number of the picture that is decoded next.
        self.next = 0

    def close(self) -> None:
        """Closes the file."""
        self._opening.__exit__(None, None, None)

    def up_to(self, picture: int) -> Iterator[tuple[int, av.VideoFrame]]:
        """Pictures with their numbers, the last of them the one that is wanted, or the one after.

        Raises:
            MediaError: the file fails.
        """
        self.hurry(late=False)
        for number, frame in self.from_on(picture):
            yield number, frame
            if number >= picture:
                return

    def between(self, first: int, last: int) -> Iterator[tuple[int, av.VideoFrame]]:
        """Pictures with their numbers, from one of them, or from the first that decodes after it, up to another.

        Raises:
            MediaError: the file fails.
        """
        for number, frame in self.from_on(max(0, first)):
            if number > last:
                return
            if number >= first:
                yield number, frame
            if number == last:
                return

    def from_on(self, picture: int) -> Iterator[tuple[int, av.VideoFrame]]:
        """Pictures with their numbers, those also that must be decoded before one is, to the end of the part.

        Raises:
            MediaError: the file fails.
        """
        with decoding(self._path):
            if self._frames is None or picture < self.next or self.leads_on(picture):
                self._go_to(picture)
            assert self._frames is not None
            # Asked before the next one is taken: whoever goes on later finds it.
            while not self._stopped():
                frame = next(self._frames, None)
                if frame is None:
                    self._frames = None
                    return
                if frame.pts is None or frame.time_base is None:
                    continue
                number = round((frame.pts * Fraction(frame.time_base) - self._start_s) * self._rate)
                self.next = number + 1
                yield number, frame

    def hurry(self, late: bool) -> None:
        """Leaves out, while it is late, what nothing else is decoded from."""
        wanted: Literal["NONREF", "DEFAULT"] = "NONREF" if late else "DEFAULT"
        if self._stream.codec_context.skip_frame != wanted:
            self._stream.codec_context.skip_frame = wanted

    def leads_on(self, picture: int) -> bool:
        """Whether a picture ahead is reached sooner by going there than by decoding on."""
        if picture <= self.next:
            return False
        index, base = self._index(), self._stream.time_base
        if index is None or base is None:
            return picture > self.next + _READ_ON
        wanted = int((self._start_s + picture / self._rate) / base)
        place = index.search_timestamp(wanted)
        if place < 0:
            return False
        key = round((index[place].timestamp * base - self._start_s) * self._rate)
        return key > self.next + _REORDERED

    def _index(self) -> IndexEntries | None:
        """Where key pictures are, if the file tells."""
        index = self._stream.index_entries
        return index if len(index) and tells_key_pictures(self._media) else None

    def _go_to(self, picture: int) -> None:
        """Enters so far before a picture that it can be decoded."""
        base = self._stream.time_base or Fraction(1, 90_000)
        # Where pictures are stored in another order than they are shown in, those before a key picture may rest on the
        # one before that.
        reordered = self._stream.codec_context.has_b_frames or self._index() is None
        back_s = max(_BACK_S, 2 / self._rate) if reordered else 1 / self._rate
        # Before the start too: transport streams are entered a little after the place that is asked for.
        wanted_s = self._start_s + picture / self._rate - back_s
        seek_to_key(self._media, self._stream, int(wanted_s / base))
        self._frames = self._decoded()

    def _decoded(self) -> Iterator[av.VideoFrame]:
        """What decodes from here on, each picture with the time at which it is shown."""
        for packet in self._media.demux(self._stream):
            if self._avi_times is not None and packet.size:
                self._avi_times.correct(packet)
            yield from packet.decode()


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
        self.stopped: Callable[[], bool] = _never
        self.picture_bytes = view[0] * view[1] * 3
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

    def ahead(self, moment: int, wants: Wants) -> Iterator[tuple[int, Rgb | None]]:
        """Moments one after another, each with its picture where that is wanted; no other is read.

        Raises:
            MediaError: a picture does not decode.
        """
        for at in range(max(0, moment), len(self._paths)):
            yield at, self.at(at) if wants(at) else None

    def before(self, last: int, count: int, wants: Wants) -> list[tuple[int, Rgb | None]]:
        """So many moments up to one, or as many of them as one part holds, each with its picture where that is wanted.

        Raises:
            MediaError: a picture does not decode.
        """
        found: list[tuple[int, Rgb | None]] = []
        for at in range(max(0, last - count + 1), last + 1):
            if self.stopped():
                break
            found.append((at, self.at(at) if wants(at) else None))
        return found

    def hurry(self, late: bool) -> None:
        """Each picture stands by itself: those that are not wanted are never read."""

    def leads_on(self, moment: int) -> bool:
        """Never: what is passed over costs nothing."""
        return False

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
