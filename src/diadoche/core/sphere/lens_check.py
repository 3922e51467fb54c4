"""Whether lens pictures are what their rig says: not black, not mirrored, not exchanged, and of one take.

Neighbours must show the same along their seams. Where they do not, it is tried whether they would if two files were
exchanged, or one was mirrored: what then fits is named. Of two lenses back to back, an exchange only turns the sphere
by half a circle: that cannot be told.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, replace
from itertools import combinations
from typing import Any

import cv2
import numpy as np
from numpy.typing import NDArray

from diadoche.core.sphere.rig import Rig, RigLens
from diadoche.core.sphere.strips import Strip, alike, looked_up, places_in, strips_of

_STRIP_DEG, _COLUMNS = 14.0, 720
# A lens is black where next to nothing in it is brighter than that, in code values of 8 bits of limited range.
_BLACK, _BLACK_PERCENT = 24.0, 99.0
# Correlations of what two neighbours show: from where on they agree, and below which they do not.
_AGREE, _DIFFER = 0.6, 0.45
# Explanations that fit about as well as the best cannot be told from it.
_AS_GOOD = 0.1
# What has less contrast than that says nothing.
_LEAST_CONTRAST = 4.0


@dataclass(frozen=True, slots=True)
class LensFault:
    """What is wrong, in words; `sure` where stitching it would make something else than was filmed."""

    words: str
    sure: bool


def lens_faults(rig: Rig, frames: Sequence[Sequence[NDArray[Any]]], bits: int) -> list[LensFault]:
    """What is wrong with the lenses of a take.

    Args:
        rig: for pictures of this size.
        frames: lumas of the rig's pictures at some moments.
        bits: a sample.
    """
    black = [number for number, each in enumerate(rig.lenses) if frames and _is_black(each, frames, bits)]
    found = [LensFault(f"The picture of {rig.lenses[number].name} is black.", sure=False) for number in black]
    strips = [each for each in strips_of(rig, _STRIP_DEG, _COLUMNS) if not {each.one, each.other} & set(black)]
    if not frames or not strips:
        return found
    now = _fits(rig, strips, frames)
    apart = [number for number, fit in enumerate(now) if fit is not None and fit < _DIFFER]
    if not apart:
        return found
    if words := _explained(rig, strips, frames):
        return [*found, LensFault(words, sure=True)]
    names = [f"{rig.lenses[strips[number].one].name} and {rig.lenses[strips[number].other].name}" for number in apart]
    words = f"At their seam, {names[0]} show different things"
    more = f", and so do {len(names) - 1} other pairs" if len(names) > 1 else ""
    return [*found, LensFault(f"{words}{more}: are they of one take, and is this its rig?", sure=False)]


def _is_black(lens: RigLens, frames: Sequence[Sequence[NDArray[Any]]], bits: int) -> bool:
    left, top = lens.corner_px
    width, height = lens.lens.size_px
    limit = _BLACK * (1 << bits - 8)
    parts = (pictures[lens.picture][top : top + height : 4, left : left + width : 4] for pictures in frames)
    return all(float(np.percentile(part, _BLACK_PERCENT)) < limit for part in parts)


def _fits(rig: Rig, strips: Sequence[Strip], frames: Sequence[Sequence[NDArray[Any]]]) -> list[float | None]:
    """How well the lenses of each strip agree: their correlation at the best moment; None without contrast."""
    return [_best(_agreement(rig, strip, pictures) for pictures in frames) for strip in strips]


def _best(values: Any) -> float | None:
    known = [value for value in values if value is not None]
    return max(known) if known else None


def _agreement(rig: Rig, strip: Strip, pictures: Sequence[NDArray[Any]]) -> float | None:
    views = []
    for number in (strip.one, strip.other):
        luma = pictures[rig.lenses[number].picture]
        views.append(looked_up(luma, places_in(rig, number, strip)))
    if min(float(view[strip.seen].std()) for view in views) < _LEAST_CONTRAST:
        return None
    # Softened by a degree: lenses that are not aligned yet show the same a little beside.
    soft = [cv2.GaussianBlur(view, (0, 0), strip.px_deg) for view in alike(strip, views[0], views[1])]
    one, other = (view[strip.seen].astype(np.float64) for view in soft)
    return float(np.corrcoef(one, other)[0, 1])


def _explained(rig: Rig, strips: Sequence[Strip], frames: Sequence[Sequence[NDArray[Any]]]) -> str:
    """What would make all seams fit, as words; nothing where nothing simple does."""
    found: list[tuple[float, str]] = []
    for one, other in combinations(range(len(rig.lenses)), 2):
        names = f"{rig.lenses[one].name} and {rig.lenses[other].name}"
        found.append((_worst(_exchanged(rig, one, other), strips, frames), f"the pictures of {names} are exchanged"))
    for number, lens in enumerate(rig.lenses):
        mirrored = [
            [_mirrored(luma, lens) if lens.picture == place else luma for place, luma in enumerate(pictures)]
            for pictures in frames
        ]
        found.append((_worst(rig, strips, mirrored), f"the picture of {rig.lenses[number].name} is mirrored"))
    best = max(fit for fit, _words in found)
    if best < _AGREE:
        return ""
    return "It seems that " + ", or ".join(words for fit, words in found if fit > best - _AS_GOOD) + "."


def _worst(rig: Rig, strips: Sequence[Strip], frames: Sequence[Sequence[NDArray[Any]]]) -> float:
    return min((fit for fit in _fits(rig, strips, frames) if fit is not None), default=-1.0)


def _exchanged(rig: Rig, one: int, other: int) -> Rig:
    """The rig with the pictures of two lenses exchanged."""
    lenses = list(rig.lenses)
    first, second = lenses[one], lenses[other]
    lenses[one] = replace(first, picture=second.picture, corner_px=second.corner_px)
    lenses[other] = replace(second, picture=first.picture, corner_px=first.corner_px)
    return replace(rig, lenses=tuple(lenses))


def _mirrored(luma: NDArray[Any], lens: RigLens) -> NDArray[Any]:
    """A picture with the part of one lens mirrored."""
    left, top = lens.corner_px
    width, height = lens.lens.size_px
    turned = luma.copy()
    part = turned[top : top + height, left : left + width]
    part[:] = part[:, ::-1].copy()
    return turned
