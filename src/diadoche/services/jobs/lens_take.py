"""A take of lens files, opened with its rig: what a stitch, a calibration and a preview have in common."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from fractions import Fraction
from pathlib import Path
from typing import TYPE_CHECKING

from diadoche.core.convert.formats import PictureFormat
from diadoche.core.convert.transcode import Marks
from diadoche.core.errors import RequestError
from diadoche.core.identify.facts import Facts
from diadoche.core.identify.probe import identify
from diadoche.core.sphere.rig import Rig, rig_of
from diadoche.core.sphere.rotation import rotation
from diadoche.core.sphere.shape import USUAL_BAND_DEG, Layout, Level, Quality, SphereShape

if TYPE_CHECKING:
    from diadoche.core.sphere.shot import Shot
    from diadoche.core.sphere.source import StitchSource
    from diadoche.core.sphere.stitcher import Planes

# Sizes are proposed in steps that every recipe takes.
_STEP_PX = 16


@dataclass(frozen=True, slots=True)
class LensTake:
    """The files of a take, for each lens, or each file that holds several, its spans; and the rig it was taken with.

    `rig` is a name, the path of a file, or a rig's own text; `facts` are of the files, where they are known; `missing`
    are the pictures of the rig of which there is no file, from 1: what only they saw becomes a hole.
    """

    lenses: tuple[tuple[Path, ...], ...]
    rig: str
    facts: tuple[Facts, ...] = ()
    own_rigs: Path | None = None
    missing: tuple[int, ...] = ()

    @property
    def paths(self) -> tuple[Path, ...]:
        """All files."""
        return tuple(path for spans in self.lenses for path in spans)

    def load_rig(self) -> Rig:
        """The rig.

        Raises:
            RequestError: there is none, or it has a mistake.
        """
        rig = rig_of(self.rig, (self.own_rigs,) if self.own_rigs is not None else ())
        return rig.without([number - 1 for number in self.missing]) if self.missing else rig


@dataclass(frozen=True, slots=True)
class StitchSettings:
    """What a person chooses for a take. `size` of None: as large as the lenses justify."""

    quality: Quality = "best"
    layout: Layout = "mono"
    size: tuple[int, int] | None = None
    width_deg: Fraction = Fraction(360)
    band_deg: float = USUAL_BAND_DEG
    # Whether lenses are made equally bright by what they see in common.
    even_out: bool = True
    # How the whole is turned: what lay so many degrees to the right, above, and rolled clockwise comes upright into the
    # middle; 180 degrees of roll turn a camera over that hung.
    turn_deg: tuple[float, float, float] = (0.0, 0.0, 0.0)
    # Whether what no lens sees above and below is filled from around, and how much around the nadir, for a tripod.
    fill_poles: bool = False
    cover_deg: float = 0.0
    # Whether the horizon is made level by the motion track, before the whole is turned.
    level: Level = "no"
    # Whether a take of which a lens is missing is stitched all the same, with a hole.
    with_hole: bool = False


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


def opened(take: LensTake, settings: StitchSettings, *, measured: bool = False) -> StitchSource:
    """The take as a picture source, by its rig as it is: nothing aligned, evened out or turned yet.

    Raises:
        MediaError: a file cannot be read.
        RequestError: files, rig and settings do not fit together.
    """
    # OpenCV and SciPy take half a second to load: whoever stitches nothing does without.
    from diadoche.core.sphere.lens_files import lens_files
    from diadoche.core.sphere.source import Filling, StitchSource

    rig = take.load_rig()
    facts = take.facts or tuple(_facts(take.lenses))
    lenses = lens_files(take.lenses, facts, rig)
    first = PictureFormat.of(lenses[0].facts)
    size = settings.size
    if size is None:
        size = proposed_size(rig.for_size(first.width, first.height), settings.layout, settings.width_deg)
    shape = SphereShape(*size, settings.layout, settings.width_deg)
    filling = Filling(settings.fill_poles, settings.cover_deg) if settings.fill_poles or settings.cover_deg else None
    return StitchSource(lenses, rig, shape, band_deg=settings.band_deg, measured=measured, filling=filling)


@dataclass(frozen=True, slots=True)
class FinishedSource:
    """A source as it is to be stitched, and what was found out about its lenses."""

    source: StitchSource
    shot: Shot | None


def finished(
    source: StitchSource, settings: StitchSettings, frames: Sequence[Sequence[Planes]], marks: Marks | None
) -> FinishedSource:
    """The source with its lenses evened out, near things matched, and turned.

    Args:
        source: aligned as it is to be.
        settings: what was chosen.
        frames: planes of its lens pictures at some moments.
        marks: the part that is wanted.
    """
    from diadoche.core.sphere.near_matching import NearQuality

    if settings.even_out:
        source = source.evened(frames)
    shot = _shot(source, marks)
    near = shot.near_quality(settings.quality) if shot is not None else None
    if near is None and settings.quality != "quick":
        near = NearQuality()
    source = source.with_near(near)
    begins_s, ends_s = (
        (Fraction(0), Fraction(source.picture.pictures) / source.picture.rate)
        if marks is None
        else (Fraction(marks.first) / source.picture.rate, Fraction(marks.end) / source.picture.rate)
    )
    # Last of all: calibration and gains are the rig's own, however its result is turned.
    source = upright(source, settings, begins_s, ends_s)
    return FinishedSource(source, shot)


def upright(source: StitchSource, settings: StitchSettings, begins_s: Fraction, ends_s: Fraction) -> StitchSource:
    """The source with its result levelled and turned as it was chosen.

    Args:
        source: with everything else set.
        settings: what was chosen.
        begins_s, ends_s: the part of the take whose lean counts where it is levelled once.

    Raises:
        RequestError: it is to be levelled and has no motion track, or two eyes.
    """
    from diadoche.core.sphere.motion_track import level_matrix

    motion = None
    if settings.level != "no":
        motion = source.motion()
        if motion is None:
            raise RequestError(
                f"{source.provenance.originals[0].name} has no motion track that tells which way is down.",
                safe="Nothing was written.",
                do="Level it by hand: give its roll with the centre.",
            )
        if settings.layout != "mono":
            raise RequestError(
                "A picture for two eyes cannot be levelled: the eyes stand level in the rig, not in the world.",
                safe="Nothing was written.",
                do="Make one picture for both eyes, or leave it as it was filmed.",
            )
    if motion is not None and settings.level == "once":
        source = source.turned(level_matrix(motion.between(float(begins_s), float(ends_s)).usual))
    if any(settings.turn_deg):
        source = source.turned(rotation(*settings.turn_deg).T)
    return source.levelled(motion) if motion is not None and settings.level == "each picture" else source


def moments_of(picture: PictureFormat, marks: Marks | None, middle: Fraction | None = None) -> list[Fraction]:
    """Moments by which lenses are aligned: the middle of the part that is wanted, one before and one after it.

    Args:
        picture: of the take.
        marks: the part.
        middle: another moment that comes first, in seconds.
    """
    first, end = (marks.first, marks.end) if marks is not None else (0, picture.pictures)
    shares = (Fraction(1, 2), Fraction(1, 6), Fraction(5, 6))
    found = [Fraction(first + int((end - first) * share)) / picture.rate for share in shares]
    if middle is not None:
        found[0] = Fraction(round(middle * picture.rate)) / picture.rate
    return list(dict.fromkeys(found))


def _shot(source: StitchSource, marks: Marks | None) -> Shot | None:
    """What kind of shot it is, by its middle and a moment before; None where it is too short, or no lenses meet."""
    from diadoche.core.sphere.shot import STANDING_EVERY, shot_of

    rate, found = source.picture.rate, []
    # Somebody who walks to and fro may be at one place twice: one moment could take him for standing.
    for moment in moments_of(source.picture, marks)[:2]:
        times = [moment + later / rate for later in (0, 1, STANDING_EVERY)]
        seen = [[planes[0] for planes in pictures] for pictures in source.lens_planes(times)]
        if len(seen) == len(times):
            found.append(seen)
    return shot_of(source.rig, source.band_deg, found, source.picture.bit_depth)


def _facts(lenses: Sequence[Sequence[Path]]) -> list[Facts]:
    for spans in lenses:
        for path in spans:
            if not path.is_file():
                raise RequestError(f"There is no file at {path}.", path=path, do="Check the path, or put the card in.")
    return [identify(spans, "counted") for spans in lenses]
