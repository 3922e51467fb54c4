"""Where the round picture of a lens lies in its frame, told by its edge against the black around it."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from typing import Any

import cv2
import numpy as np
from numpy.typing import NDArray
from scipy.optimize import least_squares

Array = NDArray[np.float64]
_RAYS = 720
# Far enough within to be picture for sure, and outside to be black, as parts of the radius that is expected.
_FROM, _TO = 1.12, 0.85
_STEP_PX = 0.25
# How much brighter than the black around a place must be, of the brightest there is.
_LIT = 0.04
_LEAST_RAYS = 180
_FITS_PX = 1.5


@dataclass(frozen=True, slots=True)
class ImageCircle:
    """Centre and radius in pixels, and how many of the rays out of the centre met an edge that lies on it."""

    centre_px: tuple[float, float]
    radius_px: float
    rays: int


def image_circle(lumas: Sequence[NDArray[Any]], centre_px: tuple[float, float], radius_px: float) -> ImageCircle | None:
    """The image circle in pictures of one lens; None where no round edge is found.

    Args:
        lumas: of some moments; what is dark at the rim in one may be bright in another.
        centre_px, radius_px: where it is expected.
    """
    brightest = np.maximum.reduce([np.asarray(luma, np.float32) for luma in lumas])
    around = np.arange(_RAYS) / _RAYS * 2 * np.pi
    reach = np.arange(radius_px * _FROM, radius_px * _TO, -_STEP_PX)
    across = (centre_px[0] + reach[None, :] * np.cos(around)[:, None] - 0.5).astype(np.float32)
    down = (centre_px[1] + reach[None, :] * np.sin(around)[:, None] - 0.5).astype(np.float32)
    inside = (across >= 0) & (across <= brightest.shape[1] - 1) & (down >= 0) & (down <= brightest.shape[0] - 1)
    seen = cv2.remap(brightest, across, down, cv2.INTER_LINEAR, None, cv2.BORDER_CONSTANT, (0.0,))
    black = float(np.percentile(brightest, 1))
    lit = seen > black + _LIT * (float(brightest.max()) - black)
    lit &= inside
    first = np.argmax(lit, axis=1)
    rows = np.arange(_RAYS)
    # Black must be seen before: a circle that the frame cuts off has no edge there.
    good = lit.any(axis=1) & (first > 4) & inside[rows, np.maximum(first - 4, 0)]
    # Picture goes on behind an edge; a glint in the black does not.
    good &= np.array([lit[row, place : place + 24].mean() > 0.9 for row, place in zip(rows, first, strict=True)])
    if good.sum() < _LEAST_RAYS:
        return None
    radii = reach[first[good]]
    points = np.stack(
        (centre_px[0] + radii * np.cos(around[good]), centre_px[1] + radii * np.sin(around[good])), axis=-1
    )

    def off(values: Array) -> Array:
        found: Array = np.hypot(points[:, 0] - values[0], points[:, 1] - values[1]) - values[2]
        return found

    fit = least_squares(off, [*centre_px, radius_px], loss="cauchy", f_scale=0.5)
    fitting = int((np.abs(off(fit.x)) < _FITS_PX).sum())
    if fitting < _LEAST_RAYS:
        return None
    x, y, radius = (float(value) for value in fit.x)
    return ImageCircle((x, y), radius, fitting)
