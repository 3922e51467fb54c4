"""Whether a picture without tags looks like a sphere laid out flat: whole and equirectangular, or as a cube's faces.

An equirectangular sphere goes on from its right edge at its left one, and its first row is one place. A cube's faces go
on over its edges, wherever they lie in the picture.
"""

from __future__ import annotations

from typing import Literal

import numpy as np
from numpy.typing import NDArray

from diadoche.core.sphere.projection import CubeMap

Luma = NDArray[np.uint8]
# None where the picture tells neither: it is too even.
Laid = Literal["equirectangular", "cubemap", "flat"] | None
# Common practice, no source for the limits, in 8-bit code values and shares of what unlike places differ by.
_LEAST_UNLIKE = 4.0
_GOES_ON, _STOPS = 0.35, 0.6
_LEAST_PX = 64
_STEPS = np.linspace(-0.9, 0.9, 61)


def laid_out(luma: NDArray[np.uint8] | NDArray[np.uint16], bits: int = 8) -> Laid:
    """What a picture of the shape of a sphere or of a cube's faces is, by its luma of so many bits."""
    height, width = luma.shape
    if height < _LEAST_PX:
        return None
    is_cube = 2 * width == 3 * height and width % 3 == 0
    if width != 2 * height and not is_cube:
        return "flat"
    few = (luma >> max(0, bits - 8)).astype(np.uint8)
    return _cube(few) if is_cube else _whole_sphere(few)


def _whole_sphere(luma: Luma) -> Laid:
    values = luma.astype(np.float32)
    columns = values.shape[1]
    unlike = np.median([_apart(values[:, 0], values[:, columns * step // 8]) for step in range(2, 7)])
    level = float(values[values.shape[0] // 3 : 2 * values.shape[0] // 3].std(axis=1).mean())
    # Edges that are dark all along, as under a vignette or between bars, go on at each other and tell nothing.
    edges = min(float(values[:, 0].std()), float(values[:, -1].std()))
    if min(unlike, level, edges) < _LEAST_UNLIKE:
        return None
    pole = max(float(values[0].std()), float(values[-1].std()))
    joined = _apart(values[:, 0], values[:, -1]) < _GOES_ON * unlike
    return "equirectangular" if joined and pole < _STOPS * level else "flat"


def _cube(luma: Luma) -> Laid:
    cube = CubeMap(luma.shape[1] // 3)
    inside = 1 - 2.0 / cube.face_px
    axes = np.eye(3)
    goes_on, unlike = [], []
    for first in range(3):
        for second in range(first + 1, 3):
            along = axes[3 - first - second]
            for one in (-1, 1):
                for other in (-1, 1):
                    ends = one * axes[first], other * axes[second]
                    sides = [
                        _at(luma, cube, near + inside * far + _STEPS[:, None] * along)
                        for near, far in (ends, ends[::-1])
                    ]
                    goes_on.append(_apart(*sides))
                    unlike.append(_apart(sides[0], np.roll(sides[1], len(_STEPS) // 2)))
    usual = float(np.median(unlike))
    if usual < _LEAST_UNLIKE:
        return None
    return "cubemap" if float(np.median(goes_on)) < _GOES_ON * usual else "flat"


def _at(luma: Luma, cube: CubeMap, rays: NDArray[np.float64]) -> NDArray[np.float32]:
    places = np.floor(cube.places(rays)).astype(int)
    found: NDArray[np.float32] = luma[
        np.clip(places[:, 1], 0, luma.shape[0] - 1), np.clip(places[:, 0], 0, luma.shape[1] - 1)
    ].astype(np.float32)
    return found


def _apart(one: NDArray[np.float32], other: NDArray[np.float32]) -> float:
    return float(np.abs(one - other).mean())
