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
from diadoche.core.sphere.shifts import Shifts
from diadoche.core.sphere.strips import Strip, looked_up, places_in, strips_of

# How large the blocks are, and how far they are shifted, in degrees: both lenses must see all of that.
_BLOCK_DEG = 2.5
_REACH_DEG = 3.0
_LEAST_BLOCK_PX = 8
# A block says something where its contrast is above that of noise, and one shift fits clearly better than others do.
_LEAST_CONTRAST = 3.0
_LEAST_FIT = 0.8
# Blending shows both lenses within this of the seam.
_BAND_DEG = 4.0


class SeamMeasure:
    """Measures the seams of one rig; its strips are made once."""

    def __init__(self, rig: Rig, target: Equirectangular) -> None:
        """
        Args:
            rig: as the stitch uses it.
            target: the result, in whose pixels breaks are told.
        """
        self._rig = rig
        self._strips = strips_of(rig, _BAND_DEG + 2 * (_BLOCK_DEG + _REACH_DEG))
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
            found.append(_breaks(strip, views[0], views[1]) * scale)
        known = np.concatenate(found) if found else np.empty(0)
        return float(np.percentile(known, 90)) if len(known) >= 4 else None


def _breaks(strip: Strip, one: NDArray[np.float32], other: NDArray[np.float32]) -> NDArray[np.float64]:
    """How far blocks along the middle of a strip are shifted from the one view to the other, in its places."""
    rows, columns = strip.seen.shape
    middle = rows // 2
    block_px = max(_LEAST_BLOCK_PX, round(_BLOCK_DEG * strip.px_deg))
    reach_px = round(_REACH_DEG * strip.px_deg)
    found = []
    for row in (middle - block_px, middle):
        for column in range(reach_px, columns - reach_px - block_px, block_px):
            around = (
                slice(max(0, row - reach_px), min(rows, row + block_px + reach_px)),
                slice(column - reach_px, column + block_px + reach_px),
            )
            block = one[row : row + block_px, column : column + block_px]
            if row < 0 or block.shape[0] < block_px or not strip.seen[around].all() or block.std() < _LEAST_CONTRAST:
                continue
            fits = cv2.matchTemplate(other[around], np.ascontiguousarray(block), cv2.TM_CCOEFF_NORMED)
            best = float(fits.max())
            if best < _LEAST_FIT:
                continue
            # One edge alone fits wherever it goes on: it is broken by the smallest shift that fits as well.
            as_good = np.argwhere(fits >= best - 0.02 * (1 - fits.min()))
            home = np.array([row - around[0].start, column - around[1].start])
            found.append(float(np.hypot(*(as_good - home).T).min()))
    return np.array(found)
