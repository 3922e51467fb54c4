"""A stitch as a picture source: lens files in, one picture of the sphere out, in the same pass as any recipe."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from dataclasses import dataclass, replace
from fractions import Fraction
from typing import Any

import av
import numpy as np
from numpy.typing import NDArray

from diadoche.core.colortags import matrix_for
from diadoche.core.convert.formats import PictureFormat, SoundFormat
from diadoche.core.convert.kept_boxes import Kept, what_to_keep
from diadoche.core.convert.source_index import Instants, source_instants
from diadoche.core.convert.sources import Provenance
from diadoche.core.errors import MediaError, Problem, RequestError
from diadoche.core.run import Missing, Picture, Run, Sound, Unit
from diadoche.core.spatial import MAKER, v1_box, v2_boxes
from diadoche.core.sphere.ambisonics import is_first_order, turned
from diadoche.core.sphere.cover import Cap, open_poles
from diadoche.core.sphere.exposure import Correction, Levels, Shading, matched_gains, matched_shading
from diadoche.core.sphere.eye_pictures import EyePictures
from diadoche.core.sphere.lens_files import LensFiles
from diadoche.core.sphere.lens_planes import copied, in_planes, planar_name, planes_of
from diadoche.core.sphere.lens_reading import Follower, ahead
from diadoche.core.sphere.motion_track import MotionTrack, level_matrix, read_motion
from diadoche.core.sphere.near_matching import NearQuality
from diadoche.core.sphere.projection import Equirectangular
from diadoche.core.sphere.rig import Eye, Rig
from diadoche.core.sphere.seam import SeamMeasure
from diadoche.core.sphere.seam_curve import SeamCurve
from diadoche.core.sphere.shape import SHARED, USUAL_BAND_DEG, SphereShape
from diadoche.core.sphere.shifts import Shifts
from diadoche.core.sphere.stitcher import Planes
from diadoche.core.sphere.strips import Strip


@dataclass(frozen=True, slots=True)
class Filling:
    """What is filled from around: holes above and below that no lens sees, and so many degrees around the nadir.

    `down`: where the rig's nadir is in the result.
    """

    poles: bool = False
    below_deg: float = 0.0
    down: tuple[float, float, float] = (0.0, 1.0, 0.0)


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
        shading: Shading | None = None,
        filling: Filling | None = None,
        turn: NDArray[np.float64] | None = None,
        level: MotionTrack | None = None,
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
            shading: how lenses grow darker towards their rims, which is undone with the gains.
            filling: what is filled from around; None and nothing is.
            turn: by which the rig was turned against how it stood, so that ambisonic sound can be; see `turned`.
            level: by which each picture is levelled by itself; None and none is.

        Raises:
            RequestError: rig, files and shape do not fit together.
        """
        self._lenses = tuple(lenses)
        self.shape = shape
        first = PictureFormat.of(lenses[0].facts)
        _must_be_stitchable(lenses, first)
        _must_fit(rig, shape, first)
        if level is not None and (shape.layout != "mono" or filling is not None):
            raise RequestError(
                "Levelling picture by picture goes neither with two eyes nor with places that are filled: "
                "eyes stand level in the rig only, and such places would wander.",
                do="Level once for the whole take.",
            )
        self._rig = rig.for_size(first.width, first.height)
        self.band_deg, self._near = band_deg, near
        self.picture = replace(
            first,
            width=shape.width,
            height=shape.height,
            pixel_aspect=Fraction(1),
            rotation=0,
            mirrored=False,
            scan="progressive",
        )
        self.sounds = tuple(SoundFormat.of(track) for track in lenses[0].facts.audio)
        rate = first.rate if first.even else None
        self._runs = [Run(each.paths, rate, picture_track=each.track) for each in lenses]
        paths = dict.fromkeys(path for each in lenses for path in each.paths)
        facts = lenses[0].facts
        self.provenance = Provenance(tuple(paths), facts.start, facts.data)
        # Where a lens had no picture, by its place among the lenses: known when `units` was read.
        # Tracks of ambisonic sound that would have to be turned and were not; known when `units` was read.
        self._unturned: set[int] = set()
        self.lacking: dict[int, list[Fraction]] = {}
        self.ended_early: dict[int, Fraction] = {}
        self._gains, self._shading, self._filling, self._turn, self._level = gains, shading, filling, turn, level
        self._corrections = [] if gains is None else self._corrections_by(gains)
        self._measured = measured
        # Made with the first picture that is measured: rig, gains and turn are often set one after another.
        self._seam_measures: list[SeamMeasure] = []
        # By the number of the picture in the take.
        self._breaks_px: dict[int, float | None] = {}

    def _measure(self, pictures: Sequence[Planes], shifts: Sequence[Shifts | None], time_s: Fraction) -> None:
        """Of each eye; what is told of a picture is the larger."""
        if self._measured and not self._seam_measures:
            target = Equirectangular(*self.shape.eye_px, self.shape.bounds)
            self._seam_measures = [SeamMeasure(self._rig.for_eye(eye), target, self.band_deg) for eye in self.eyes]
        if any(each.has_seams for each in self._seam_measures):
            lumas = [planes[0] for planes in pictures]
            found = [each.picture(lumas, own) for each, own in zip(self._seam_measures, shifts, strict=True)]
            known = [value for value in found if value is not None]
            self._breaks_px[round(time_s * self.picture.rate)] = max(known, default=None)

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
        """The eyes that are in the result, left or upper first; those of a rig that hung have changed sides."""
        if self.shape.layout == "mono":
            return ("left",) if self._rig.is_stereo else ("",)
        return ("right", "left") if self._rig.is_upside_down else ("left", "right")

    def units(self, begin_s: Fraction = Fraction(0), end_s: Fraction | None = None) -> Iterator[Unit]:
        """Stitched pictures, what is missing in any lens, and the first file's sound.

        Raises:
            MediaError: a lens file cannot be read, or its pictures change.
        """
        self.lacking, self.ended_early = {}, {}
        self._breaks_px = {}
        half_s = 1 / self.picture.rate / 2
        turns = self._turn is not None or self._level is not None
        ambisonic = self._kept_of_first().ambisonic if turns else ()
        shapes: list[tuple[int, int, str] | None] = [None] * len(self._runs)
        last_s = Fraction(-1)
        with self._stitching() as stitching:
            others = [Follower(run, begin_s, end_s, half_s) for run in self._runs[1:]]
            try:
                for unit in ahead(self._runs[0].units(begin_s, end_s)):
                    if self.ended_early:
                        # What only some lenses saw is no sphere: it ends with the first that ends, and so does sound.
                        if isinstance(unit, Sound) and unit.time_s < min(self.ended_early.values()):
                            yield self._sound(unit, ambisonic)
                        continue
                    if not isinstance(unit, Picture):
                        yield self._sound(unit, ambisonic) if isinstance(unit, Sound) else unit
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
                    made, shifts = stitching.stitch(planes, self._view(unit.time_s))
                    made.pts, made.time_base = unit.frame.pts, unit.frame.time_base
                    self._measure(planes, shifts, unit.time_s)
                    damaged = unit.damaged or any(other is not None and other.damaged for other in found)
                    yield Picture(made, unit.time_s, damaged, unit.length_s)
                    # The last picture is not kept while the next one is made: large ones would fill the memory.
                    del made, unit, found, frames, planes, shifts
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
        return SHARED[self.picture.chroma]

    def _corrections_by(self, gains: NDArray[np.float64]) -> list[Correction]:
        made = [
            Correction(self._rig, number, each, self.levels, self.shared, self._shading)
            for number, each in enumerate(gains)
        ]
        return [each for each in made if each.needed]

    def _corrected(self, frames: Sequence[av.VideoFrame]) -> list[Planes]:
        """The planes of the lens pictures, those of each lens as bright as its neighbours'."""
        planar = [in_planes(frame, self._pixels) for frame in frames]
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
                found.append([copied(planes_of(frame)) for frame in planar])
        return found

    def stitched(
        self, pictures: Sequence[Planes], time_s: Fraction
    ) -> tuple[av.VideoFrame, float | None, tuple[Strip, ...]]:
        """One stitched picture of lens pictures that were read already, which are changed where gains are set.

        Args:
            pictures: planes as `lens_planes` gives them for a moment.
            time_s: of that moment.

        Returns:
            the picture, by how many of its pixels edges break, where that is measured and can be told, and the bands
            that two lenses both see, where near things are matched.
        """
        for each in self._corrections:
            each.apply(pictures[each.picture])
        with self._stitching() as stitching:
            made, shifts = stitching.stitch(pictures, self._view(time_s))
        self._measure(pictures, shifts, Fraction(0))
        return made, self._breaks_px.get(0), () if shifts[0] is None else shifts[0].strips

    def _view(self, time_s: Fraction) -> NDArray[np.float64] | None:
        """By what the view is turned in a picture; None where it stands."""
        if self._level is None:
            return None
        turn = np.eye(3) if self._turn is None else self._turn
        view: NDArray[np.float64] = turn @ level_matrix(self._level.at(float(time_s))) @ turn.T
        return view

    def with_rig(self, rig: Rig) -> StitchSource:
        """The same with a rig that is known better."""
        return self._changed(rig=rig)

    def turned(self, matrix: NDArray[np.float64]) -> StitchSource:
        """The same with its result turned: what was seen in a direction is seen in `matrix @` it."""
        filling = self._filling
        if filling is not None:
            x, y, z = (float(value) for value in matrix @ np.array(filling.down))
            filling = replace(filling, down=(x, y, z))
        turn = matrix if self._turn is None else matrix @ self._turn
        return self._changed(rig=self._rig.turned(matrix), filling=filling, turn=turn)

    def levelled(self, level: MotionTrack) -> StitchSource:
        """The same with each picture levelled by itself.

        Raises:
            RequestError: it has two eyes, or places that are filled.
        """
        return self._changed(level=level)

    def evened(self, frames: Sequence[Sequence[Planes]]) -> StitchSource:
        """The same with lenses made equally bright, from their axes to their rims, as far as that can be told.

        Args:
            frames: planes of the lens pictures at some moments.
        """
        gains = matched_gains(self._rig, frames, self.levels, self.shared)
        if gains is None:
            return self
        shading = matched_shading(self._rig, frames, self.levels, self.shared, gains)
        return self._changed(gains=gains, shading=shading)

    @property
    def gains(self) -> tuple[tuple[float, ...], ...]:
        """Of red, green and blue for each lens, in linear light; nothing where lenses are left as they are."""
        return () if self._gains is None else tuple(tuple(float(gain) for gain in lens) for lens in self._gains)

    @property
    def rim_light(self) -> float | None:
        """What share of the light the lenses are told to leave at their rims; None where that is not undone."""
        return None if self._shading is None else float(np.exp(self._shading.log(np.ones(1))[0]))

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
            "shading": self._shading,
            "filling": self._filling,
            "turn": self._turn,
            "level": self._level,
        }
        return StitchSource(self._lenses, **(own | changes))

    def _stitching(self) -> EyePictures:
        return EyePictures(
            self._rig,
            self.shape,
            self.picture,
            self.eyes,
            self.band_deg,
            self._near,
            self._caps(),
            moves=self._level is not None,
        )

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
        return planar_name(self.picture)

    def instants(self) -> Instants | None:
        """When its pictures are shown: the instants of the first lens as far as all lenses go."""
        rate = self.picture.rate
        found = [source_instants(each.paths, rate, track=each.track) for each in self._lenses]
        if found[0] is None or any(each is None for each in found):
            return None
        shortest = min(len(each) for each in found if each is not None)
        return found[0][:shortest]

    def motion(self) -> MotionTrack | None:
        """How the camera leaned, by the first file that tells it; None where none does.

        Raises:
            MediaError: a file cannot be read.
        """
        found = (read_motion(paths) for paths in dict.fromkeys(each.paths for each in self._lenses))
        return next((track for track in found if track is not None), None)

    def kept(self) -> Kept:
        """The first file's tracks, and a sphere of its own."""
        kept = self._kept_of_first()
        bounds, layout = self.shape.bounds, self.shape.layout
        return kept.with_sphere(v2_boxes(layout, bounds, MAKER), v1_box(layout, bounds, self.shape.eye_px, MAKER))

    def _kept_of_first(self) -> Kept:
        run = self._runs[0]
        begins_s = run.begins_s or [Fraction(0)] * len(run.parts)
        if self._lenses[0].facts.container in {"MP4", "MOV"} and all(len(part) == 1 for part in run.parts):
            return what_to_keep(run.paths, begins_s)
        return Kept(lost=tuple(each for each in self.provenance.data if each != "timecode"))

    def _sound(self, unit: Sound, ambisonic: Sequence[bytes]) -> Sound:
        """Sound that stands for directions turns with the picture; other sound is for the ears."""
        box = ambisonic[unit.track] if unit.track < len(ambisonic) else b""
        if not box:
            return unit
        if not is_first_order(box):
            self._unturned.add(unit.track)
            return unit
        ends_s = unit.time_s + Fraction(unit.frame.samples, unit.frame.sample_rate)
        turn = np.eye(3) if self._turn is None else self._turn
        if self._level is None:
            return replace(unit, frame=turned(unit.frame, turn))
        begins, ends = (turn @ level_matrix(self._level.at(float(time_s))) for time_s in (unit.time_s, ends_s))
        return replace(unit, frame=turned(unit.frame, begins, ends))

    def problems(self) -> list[Problem]:
        """What was wrong with the lenses; known when `units` was read."""
        found = [
            Problem(
                f"The ambisonic sound of {self._lenses[0].name} is of a kind that is not turned here: the picture is.",
                str(self._lenses[0].paths[0]),
                "The sound is as it was recorded.",
                "Turn it where sound is edited, or stitch the picture as it was filmed.",
            )
            for _track in sorted(self._unturned)
        ]
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


def _first_picture(units: Iterator[Unit], from_s: Fraction) -> av.VideoFrame | None:
    for unit in units:
        if isinstance(unit, Picture) and unit.time_s >= from_s:
            return unit.frame
    return None


def _must_be_stitchable(lenses: Sequence[LensFiles], first: PictureFormat) -> None:
    if first.chroma not in SHARED or first.has_alpha or not 8 <= first.bit_depth <= 16:
        raise RequestError(
            f"Pictures in {first.chroma} cannot be stitched as they are.", do="Convert the lens files first."
        )
    if first.interlaced:
        raise RequestError(
            f"{lenses[0].name} is interlaced: a stitch needs whole pictures.", do="Convert the lens files first."
        )
    for each in lenses[1:]:
        _must_be_like(lenses[0], each)


def _must_fit(rig: Rig, shape: SphereShape, first: PictureFormat) -> None:
    if shape.layout != "mono" and not rig.has_two_eyes:
        raise RequestError(
            f"The rig {rig.name} has one eye: it gives no {shape.layout} picture.", do="Choose the layout mono."
        )
    if wrong := shape.mistake(SHARED[first.chroma]):
        raise RequestError(f"That cannot be made: {wrong}.", do="Choose another size or layout.")


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
