"""A stitch as a picture source: lens files in, one picture of the sphere out, in the same pass as any recipe."""

from __future__ import annotations

import queue
import threading
from collections.abc import Iterator, Sequence
from dataclasses import dataclass, replace
from fractions import Fraction
from pathlib import Path
from typing import Any, Generic, TypeVar

import av
import numpy as np
from numpy.typing import NDArray

from diadoche.core.colortags import matrix_for
from diadoche.core.convert.formats import PictureFormat, SoundFormat
from diadoche.core.convert.kept_boxes import Kept, what_to_keep
from diadoche.core.convert.source_index import Instants, source_instants
from diadoche.core.convert.sources import Provenance
from diadoche.core.errors import MediaError, Problem, RequestError
from diadoche.core.identify.facts import Facts
from diadoche.core.names import shown
from diadoche.core.run import Missing, Picture, Run, Sound, Unit
from diadoche.core.sizes import count_text
from diadoche.core.spatial import MAKER, v1_box, v2_boxes
from diadoche.core.sphere.cover import Cap, Cover, open_poles
from diadoche.core.sphere.exposure import Correction, Levels
from diadoche.core.sphere.near_matching import NearMatching, NearQuality
from diadoche.core.sphere.projection import Equirectangular
from diadoche.core.sphere.rig import Eye, Rig
from diadoche.core.sphere.seam import SeamMeasure
from diadoche.core.sphere.seam_curve import SeamCurve
from diadoche.core.sphere.shape import USUAL_BAND_DEG, SphereShape
from diadoche.core.sphere.shifts import Shifts
from diadoche.core.sphere.stitch_map import LUMA, chroma_sampling
from diadoche.core.sphere.stitcher import Plane, Planes, Stitcher
from diadoche.core.sphere.strips import Strip

T = TypeVar("T")
# Pictures that a lens may be ahead of the stitch: enough to keep its decoder at work, few enough for large ones.
_AHEAD = 3
_ENDING_S = 5.0
_SHARED = {"4:2:0": (2, 2), "4:2:2": (2, 1), "4:4:4": (1, 1)}
_PLANAR = {"4:2:0": "yuv420p", "4:2:2": "yuv422p", "4:4:4": "yuv444p"}


@dataclass(frozen=True, slots=True)
class Filling:
    """What is filled from around: holes above and below that no lens sees, and so many degrees around the nadir.

    `down`: where the rig's nadir is in the result.
    """

    poles: bool = False
    below_deg: float = 0.0
    down: tuple[float, float, float] = (0.0, 1.0, 0.0)


@dataclass(frozen=True, slots=True)
class LensFiles:
    """The spans that hold a lens's picture, or that of several lenses, and in which of their picture tracks."""

    paths: tuple[Path, ...]
    facts: Facts
    track: int = 0

    @property
    def name(self) -> str:
        """For people."""
        return shown(self.paths[0].name) + (f", track {self.track + 1}" if self.track else "")


class StitchSource:
    """Lens pictures, stitched. The sound, the timecode and what lies beside the picture are the first file's."""

    def __init__(
        self,
        lenses: Sequence[LensFiles],
        rig: Rig,
        shape: SphereShape,
        *,
        band_deg: float = USUAL_BAND_DEG,
        measured: bool = False,
        near: NearQuality | None = None,
        gains: NDArray[np.float64] | None = None,
        filling: Filling | None = None,
    ) -> None:
        """
        Args:
            lenses: in the order of the rig's pictures.
            rig: which lenses these are, for pictures of any size of its shape.
            shape: of the result.
            band_deg: how wide the seams are.
            measured: whether it is measured, picture by picture, how well the seams fit.
            near: how what is near is matched between lenses; None and it is not.
            gains: of red, green and blue for each lens, in linear light; see `exposure`.
            filling: what is filled from around; None and nothing is.

        Raises:
            RequestError: rig, files and shape do not fit together.
        """
        self._lenses = tuple(lenses)
        self.shape = shape
        first = PictureFormat.of(lenses[0].facts)
        if first.chroma not in _SHARED or first.has_alpha or not 8 <= first.bit_depth <= 16:
            raise RequestError(
                f"Pictures in {first.chroma} cannot be stitched as they are.", do="Convert the lens files first."
            )
        if first.interlaced:
            raise RequestError(
                f"{lenses[0].name} is interlaced: a stitch needs whole pictures.", do="Convert the lens files first."
            )
        for each in lenses[1:]:
            _must_be_like(lenses[0], each)
        if shape.layout != "mono" and not rig.has_two_eyes:
            raise RequestError(
                f"The rig {rig.name} has one eye: it gives no {shape.layout} picture.", do="Choose the layout mono."
            )
        if wrong := shape.mistake(_SHARED[first.chroma]):
            raise RequestError(f"That cannot be made: {wrong}.", do="Choose another size or layout.")
        self._rig = rig.for_size(first.width, first.height)
        self.band_deg, self._near = band_deg, near
        self.picture = replace(
            first, width=shape.width, height=shape.height, pixel_aspect=Fraction(1), rotation=0, scan="progressive"
        )
        self.sounds = tuple(SoundFormat.of(track) for track in lenses[0].facts.audio)
        rate = first.rate if first.even else None
        self._runs = [Run(each.paths, rate, picture_track=each.track) for each in lenses]
        paths = dict.fromkeys(path for each in lenses for path in each.paths)
        facts = lenses[0].facts
        self.provenance = Provenance(tuple(paths), facts.start, facts.data)
        # Where a lens had no picture, by its place among the lenses: known when `units` was read.
        self.lacking: dict[int, list[Fraction]] = {}
        self.ended_early: dict[int, Fraction] = {}
        self._gains, self._filling = gains, filling
        self._corrections = [] if gains is None else self._corrections_by(gains)
        self._measured = measured
        # Made with the first picture that is measured: rig, gains and turn are often set one after another.
        self._seam_measure: SeamMeasure | None = None
        # By the number of the picture in the take.
        self._breaks_px: dict[int, float | None] = {}

    def _measure(self, pictures: Sequence[Planes], shifts: Shifts | None, time_s: Fraction) -> None:
        if self._measured and self._seam_measure is None:
            # Of the eye that comes first.
            eye, target = self._rig.for_eye(self.eyes[0]), Equirectangular(*self.shape.eye_px, self.shape.bounds)
            self._seam_measure = SeamMeasure(eye, target, self.band_deg)
        if self._seam_measure is not None and self._seam_measure.has_seams:
            lumas = [planes[0] for planes in pictures]
            self._breaks_px[round(time_s * self.picture.rate)] = self._seam_measure.picture(lumas, shifts)

    def seam(self, first: int = 0, end: int | None = None) -> SeamCurve | None:
        """How well the seams fit, picture by picture, as far as `units` was read; None where nobody measured.

        Args:
            first, end: the part of the take that is meant, in pictures.
        """
        if not self._breaks_px:
            return None
        end = max(self._breaks_px) + 1 if end is None else end
        return SeamCurve(tuple(self._breaks_px.get(number) for number in range(first, end)))

    @property
    def eyes(self) -> tuple[Eye, ...]:
        """The eyes that are in the result."""
        if self.shape.layout == "mono":
            return ("left",) if self._rig.is_stereo else ("",)
        return ("left", "right")

    def units(self, begin_s: Fraction = Fraction(0), end_s: Fraction | None = None) -> Iterator[Unit]:
        """Stitched pictures, what is missing in any lens, and the first file's sound.

        Raises:
            MediaError: a lens file cannot be read, or its pictures change.
        """
        self.lacking, self.ended_early = {}, {}
        self._breaks_px = {}
        half_s = 1 / self.picture.rate / 2
        shapes: list[tuple[int, int, str] | None] = [None] * len(self._runs)
        last_s = Fraction(-1)
        with _Eyes(
            self._rig, self.shape, self.picture, self.eyes, self.band_deg, self._near, self._caps()
        ) as stitching:
            others = [_Follower(run, begin_s, end_s, half_s) for run in self._runs[1:]]
            try:
                for unit in _ahead(self._runs[0].units(begin_s, end_s)):
                    if self.ended_early:
                        # What only some lenses saw is no sphere: it ends with the first that ends, and so does sound.
                        if isinstance(unit, Sound) and unit.time_s < min(self.ended_early.values()):
                            yield unit
                        continue
                    if not isinstance(unit, Picture):
                        yield unit
                        continue
                    found = [other.at(unit.time_s) for other in others]
                    frames = [unit.frame]
                    for number, other in enumerate(found, start=1):
                        if other is not None:
                            frames.append(other.frame)
                        elif others[number - 1].ended:
                            self.ended_early.setdefault(number, unit.time_s)
                        else:
                            self.lacking.setdefault(number, []).append(unit.time_s)
                    if self.ended_early:
                        continue
                    if len(frames) < len(self._runs):
                        yield Missing(unit.time_s)
                        continue
                    self._must_be_as_before(frames, shapes, unit.time_s)
                    last_s = unit.time_s
                    planes = self._corrected(frames)
                    made, shifts = stitching.stitch(planes)
                    made.pts, made.time_base = unit.frame.pts, unit.frame.time_base
                    self._measure(planes, shifts, unit.time_s)
                    damaged = unit.damaged or any(other is not None and other.damaged for other in found)
                    yield Picture(made, unit.time_s, damaged, unit.length_s)
                if end_s is None and not self.ended_early and any(each.goes_on_after(last_s) for each in others):
                    self.ended_early[0] = last_s + 1 / self.picture.rate
            finally:
                for each in others:
                    each.close()

    def _must_be_as_before(
        self, frames: Sequence[av.VideoFrame], shapes: list[tuple[int, int, str] | None], time_s: Fraction
    ) -> None:
        """Maps are made for pictures of one size: of another one they would show something else than was filmed.

        Raises:
            MediaError: a lens's pictures change.
        """
        for number, frame in enumerate(frames):
            shape = (frame.width, frame.height, frame.format.name)
            before = shapes[number] or (*self._rig.picture_px, shape[2])
            if shape != before:
                raise MediaError(
                    f"{self._lenses[number].name} changes from {before[0]}×{before[1]} {before[2]} to "
                    f"{shape[0]}×{shape[1]} {shape[2]} at {float(time_s):.2f} s.",
                    path=self._lenses[number].paths[0],
                    safe="The originals are untouched; nothing is scaled unasked, and no output was kept.",
                    do="Stitch the part before that by marks.",
                )
            shapes[number] = shape

    @property
    def levels(self) -> Levels:
        """How the code values of the lens pictures stand for colours."""
        color = self.picture.color
        matrix = matrix_for(color.matrix, color.primaries, self._rig.picture_px[1], rgb=False)
        return Levels(self.picture.bit_depth, color.range == "full", matrix)

    @property
    def shared(self) -> tuple[int, int]:
        """How many pixels across and down share a value of colour."""
        return _SHARED[self.picture.chroma]

    def _corrections_by(self, gains: NDArray[np.float64]) -> list[Correction]:
        made = [Correction(self._rig, number, each, self.levels, self.shared) for number, each in enumerate(gains)]
        return [each for each in made if each.needed]

    def _corrected(self, frames: Sequence[av.VideoFrame]) -> list[Planes]:
        """The planes of the lens pictures, those of each lens as bright as its neighbours'."""
        planar = [_in_planes(frame, self._pixels) for frame in frames]
        if self._corrections:
            # A decoder may still need what it gave.
            for frame in planar:
                frame.make_writable()
        planes = [planes_of(frame) for frame in planar]
        for each in self._corrections:
            each.apply(planes[each.picture])
        return planes

    def lens_planes(self, moments: Sequence[Fraction]) -> list[list[Planes]]:
        """The planes of every lens picture at some moments, those left out at which not all lenses have one.

        Args:
            moments: in seconds from the first picture.

        Raises:
            MediaError: a lens file cannot be read.
        """
        found = []
        for moment in moments:
            end_s = moment + 3 / self.picture.rate
            pictures = [_first_picture(run.units(moment, end_s), moment) for run in self._runs]
            planar = [frame.reformat(format=self._pixels) for frame in pictures if frame is not None]
            if len(planar) == len(self._runs):
                found.append([_copied(planes_of(frame)) for frame in planar])
        return found

    def stitched(self, pictures: Sequence[Planes]) -> tuple[av.VideoFrame, float | None, tuple[Strip, ...]]:
        """One stitched picture of lens pictures that were read already, which are changed where gains are set.

        Args:
            pictures: planes as `lens_planes` gives them for a moment.

        Returns:
            the picture, by how many of its pixels edges break, where that is measured and can be told, and the bands
            that two lenses both see, where near things are matched.
        """
        for each in self._corrections:
            each.apply(pictures[each.picture])
        with _Eyes(
            self._rig, self.shape, self.picture, self.eyes, self.band_deg, self._near, self._caps()
        ) as stitching:
            made, shifts = stitching.stitch(pictures)
        self._measure(pictures, shifts, Fraction(0))
        return made, self._breaks_px.get(0), () if shifts is None else shifts.strips

    def with_rig(self, rig: Rig) -> StitchSource:
        """The same with a rig that is known better."""
        return self._changed(rig=rig)

    def turned(self, matrix: NDArray[np.float64]) -> StitchSource:
        """The same with its result turned: what was seen in a direction is seen in `matrix @` it."""
        filling = self._filling
        if filling is not None:
            x, y, z = (float(value) for value in matrix @ np.array(filling.down))
            filling = replace(filling, down=(x, y, z))
        return self._changed(rig=self._rig.turned(matrix), filling=filling)

    def with_gains(self, gains: NDArray[np.float64]) -> StitchSource:
        """The same with lenses made equally bright."""
        return self._changed(gains=gains)

    def with_filling(self, filling: Filling | None) -> StitchSource:
        """The same with other places filled."""
        return self._changed(filling=filling)

    def with_near(self, near: NearQuality | None) -> StitchSource:
        """The same with what is near matched otherwise, or not at all."""
        return self._changed(near=near)

    def _changed(self, **changes: Any) -> StitchSource:
        own: dict[str, Any] = {
            "rig": self._rig,
            "shape": self.shape,
            "band_deg": self.band_deg,
            "measured": self._measured,
            "near": self._near,
            "gains": self._gains,
            "filling": self._filling,
        }
        return StitchSource(self._lenses, **(own | changes))

    def _stitching(self) -> _Eyes:
        return _Eyes(self._rig, self.shape, self.picture, self.eyes, self.band_deg, self._near, self._caps())

    def _caps(self) -> tuple[Cap, ...]:
        """The places that are filled."""
        if self._filling is None:
            return ()
        down = np.array(self._filling.down)
        caps = open_poles(self._rig, down) if self._filling.poles else []
        if self._filling.below_deg:
            caps.append(Cap(self._filling.down, self._filling.below_deg))
        return tuple(caps)

    @property
    def rig(self) -> Rig:
        """The rig, for pictures of this size."""
        return self._rig

    @property
    def _pixels(self) -> str:
        return _planar_name(self.picture)

    def instants(self) -> Instants | None:
        """When its pictures are shown: the instants of the first lens as far as all lenses go."""
        rate = self.picture.rate
        found = [source_instants(each.paths, rate, track=each.track) for each in self._lenses]
        if found[0] is None or any(each is None for each in found):
            return None
        shortest = min(len(each) for each in found if each is not None)
        return found[0][:shortest]

    def kept(self) -> Kept:
        """The first file's tracks, and a sphere of its own."""
        run = self._runs[0]
        begins_s = run.begins_s or [Fraction(0)] * len(run.parts)
        kept = Kept(lost=tuple(each for each in self.provenance.data if each != "timecode"))
        if self._lenses[0].facts.container in {"MP4", "MOV"} and all(len(part) == 1 for part in run.parts):
            kept = what_to_keep(run.paths, begins_s)
        bounds, layout = self.shape.bounds, self.shape.layout
        return kept.with_sphere(v2_boxes(layout, bounds, MAKER), v1_box(layout, bounds, self.shape.eye_px, MAKER))

    def problems(self) -> list[Problem]:
        """What was wrong with the lenses; known when `units` was read."""
        found = []
        for number, time_s in self.ended_early.items():
            found.append(
                Problem(
                    f"{self._lenses[number].name} ends at {float(time_s):.2f} s, before the others.",
                    str(self._lenses[number].paths[0]),
                    "Everything that all lenses saw is stitched; the originals are untouched.",
                    "Look for the rest of that lens's recording on its card.",
                )
            )
        for number, times in self.lacking.items():
            places = ", ".join(f"{float(time_s):.2f} s" for time_s in times[:3])
            found.append(
                Problem(
                    f"{self._lenses[number].name} lacks {len(times)} pictures, at {places}"
                    + (" and later." if len(times) > 3 else "."),
                    str(self._lenses[number].paths[0]),
                    "The originals are untouched.",
                    "Look at these moments before the take is used.",
                )
            )
        return found


def _planar_name(picture: PictureFormat) -> str:
    return _PLANAR[picture.chroma] + ("" if picture.bit_depth == 8 else f"{picture.bit_depth}le")


def _first_picture(units: Iterator[Unit], from_s: Fraction) -> av.VideoFrame | None:
    for unit in units:
        if isinstance(unit, Picture) and unit.time_s >= from_s:
            return unit.frame
    return None


def _must_be_like(first: LensFiles, other: LensFiles) -> None:
    one, two = PictureFormat.of(first.facts), PictureFormat.of(replace(other.facts, video=other.facts.video))
    for what, mine, theirs in (
        ("size", f"{one.width}×{one.height}", f"{two.width}×{two.height}"),
        ("rate", str(one.rate), str(two.rate)),
        ("samples", f"{one.chroma} at {one.bit_depth} bits", f"{two.chroma} at {two.bit_depth} bits"),
    ):
        if mine != theirs:
            raise RequestError(
                f"{other.name} has another {what} than {first.name}: {theirs}, not {mine}.",
                path=other.paths[0],
                safe="Nothing was written.",
                do="Make sure that these are the lenses of one take.",
            )


class _Eyes:
    """A stitcher for each eye, and the frames they write into."""

    def __init__(
        self,
        rig: Rig,
        shape: SphereShape,
        picture: PictureFormat,
        eyes: Sequence[Eye],
        band_deg: float,
        near: NearQuality | None,
        caps: Sequence[Cap] = (),
    ) -> None:
        self._shape = shape
        self._pixels = _planar_name(picture)
        wide, high = shape.eye_px
        target = Equirectangular(wide, high, shape.bounds)
        scale = 1 << picture.bit_depth - 8
        black = (0 if picture.color.range == "full" else 16 * scale, 128 * scale)
        self._stitchers = []
        for eye in eyes:
            own = rig.for_eye(eye)
            matching = None if near is None else NearMatching(own, band_deg, near)
            stitcher = Stitcher(own, target, _SHARED[picture.chroma], band_deg=band_deg, near=matching, black=black)
            self._stitchers.append(stitcher)
        samplings = (LUMA, *(chroma_sampling(*_SHARED[picture.chroma]),) * 2)
        self._covers = [[Cover(cap, target, sampling) for cap in caps] for sampling in samplings]

    def __enter__(self) -> _Eyes:
        return self

    def __exit__(self, *error: Any) -> None:
        for each in self._stitchers:
            each.close()

    def stitch(self, pictures: Sequence[Planes]) -> tuple[av.VideoFrame, Shifts | None]:
        """The stitched picture, and the shifts of the eye that comes first."""
        made = av.VideoFrame(self._shape.width, self._shape.height, self._pixels)
        into = planes_of(made)
        shifts = []
        for number, stitcher in enumerate(self._stitchers):
            own = self._part(into, number)
            shifts.append(stitcher.stitch(pictures, own))
            for plane, covers in zip(own, self._covers, strict=True):
                for cover in covers:
                    cover.fill(plane)
        return made, shifts[0]

    def _part(self, planes: Planes, number: int) -> Planes:
        if self._shape.layout == "mono":
            return planes
        parts = []
        for plane in planes:
            height, width = plane.shape
            if self._shape.layout == "top-bottom":
                parts.append(plane[number * height // 2 : (number + 1) * height // 2])
            else:
                parts.append(plane[:, number * width // 2 : (number + 1) * width // 2])
        return parts[0], parts[1], parts[2]


def _in_planes(frame: av.VideoFrame, pixels: str) -> av.VideoFrame:
    """The same samples in planes: packed and half-packed ones are laid out anew."""
    if frame.format.name in {pixels, pixels.replace("yuv4", "yuvj4")}:
        return frame
    return frame.reformat(format=pixels)


def _copied(planes: Planes) -> Planes:
    luma, blue, red = (plane.copy() for plane in planes)
    return luma, blue, red


def planes_of(frame: av.VideoFrame) -> Planes:
    """The three planes of a planar frame, as views that may be written to."""
    found: list[Plane] = []
    kind: type[np.uint8] | type[np.uint16] = np.uint8 if frame.format.components[0].bits == 8 else np.uint16
    size = np.dtype(kind).itemsize
    for plane in frame.planes:
        lines: NDArray[Any] = np.frombuffer(plane, kind).reshape(-1, plane.line_size // size)  # type: ignore[call-overload]  # a buffer
        found.append(lines[: plane.height, : plane.width])
    return found[0], found[1], found[2]


class _Ahead(Generic[T]):
    """An iterator that is read on a thread of its own, a few steps ahead."""

    def __init__(self, items: Iterator[T]) -> None:
        self._items = items
        self._queue: queue.Queue[T | BaseException | None] = queue.Queue(_AHEAD)
        self._stopped = threading.Event()
        self._thread = threading.Thread(target=self._read, name="lens", daemon=True)
        self._thread.start()

    def _read(self) -> None:
        last: BaseException | None = None
        try:
            for item in self._items:
                if not self._put(item):
                    return
        except BaseException as error:  # noqa: BLE001  # raised where the items are taken
            last = error
        self._put(last)

    def _put(self, item: T | BaseException | None) -> bool:
        while not self._stopped.is_set():
            try:
                self._queue.put(item, timeout=0.2)
            except queue.Full:
                continue
            return True
        return False

    def __iter__(self) -> Iterator[T]:
        while True:
            item = self._queue.get()
            if item is None:
                return
            if isinstance(item, BaseException):
                raise item
            yield item

    def close(self) -> None:
        """Ends the thread; what it had ready is thrown away. One that a disk owes an answer is left behind."""
        self._stopped.set()
        self._thread.join(_ENDING_S)


def _ahead(items: Iterator[T]) -> Iterator[T]:
    reading = _Ahead(items)
    try:
        yield from reading
    finally:
        reading.close()


class _Follower:
    """The pictures of one lens, asked for by the times of another."""

    def __init__(self, run: Run, begin_s: Fraction, end_s: Fraction | None, half_s: Fraction) -> None:
        self._reading: _Ahead[Picture | Missing] = _Ahead(
            unit for unit in run.units(begin_s, end_s) if isinstance(unit, Picture | Missing)
        )
        self._items = iter(self._reading)
        self._half_s = half_s
        self._next: Picture | Missing | None = None
        self.ended = False

    def at(self, time_s: Fraction) -> Picture | None:
        """The picture of that moment; None where there is none."""
        while not self.ended:
            if self._next is None:
                unit = next(self._items, None)
                if unit is None:
                    self.ended = True
                    return None
                self._next = unit
            if self._next.time_s > time_s + self._half_s:
                return None
            found, self._next = self._next, None
            if found.time_s >= time_s - self._half_s:
                return found if isinstance(found, Picture) else None
        return None

    def goes_on_after(self, time_s: Fraction) -> bool:
        """Whether there is a picture later than that of a moment."""
        return self.at(time_s + 2 * self._half_s) is not None

    def close(self) -> None:
        """Ends its thread."""
        self._reading.close()


def lens_files(lenses: Sequence[Sequence[Path]], facts: Sequence[Facts], rig: Rig) -> list[LensFiles]:
    """Files as the pictures of a rig: a file each, or the tracks of one; of each its spans.

    Raises:
        MediaError: a file holds no picture.
        RequestError: there are not as many pictures as the rig has.
    """
    found = []
    for spans, each in zip(lenses, facts, strict=True):
        if not each.video:
            name = shown(spans[0].name)
            raise MediaError(f"{name} holds no picture.", path=spans[0], safe="It is untouched.", do="Nothing.")
        tracks = len(each.video) if len(lenses) == 1 else 1
        for track in range(min(tracks, rig.pictures)):
            own = replace(each, video=each.video[track:]) if track else each
            found.append(LensFiles(tuple(spans), own, track))
    if len(found) != rig.pictures:
        raise RequestError(
            f"The rig {rig.name} takes {count_text(rig.pictures, 'picture')}, and {len(found)} were given.",
            do="Give a file for each of its pictures, in the order of the rig, or choose another rig.",
        )
    return found
