"""The band that two lenses both see, unrolled: along the seam across, and from one lens's side to the other's down.

Here what is far lies in both lenses' strips at the same place, and neither is mirrored or turned: in their own pictures
two lenses back to back show the band each the other way round.
"""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass
from itertools import combinations
from typing import Any

import cv2
import numpy as np
from numpy.typing import NDArray

from diadoche.core.sphere.rig import Rig
from diadoche.core.sphere.stitch_map import lens_weights

Array = NDArray[np.float64]
# No strip is finer than that; it only costs time.
_MOST_COLUMNS = 6000
# Where less of the band is seen by both, there is nothing to align by.
_LEAST_DEG = 1.0
# Lenses whose axes differ by less look the same way; of a pair of eyes, a band so many times as wide is looked at.
_SAME_WAY, _PAIR_TIMES = 0.2, 4.0
# Contrast is evened out over so many places, and not raised where there is next to none: steps of single code values
# follow the lens's own shading, and would be taken for something that is there.
_WINDOW = (31, 31)
_FLAT = 36.0


@dataclass(frozen=True)
class Strip:
    """What two lenses both see.

    Args:
        one, other: the lenses' places in the rig.
        seen: where both lenses see, shape (rows, columns).
        axes: as rows: the strip begins and ends opposite to the first, the second is a quarter further along the
            seam, and the third looks from the other lens's side to the one's.
        band_deg: how wide it is, across the seam.
    """

    one: int
    other: int
    seen: NDArray[np.bool_]
    axes: Array
    band_deg: float

    @property
    def rays(self) -> Array:
        """Directions of its places in the rig's frame, shape (rows, columns, 3); many, so they are not kept."""
        return _rays(self.axes, self.seen.shape, self.band_deg)

    def places(self, rays: NDArray[np.floating]) -> Array:
        """Where unit directions lie in the strip: columns and rows from the first one's middle, (…, 3) to (…, 2)."""
        rows, columns = self.seen.shape
        level, beside, pole = (rays @ axis for axis in self.axes)
        across = (np.arctan2(beside, level) + np.pi) / (2 * np.pi) * columns - 0.5
        down = (0.5 - np.degrees(np.arcsin(np.clip(pole, -1, 1))) / self.band_deg) * rows - 0.5
        return np.stack((across, down), axis=-1)

    @property
    def px_deg(self) -> float:
        """Places a degree along the seam."""
        return float(self.seen.shape[1] / 360)


def strips_of(rig: Rig, band_deg: float = 24.0, most_columns: int = _MOST_COLUMNS) -> list[Strip]:
    """A strip for each pair of lenses that see a band in common, about as fine as the lens pictures there.

    Args:
        rig: the lenses.
        band_deg: how wide a band is looked at, across the seam; less where both do not see so much.
        most_columns: no strip is longer than that.
    """
    found = []
    for one, other in combinations(range(len(rig.lenses)), 2):
        strip = _strip(rig, one, other, band_deg, most_columns)
        if strip is not None:
            found.append(strip)
    return found


def seam_strips(
    rig: Rig, seam_deg: float, band_deg: float, most_columns: int = _MOST_COLUMNS, shown: float = 0.0
) -> Iterator[tuple[Strip, NDArray[np.float32]]]:
    """The strips in which a seam lies, and the weights of all lenses there: what a third lens shows is no seam.

    Args:
        rig: the lenses, as the stitch uses them.
        seam_deg: how wide the seams of the result are.
        band_deg: how wide a band is looked at, across the seam.
        most_columns: no strip is longer than that.
        shown: both lenses must count for more than that somewhere.
    """
    for strip in strips_of(rig, band_deg, most_columns):
        rays = strip.rays
        angles = np.stack([each.project(rays)[1] for each in rig.lenses])
        weights = lens_weights(rig, rays, angles, seam_deg)
        if ((weights[strip.one] > shown) & (weights[strip.other] > shown)).any():
            yield strip, weights


def _strip(rig: Rig, one: int, other: int, band_deg: float, most_columns: int) -> Strip | None:
    axes = [rig.lenses[number].matrix[:, 2] for number in (one, other)]
    pole = axes[0] - axes[1]
    length = float(np.linalg.norm(pole))
    eyes = {rig.lenses[one].eye, rig.lenses[other].eye}
    if length < _SAME_WAY:
        if eyes != {"left", "right"}:
            # Both look the same way: no seam lies between them.
            return None
        # The eyes of a pair see all in common: the band lies level, as wide as there is something to compare.
        pole, band_deg = -rig.lenses[one].matrix[:, 1], _PAIR_TIMES * band_deg
        length = float(np.linalg.norm(pole))
    pole = pole / length
    # The strip begins where the two look apart most; between neighbours of a ring, its middle lies between their axes.
    level = axes[0] + axes[1]
    if np.linalg.norm(level) < 0.05:
        level = np.cross(pole, [0.0, 1.0, 0.0] if abs(pole[1]) < 0.9 else [1.0, 0.0, 0.0])
    level -= pole * (level @ pole)
    level /= np.linalg.norm(level)
    beside = np.cross(pole, level)
    fine = min(_slope_px(rig, one), _slope_px(rig, other))
    columns = min(most_columns, round(2 * np.pi * fine))
    rows = max(8, round(columns * band_deg / 360))
    own_axes = np.stack((level, beside, pole))
    rays = _rays(own_axes, (rows, columns), band_deg)
    seen = np.ones(rays.shape[:2], bool)
    for number in (one, other):
        lens = rig.lenses[number]
        seen &= lens.project(rays)[1] < lens.lens.widest - 3 / lens.lens.focal_px
    if seen.any(axis=1).sum() * band_deg / rows < _LEAST_DEG:
        return None
    return Strip(one, other, seen, own_axes, band_deg)


def _rays(axes: Array, shape: tuple[int, ...], band_deg: float) -> Array:
    """Directions of a strip's places; `axes` as it has them."""
    rows, columns = shape
    level, beside, pole = axes
    along = (np.arange(columns) + 0.5) / columns * 2 * np.pi - np.pi
    across = np.radians(band_deg) * (0.5 - (np.arange(rows) + 0.5) / rows)
    flat = np.cos(along)[:, None] * level + np.sin(along)[:, None] * beside
    found: Array = np.cos(across)[:, None, None] * flat + np.sin(across)[:, None, None] * pole
    return found


def _slope_px(rig: Rig, number: int) -> float:
    """Pixels a radian along the radius, towards the rim of a lens."""
    lens = rig.lenses[number].lens
    inner, outer = lens.widest * 0.8, lens.widest * 0.95
    radii = lens.radial.radius(np.array([inner, outer]))
    return float((radii[1] - radii[0]) / (outer - inner)) * lens.focal_px


def places_in(rig: Rig, lens: int, strip: Strip) -> NDArray[np.float32]:
    """Where a strip's places lie in the picture that holds a lens, from its first sample's middle, shape (…, 2)."""
    own = rig.lenses[lens]
    places: Array = own.project(strip.rays)[0] + np.array(own.corner_px) - 0.5
    return places.astype(np.float32)


def looked_up(plane: NDArray[Any], places: NDArray[np.floating]) -> NDArray[np.float32]:
    """What lies at places of a plane, between its samples in a straight line; of several channels, each by itself."""
    found = cv2.remap(plane, places, None, cv2.INTER_LINEAR, None, cv2.BORDER_REPLICATE)  # type: ignore[call-overload]  # one map of two channels
    return np.asarray(found, np.float32)


def unrolled(rig: Rig, lens: int, strip: Strip, luma: NDArray[Any]) -> NDArray[np.float32]:
    """What a lens shows in a strip, in code values.

    Args:
        rig: by which the lens is looked up.
        lens: its place in the rig.
        strip: where.
        luma: the plane of the picture that holds the lens.
    """
    return looked_up(luma, places_in(rig, lens, strip))


def alike(
    strip: Strip, one: NDArray[np.float32], other: NDArray[np.float32]
) -> tuple[NDArray[np.uint8], NDArray[np.uint8]]:
    """Both views of a strip with brightness and contrast evened out, as 8 bits.

    Towards its rim each lens grows darker, and that is towards opposite sides of the strip. In a soft cloud such a
    slope would look like a cloud that lies elsewhere; so one is first made as bright as the other, row by row.
    """
    there = strip.seen.astype(np.float32)
    gains = np.ones(strip.seen.shape[0], np.float32)
    ratios = (one + 1) / (other + 1)
    whole = strip.seen.all(axis=1)
    gains[whole] = np.median(ratios[whole], axis=1) if whole.any() else 1
    for row in np.flatnonzero(strip.seen.any(axis=1) & ~whole):
        gains[row] = np.median(ratios[row, strip.seen[row]])
    return _evened(one, there), _evened(other * gains[:, None], there)


def _evened(view: NDArray[np.float32], there: NDArray[np.float32]) -> NDArray[np.uint8]:
    # What lies beyond the rim of a lens must not show through: it would look alike in both at other places.
    wide = view * there
    share = np.maximum(cv2.blur(there, _WINDOW), 1e-3)
    mean = cv2.blur(wide, _WINDOW) / share
    spread = np.sqrt(np.maximum(cv2.blur(wide * wide, _WINDOW) / share - mean * mean, _FLAT))
    found: NDArray[np.uint8] = np.clip(128 + 40 * there * (wide - mean) / spread, 0, 255).astype(np.uint8)
    return found
