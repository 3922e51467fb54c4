"""Lens files into one sphere: the use case behind `stitch`."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, replace
from fractions import Fraction
from pathlib import Path
from typing import TYPE_CHECKING

from diadoche.core.convert.formats import PictureFormat
from diadoche.core.convert.outputs import Output, failed
from diadoche.core.convert.recipes import Recipe
from diadoche.core.convert.transcode import Marks, convert
from diadoche.core.diskfiles import write_whole
from diadoche.core.errors import DiadocheError, Problem, RequestError, writing
from diadoche.core.identify.facts import Facts
from diadoche.core.identify.probe import identify
from diadoche.core.sphere.rig import Rig, rig_named, rig_text
from diadoche.core.sphere.rotation import rotation
from diadoche.core.sphere.seam_curve import SeamCurve
from diadoche.core.sphere.shape import USUAL_BAND_DEG, Layout, Quality, SphereShape
from diadoche.core.watch import Share, Watch
from diadoche.services.jobs.job_kind import JobKind

if TYPE_CHECKING:
    from diadoche.core.sphere.calibration import Calibration
    from diadoche.core.sphere.shot import Shot
    from diadoche.core.sphere.source import StitchSource

# Sizes are proposed in steps that every recipe takes.
_STEP_PX = 16


@dataclass(frozen=True, slots=True)
class StitchRequest:
    """One take, the rig it was taken with, and what is to come of it.

    `size` of None: as large as the lenses justify. `stem`: the output's name without its ending.
    """

    paths: tuple[Path, ...]
    rig: str
    recipe: Recipe
    folder: Path
    stem: str = ""
    size: tuple[int, int] | None = None
    layout: Layout = "mono"
    width_deg: Fraction = Fraction(360)
    marks: tuple[str, str] | None = None
    band_deg: float = USUAL_BAND_DEG
    own_rigs: Path | None = None
    # Aligns the lenses by what they see in common first; and where the rig is kept then.
    calibrate: bool = False
    save_rig: Path | None = None
    quality: Quality = "best"
    # Whether lenses are made equally bright by what they see in common.
    even_out: bool = True
    # How the whole is turned: what lay so many degrees to the right, above, and rolled clockwise comes upright into the
    # middle; 180 degrees of roll turn a camera over that hung.
    turn_deg: tuple[float, float, float] = (0.0, 0.0, 0.0)
    facts: tuple[Facts, ...] = ()


@dataclass(frozen=True, slots=True)
class StitchOutput:
    """An output, and how it was stitched."""

    output: Output
    rig: str
    size: tuple[int, int]
    layout: Layout
    # What the lenses are off by at the seams after calibrating, in pixels; None where nobody measured.
    residual_px: float | None = None
    # How many places that was found by, and what of each lens they do not tell, so that the rig's own values stand.
    matches: int = 0
    unknown: tuple[str, ...] = ()
    seam: SeamCurve | None = None
    # Red, green and blue of each lens in linear light; empty where they were left as they are.
    gains: tuple[tuple[float, ...], ...] = ()
    saved_rig: str = ""
    quality: Quality = "best"
    # What would be enough for this shot; nothing where no lenses meet.
    proposed_quality: str = ""

    def as_dict(self) -> dict[str, object]:
        """As the command line's JSON has it; what was not measured is null."""
        return {
            "output": self.output.output,
            "frames": self.output.frames_out,
            "rig": self.rig,
            "size": f"{self.size[0]}x{self.size[1]}" if all(self.size) else "",
            "layout": self.layout,
            "quality": self.quality,
            "proposed_quality": self.proposed_quality,
            "residual_px": None if self.residual_px is None else round(self.residual_px, 3),
            "matches": self.matches,
            "unknown": list(self.unknown),
            "gains": [[round(gain, 4) for gain in lens] for lens in self.gains],
            "seam": self._seam(),
            "saved_rig": self.saved_rig,
            "seconds": round(self.output.seconds, 3),
            "checks": self.output.as_dict()["checks"],
            "problems": [problem.as_dict() for problem in self.output.problems],
        }

    def _seam(self) -> dict[str, object] | None:
        if self.seam is None:
            return None
        worst, median = self.seam.worst, self.seam.median_px
        return {
            "median": None if median is None else round(median, 2),
            "worst": None if worst is None else round(worst[1], 2),
            "worst_frame": None if worst is None else worst[0],
        }


def proposed_size(rig: Rig, layout: Layout, width_deg: Fraction = Fraction(360)) -> tuple[int, int]:
    """The size of a whole picture that has as many pixels a degree as the lenses at their middles.

    Args:
        rig: for the size of the lens pictures.
        layout: of the eyes.
        width_deg: how much of the sphere it spans from left to right.
    """
    wide = round(rig.width_px * float(width_deg / 360) / _STEP_PX) * _STEP_PX
    high = round(wide * 180 / float(width_deg) / 2) * 2
    return wide * (1 + (layout == "side-by-side")), high * (1 + (layout == "top-bottom"))


def perform_stitch(request: StitchRequest, watch: Watch) -> StitchOutput:
    """Stitches, encodes and checks one take. What goes wrong with the footage is a problem in it.

    Raises:
        RequestError: files, rig, recipe and size do not fit together.
        Cancelled: nothing is left behind.
    """
    rig = rig_named(request.rig, (request.own_rigs,) if request.own_rigs is not None else ())
    try:
        take = _prepared(request, rig, Share(watch, 0, 0.1) if request.calibrate else watch)
        encoding = Share(watch, 0.1, 1) if request.calibrate else watch
        source = take.source
        made = convert(source, request.recipe, request.folder, encoding, marks=take.marks, stem=request.stem)
    except RequestError:
        raise
    except DiadocheError as error:
        sources = tuple(str(path) for path in request.paths)
        return StitchOutput(failed(sources, request.recipe.name, error.problem), rig.name, (0, 0), request.layout)
    told = (*made.problems, *source.problems(), *_not_of_iso(request.recipe, made))
    stitched = StitchOutput(
        replace(made, problems=told),
        rig.name,
        (source.shape.width, source.shape.height),
        request.layout,
        seam=source.seam(*take.part) if made.output else None,
        gains=take.gains,
        quality=request.quality,
        proposed_quality="" if take.shot is None else take.shot.proposed,
    )
    if take.calibration is None:
        return stitched
    lenses = zip(rig.lenses, take.calibration.unknown, strict=True)
    return replace(
        stitched,
        residual_px=take.calibration.residual_px,
        matches=take.calibration.matches,
        unknown=tuple(f"{lens.name}: {what}" for lens, names in lenses for what in names),
        saved_rig=str(request.save_rig or ""),
    )


@dataclass(frozen=True, slots=True)
class _Take:
    """A take that is ready to be stitched, and what was found out about its lenses."""

    source: StitchSource
    marks: Marks | None
    calibration: Calibration | None
    gains: tuple[tuple[float, ...], ...]
    shot: Shot | None

    @property
    def part(self) -> tuple[int, ...]:
        """The pictures that are wanted; nothing where all are."""
        return (self.marks.first, self.marks.end) if self.marks is not None else ()


def _prepared(request: StitchRequest, rig: Rig, watch: Watch) -> _Take:
    # OpenCV and SciPy take half a second to load: whoever stitches nothing does without.
    from diadoche.core.sphere.calibration import calibrated
    from diadoche.core.sphere.exposure import matched_gains
    from diadoche.core.sphere.near_matching import NearQuality
    from diadoche.core.sphere.source import StitchSource, lens_files

    facts = request.facts or tuple(_facts(request.paths))
    lenses = lens_files(request.paths, facts, rig)
    first = PictureFormat.of(lenses[0].facts)
    size = request.size
    if size is None:
        size = proposed_size(rig.for_size(first.width, first.height), request.layout, request.width_deg)
    shape = SphereShape(*size, request.layout, request.width_deg)
    source = StitchSource(lenses, rig, shape, band_deg=request.band_deg, measured=True)
    marks = Marks.parse(*request.marks, source.picture) if request.marks else None
    frames = source.lens_planes(_moments(source.picture, marks))
    calibration = None
    if request.calibrate:
        calibration = calibrated(source.rig, [[planes[0] for planes in pictures] for pictures in frames], watch)
        source = source.with_rig(calibration.rig)
        if request.save_rig is not None:
            _save(calibration.rig, request.save_rig)
    gains = matched_gains(source.rig, frames, source.levels, source.shared) if request.even_out else None
    if gains is not None:
        source = source.with_gains(gains)
    shot = _shot(source, marks)
    near = shot.near_quality(request.quality) if shot is not None else None
    if near is None and request.quality != "quick":
        near = NearQuality()
    source = source.with_near(near)
    if any(request.turn_deg):
        # Last of all: calibration and gains are the rig's own, however its result is turned.
        source = source.turned(rotation(*request.turn_deg).T)
    told = () if gains is None else tuple(tuple(float(gain) for gain in lens) for lens in gains)
    return _Take(source, marks, calibration, told, shot)


def _shot(source: StitchSource, marks: Marks | None) -> Shot | None:
    """What kind of shot it is, by its middle and a moment before; None where it is too short, or no lenses meet."""
    from diadoche.core.sphere.shot import STANDING_EVERY, shot_of

    rate, found = source.picture.rate, []
    # Somebody who walks to and fro may be at one place twice: one moment could take him for standing.
    for moment in _moments(source.picture, marks)[:2]:
        times = [moment + later / rate for later in (0, 1, STANDING_EVERY)]
        seen = [[planes[0] for planes in pictures] for pictures in source.lens_planes(times)]
        if len(seen) == len(times):
            found.append(seen)
    return shot_of(source.rig, source.band_deg, found, source.picture.bit_depth)


def _moments(picture: PictureFormat, marks: Marks | None) -> list[Fraction]:
    """The middle of the part that is wanted first, and one before and after it."""
    first, end = (marks.first, marks.end) if marks is not None else (0, picture.pictures)
    shares = (Fraction(1, 2), Fraction(1, 6), Fraction(5, 6))
    return list(dict.fromkeys(Fraction(first + int((end - first) * share)) / picture.rate for share in shares))


def _save(rig: Rig, path: Path) -> None:
    with writing(path):
        write_whole(path, rig_text(rig).encode("utf-8"))


def _facts(paths: Sequence[Path]) -> list[Facts]:
    for path in paths:
        if not path.is_file():
            raise RequestError(f"There is no file at {path}.", path=path, do="Check the path, or put the card in.")
    return [identify([path], "counted") for path in paths]


def _not_of_iso(recipe: Recipe, made: Output) -> list[Problem]:
    if recipe.container.name in {"mov", "mp4"} or not made.output:
        return []
    return [
        Problem(
            f"{recipe.container.name.upper()} is written without the marks of a sphere: players show it flat.",
            made.output,
            "The pictures are right.",
            "Choose a recipe in MOV or MP4 where players must know.",
        )
    ]


KIND = JobKind("stitch", StitchRequest, StitchOutput, perform_stitch, rank=2, gentle=True)
