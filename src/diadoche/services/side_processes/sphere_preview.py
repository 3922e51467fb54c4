"""A small stitched picture of any moment of a take, made in a process of its own, before anything is started."""

from __future__ import annotations

import base64
import time
from collections.abc import Callable, Sequence
from dataclasses import dataclass, replace
from fractions import Fraction
from types import TracebackType
from typing import TYPE_CHECKING, Any

import numpy as np

from diadoche.core.errors import DiadocheError
from diadoche.core.sphere.shape import Quality
from diadoche.services.jobs.lens_take import LensTake, StitchSettings, opened, upright
from diadoche.services.side_processes.side_process import SideProcess, serve
from diadoche.services.wire import from_text, to_text

if TYPE_CHECKING:
    from diadoche.core.sphere.source import StitchSource
    from diadoche.core.sphere.strips import Strip

_LONGEST_S = 30.0
_SEAM_DEG, _SEAM_PX = 16.0, 1440


@dataclass(frozen=True, slots=True)
class SeamView:
    """A seam of the stitched picture, unrolled, as PNG: along it from left to right."""

    name: str
    png: bytes


@dataclass(frozen=True, slots=True)
class ShotSeen:
    """What kind of shot it is at this moment, and what matching near things in each picture costs.

    `saved` is the share of the time that stitching takes less where that is done in every fifth only.
    """

    moving: float
    noise: float
    stands: bool
    is_noisy: bool
    saved: float

    def words(self, quality: Quality) -> str:
        """What the shot asks for, and why."""
        dim = " It is noisy: several pictures are taken together to match by." if self.is_noisy else ""
        if quality == "quick":
            return "Near things will stand twice at the seams."
        if self.stands:
            less = f", and stitching takes {self.saved:.0%} less" if self.saved >= 0.05 else ""
            enough = f"“Camera stands” is enough{less}" if quality == "best" else "“Camera stands” is enough"
            return f"Nothing near moves at this moment: {enough}.{dim}"
        if quality == "standing":
            return f"Near things move here ({self.moving:.0%} of them): they may lag behind; “Best” follows them.{dim}"
        return f"Near things move here ({self.moving:.0%} of them): “Best” follows them in each picture.{dim}"


@dataclass(frozen=True, slots=True)
class SpherePreview:
    """A stitched picture as PNG with what belongs to it, or a problem in words.

    `break_px` is by how much edges across the seams break, in pixels of this picture; None where that cannot be told.
    """

    png: bytes = b""
    seams: tuple[SeamView, ...] = ()
    break_px: float | None = None
    seconds: float = 0.0
    problem: str = ""


class SpherePreviews:
    """Asks for previews, one after another; used on one thread."""

    def __init__(self) -> None:
        self._side_process = SideProcess("diadoche.services.side_processes.sphere_preview")

    def __enter__(self) -> SpherePreviews:
        return self

    def __exit__(
        self, kind: type[BaseException] | None, error: BaseException | None, trace: TracebackType | None
    ) -> None:
        self.close()

    def picture(self, take: LensTake, settings: StitchSettings, moment_s: Fraction, width_px: int) -> SpherePreview:
        """The stitched picture of a moment, `width_px` wide for each eye. Never raises for what is in the files."""
        question = ["picture", to_text(take), to_text(settings), str(moment_s), width_px]
        answer = self._side_process.ask(question, _LONGEST_S)
        if answer is None:
            return SpherePreview(problem="This moment could not be stitched: reading it crashed, or took too long.")
        seams = tuple(SeamView(name, base64.b64decode(png)) for name, png in answer.pop("seams"))
        return SpherePreview(base64.b64decode(answer.pop("png")), seams, **answer)

    def shot(self, take: LensTake, settings: StitchSettings, moment_s: Fraction) -> ShotSeen | None:
        """What kind of shot a take is; None where that cannot be told."""
        answer = self._side_process.ask(["shot", to_text(take), to_text(settings), str(moment_s), 0], _LONGEST_S)
        return ShotSeen(**answer) if answer else None

    def close(self) -> None:
        """Ends the process."""
        self._side_process.close()


def _answer(question: tuple[str, str, str, str, int]) -> dict[str, Any] | None:
    what, take_text, settings_text, moment_text, width_px = question
    take, settings = from_text(LensTake, take_text), from_text(StitchSettings, settings_text)
    begun_s = time.monotonic()
    try:
        if what == "shot":
            return _shot(take, settings, Fraction(moment_text))
        found = _preview(take, settings, Fraction(moment_text), width_px)
    except DiadocheError as error:
        found = {"png": "", "seams": [], "problem": error.problem.sentence()}
    return found | {"seconds": time.monotonic() - begun_s}


def _preview(take: LensTake, settings: StitchSettings, moment_s: Fraction, width_px: int) -> dict[str, Any]:
    from diadoche.core.sphere.near_matching import NearMatching, NearQuality

    source = opened(take, replace(settings, size=_small(settings, width_px)), measured=True)
    frames = source.lens_planes([moment_s])
    if settings.even_out:
        source = source.evened(frames)
    source = source.with_near(None if settings.quality == "quick" else NearQuality())
    source = upright(source, settings, Fraction(0), Fraction(source.picture.pictures) / source.picture.rate)
    if not frames:
        return {"png": "", "seams": [], "problem": "Not every lens has a picture at this moment."}
    picture, break_px, strips = source.stitched(frames[0], moment_s)
    rgb = picture.to_ndarray(format="bgr24")
    if not strips:
        strips = NearMatching(source.rig.for_eye(source.eyes[0]), source.band_deg).strips
    seams = [(name, _png(view)) for name, view in _seams(source, rgb, strips)]
    return {"png": _png(rgb), "seams": seams, "break_px": break_px}


def _shot(take: LensTake, settings: StitchSettings, moment_s: Fraction) -> dict[str, Any] | None:
    """What kind of shot it is, and what share of the time matching near things in each picture takes."""
    from diadoche.core.sphere.near_matching import NearMatching
    from diadoche.core.sphere.projection import Equirectangular
    from diadoche.core.sphere.shot import STANDING_EVERY, shot_of
    from diadoche.core.sphere.stitcher import Stitcher

    try:
        source = opened(take, settings)
        times = [moment_s + step / source.picture.rate for step in (0, 1, STANDING_EVERY)]
        frames = source.lens_planes(times)
    except DiadocheError:
        return None
    if len(frames) < len(times):
        return None
    moment = [[planes[0] for planes in pictures] for pictures in frames]
    shot = shot_of(source.rig, source.band_deg, [moment], source.picture.bit_depth)
    if shot is None:
        return None
    rig, (wide, high) = source.rig.for_eye(source.eyes[0]), source.shape.eye_px
    matching, target = NearMatching(rig, source.band_deg), Equirectangular(wide, high, source.shape.bounds)
    matching_s = _seconds(lambda: matching.shifts(moment[0]))
    shared, kind = source.shared, moment[0][0].dtype
    sizes = ((high, wide), *((high // shared[1], wide // shared[0]),) * 2)
    into = tuple(np.zeros(size, kind) for size in sizes)
    with Stitcher(rig, target, shared) as stitcher:
        whole_s = _seconds(lambda: stitcher.stitch(frames[0], (into[0], into[1], into[2])))
    saved = matching_s * (1 - 1 / STANDING_EVERY) / (matching_s + whole_s)
    return {
        "moving": shot.moving,
        "noise": shot.noise,
        "stands": shot.stands,
        "is_noisy": shot.is_noisy,
        "saved": saved,
    }


def _seconds(doing: Callable[[], object]) -> float:
    """How long something takes when everything it needs was touched once."""
    doing()
    begun_s = time.monotonic()
    doing()
    return time.monotonic() - begun_s


def _small(settings: StitchSettings, width_px: int) -> tuple[int, int]:
    """The same shape, so many pixels wide for each eye."""
    high = round(width_px * 180 / float(settings.width_deg) / 4) * 4
    return width_px * (1 + (settings.layout == "side-by-side")), high * (1 + (settings.layout == "top-bottom"))


def _seams(source: StitchSource, picture: Any, strips: Sequence[Strip]) -> list[tuple[str, Any]]:
    """Each seam of the first eye, unrolled from the stitched picture."""
    import cv2

    from diadoche.core.sphere.projection import Equirectangular

    rig = source.rig.for_eye(source.eyes[0])
    wide, high = source.shape.eye_px
    target = Equirectangular(wide, high, source.shape.bounds)
    along = (np.arange(_SEAM_PX) + 0.5) / _SEAM_PX * 2 * np.pi - np.pi
    rows = round(_SEAM_PX * _SEAM_DEG / 360)
    beside = np.radians(_SEAM_DEG) * (0.5 - (np.arange(rows) + 0.5) / rows)[:, None, None]
    found = []
    for strip in strips:
        level, quarter, pole = strip.axes
        flat = np.cos(along)[:, None] * level + np.sin(along)[:, None] * quarter
        places = target.places(np.cos(beside) * flat + np.sin(beside) * pole).astype(np.float32) - 0.5
        view = cv2.remap(picture[:high, :wide], places[..., 0], places[..., 1], cv2.INTER_LINEAR)
        found.append((f"{rig.lenses[strip.one].name} to {rig.lenses[strip.other].name}", view))
    return found


def _png(picture: Any) -> str:
    import cv2

    return base64.b64encode(cv2.imencode(".png", picture, [cv2.IMWRITE_PNG_COMPRESSION, 1])[1].tobytes()).decode(
        "ascii"
    )


def main() -> None:
    """Answers until nobody asks any more."""
    serve(_answer)
