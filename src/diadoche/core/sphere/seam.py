"""How well a seam fits, picture by picture: by how much edges are broken where one lens takes over from another.

Measured on what the lenses show along the seam as they are looked up for the result, before anything is blended, by
comparing small blocks at every shift: nothing of it is shared with what aligns lenses or matches what is near. A block
without anything to compare says nothing.
"""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any

import cv2
import numpy as np
from numpy.typing import NDArray

from diadoche.core.sphere.projection import Equirectangular
from diadoche.core.sphere.rig import Rig
from diadoche.core.sphere.shape import USUAL_BAND_DEG
from diadoche.core.sphere.shifts import Shifts
from diadoche.core.sphere.strips import Strip, looked_up, places_in, seam_strips

# How large the blocks are, and how far they are shifted, in degrees: both lenses must see all of that.
_BLOCK_DEG = 2.5
_REACH_DEG, _NEAR_DEG = 3.0, 1.0
_LEAST_BLOCK_PX = 8
# A block says something where its contrast is above that of noise, and one shift fits clearly better than others do.
_LEAST_CONTRAST = 3.0
_LEAST_FIT = 0.8
# Blending shows both lenses within this of the seam.
_BAND_DEG = 4.0
# Whose weight is less than that is not seen.
_SHOWN = 0.05


class SeamMeasure:
    """Measures the seams of one rig; its strips are made once."""

    def __init__(self, rig: Rig, target: Equirectangular, band_deg: float = USUAL_BAND_DEG) -> None:
        """
        Args:
            rig: as the stitch uses it.
            target: the result, in whose pixels breaks are told.
            band_deg: how wide the seams of the result are.
        """
        self._rig = rig
        self._strips, self._mixed = [], []
        for strip, weights in seam_strips(rig, band_deg, _BAND_DEG + 2 * (_BLOCK_DEG + _REACH_DEG), shown=_SHOWN):
            self._strips.append(strip)
            self._mixed.append((weights[strip.one] > _SHOWN) & (weights[strip.other] > _SHOWN))
        across = float(target.bounds.width_deg) / target.width
        # Places of a strip are told in pixels of the result along the horizon.
        self._scales = [1 / strip.px_deg / across for strip in self._strips]
        self._places = [
            [places_in(rig, number, strip) for number in (strip.one, strip.other)] for strip in self._strips
        ]
        # Where the strips lie in the fields of shifts: known with the first picture that has any.
        self._shifted: list[list[NDArray[np.float32]]] = []

    @property
    def has_seams(self) -> bool:
        """Whether any two lenses see a band in common."""
        return bool(self._strips)

    def picture(self, lumas: Sequence[NDArray[Any]], shifts: Shifts | None = None) -> float | None:
        """The breaks of one picture: nine tenths of all that tells anything are below; None if nothing does.

        Args:
            lumas: of the rig's pictures.
            shifts: by how much the lenses are looked up elsewhere in that picture.
        """
        if shifts is not None and not self._shifted:
            self._shifted = [shifts.places(strip.rays) for strip in self._strips]
        found: list[NDArray[np.float64]] = []
        for number, (strip, scale) in enumerate(zip(self._strips, self._scales, strict=True)):
            views = []
            for lens, places in zip((strip.one, strip.other), self._places[number], strict=True):
                field = shifts.at(lens, self._shifted[number]) if shifts is not None else None
                luma = lumas[self._rig.lenses[lens].picture]
                views.append(looked_up(luma, places if field is None else places + field))
            found.append(_breaks(strip, self._mixed[number], views[0], views[1]) * scale)
        known = np.concatenate(found) if found else np.empty(0)
        return float(np.percentile(known, 90)) if len(known) >= 4 else None


def _breaks(
    strip: Strip, mixed: NDArray[np.bool_], one: NDArray[np.float32], other: NDArray[np.float32]
) -> NDArray[np.float64]:
    """How far blocks along the middle of a strip are shifted from the one view to the other, in its places.

    Only blocks are looked at in which the result shows both.
    """
    rows, columns = strip.seen.shape
    middle = rows // 2
    block_px = max(_LEAST_BLOCK_PX, round(_BLOCK_DEG * strip.px_deg))
    reaches_px = [round(degrees * strip.px_deg) for degrees in (_NEAR_DEG, _REACH_DEG)]
    found = []
    for row in (middle - block_px, middle):
        for column in range(reaches_px[-1], columns - reaches_px[-1] - block_px, block_px):
            own = (slice(row, row + block_px), slice(column, column + block_px))
            if row < 0 or not mixed[own].any() or one[own].std() < _LEAST_CONTRAST:
                continue
            # Most blocks are found nearby: only the others are looked for as far as there is anything to compare.
            for reach_px in reaches_px:
                break_px = _shift(strip, own, one, other, reach_px)
                if break_px is not None and break_px < reach_px - 1:
                    found.append(break_px)
                    break
    return np.array(found)


def _shift(
    strip: Strip, own: tuple[slice, slice], one: NDArray[np.float32], other: NDArray[np.float32], reach_px: int
) -> float | None:
    """How far a block of the one view is shifted in the other, in places; None where nothing there is like it."""
    top, left = own[0].start, own[1].start
    around = (
        slice(max(0, top - reach_px), min(strip.seen.shape[0], own[0].stop + reach_px)),
        slice(left - reach_px, own[1].stop + reach_px),
    )
    if not strip.seen[around].all():
        return None
    fits = cv2.matchTemplate(other[around], np.ascontiguousarray(one[own]), cv2.TM_CCOEFF_NORMED)
    best = float(fits.max())
    if best < _LEAST_FIT:
        return None
    # One edge alone fits wherever it goes on: it is broken by the smallest shift that fits as well.
    home = np.array([top - around[0].start, left - around[1].start])
    as_good = np.argwhere(fits >= best - 0.02 * (1 - fits.min()))
    lengths = np.hypot(*(as_good - home).T)
    at = as_good[int(lengths.argmin())]
    finer = [_summit(fits[:, at[1]], at[0]), _summit(fits[at[0]], at[1])]
    return float(np.hypot(*(at + finer - home)))


def _summit(fits: NDArray[Any], at: int) -> float:
    """Where between its neighbours the best fit lies, by a parabola through three; 0 where it is no summit."""
    if not 0 < at < len(fits) - 1:
        return 0.0
    before, here, behind = (float(value) for value in fits[at - 1 : at + 2])
    bent = before - 2 * here + behind
    return (before - behind) / (2 * bent) if here >= max(before, behind) and bent < -1e-6 else 0.0
