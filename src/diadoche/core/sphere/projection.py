"""Pictures of a sphere, or of a part of it: which direction each of their places shows, and back.

Places are in pixels from the upper left corner, the middle of the first pixel at (0.5, 0.5). Directions are in the
frame of `rotation`; the middle of an equirectangular picture looks along z.

Sources: [SNYDER] for the equirectangular and the gnomonic projection; [SPHERE, V2] for bounds and a cube's faces.
"""

from __future__ import annotations

from dataclasses import dataclass, field
from fractions import Fraction

import numpy as np
from numpy.typing import NDArray

from diadoche.core.spatial import Bounds

Array = NDArray[np.float64]

# The six faces in the order of [SPHERE, V2]'s layout 0, each with its axes: to the right, down, and outward.
_RIGHT, _DOWN, _AHEAD = np.eye(3)
CUBE_FACES: dict[str, tuple[Array, Array, Array]] = {
    "right": (-_AHEAD, _DOWN, _RIGHT),
    "left": (_AHEAD, _DOWN, -_RIGHT),
    "up": (_RIGHT, _AHEAD, -_DOWN),
    "down": (_RIGHT, -_AHEAD, _DOWN),
    "front": (_RIGHT, _DOWN, _AHEAD),
    "back": (-_RIGHT, _DOWN, -_AHEAD),
}


@dataclass(frozen=True)
class Equirectangular:
    """Longitude across, latitude down; a whole sphere, or the part within `bounds`."""

    width: int
    height: int
    bounds: Bounds = field(default_factory=Bounds)

    @property
    def _spans(self) -> tuple[float, float, float, float]:
        """West, east, north and south edges in radians; east and north are positive."""
        west = 2 * np.pi * (float(self.bounds.left) - 0.5)
        east = 2 * np.pi * (0.5 - float(self.bounds.right))
        north = np.pi * (0.5 - float(self.bounds.top))
        return west, east, north, np.pi * (float(self.bounds.bottom) - 0.5)

    @classmethod
    def part(
        cls, width: int, height: int, width_deg: Fraction, height_deg: Fraction = Fraction(180)
    ) -> Equirectangular:
        """The part round the middle that spans so many degrees."""
        side, above = (1 - width_deg / 360) / 2, (1 - height_deg / 180) / 2
        return cls(width, height, Bounds(above, above, side, side))

    def rays(self, across: NDArray[np.floating], down: NDArray[np.floating]) -> Array:
        """Unit directions of places, in pixels; shapes are broadcast, and the last axis is x, y, z."""
        west, east, north, south = self._spans
        longitude = west + (east - west) * across / self.width
        latitude = north + (south - north) * down / self.height
        level = np.cos(latitude)
        parts = np.broadcast_arrays(np.sin(longitude) * level, -np.sin(latitude), np.cos(longitude) * level)
        return np.stack(parts, axis=-1)

    def grid(self) -> Array:
        """Directions of the middles of all pixels, shape (height, width, 3)."""
        return self.rays(np.arange(self.width)[None, :] + 0.5, np.arange(self.height)[:, None] + 0.5)

    def places(self, rays: NDArray[np.floating]) -> Array:
        """Where directions of any length lie, shape (…, 3) to (…, 2); for a part of a sphere perhaps outside of it."""
        west, east, north, south = self._spans
        longitude = np.arctan2(rays[..., 0], rays[..., 2])
        latitude = -np.arctan2(rays[..., 1], np.hypot(rays[..., 0], rays[..., 2]))
        across = (longitude - west) / (east - west) * self.width
        down = (latitude - north) / (south - north) * self.height
        return np.stack((across, down), axis=-1)


@dataclass(frozen=True)
class Rectilinear:
    """A flat view as of a pinhole, `width_deg` wide, turned by `matrix` (see `rotation`)."""

    width: int
    height: int
    width_deg: float
    matrix: Array = field(default_factory=lambda: np.eye(3))

    @property
    def focal_px(self) -> float:
        """Pixels a radian in the middle."""
        return float(self.width / 2 / np.tan(np.radians(self.width_deg) / 2))

    def rays(self, across: NDArray[np.floating], down: NDArray[np.floating]) -> Array:
        """Unit directions of places in pixels."""
        right, below = (across - self.width / 2) / self.focal_px, (down - self.height / 2) / self.focal_px
        flat = np.stack(np.broadcast_arrays(right, below, np.ones(1)), axis=-1)
        turned: Array = flat @ self.matrix.T
        return _unit(turned)

    def grid(self) -> Array:
        """Directions of the middles of all pixels, shape (height, width, 3)."""
        return self.rays(np.arange(self.width)[None, :] + 0.5, np.arange(self.height)[:, None] + 0.5)

    def places(self, rays: NDArray[np.floating]) -> Array:
        """Where directions lie, NaN for what is behind."""
        own = rays @ self.matrix
        ahead = np.where(own[..., 2] > 1e-9, own[..., 2], np.nan)
        return np.stack(
            (
                own[..., 0] / ahead * self.focal_px + self.width / 2,
                own[..., 1] / ahead * self.focal_px + self.height / 2,
            ),
            axis=-1,
        )


@dataclass(frozen=True)
class CubeMap:
    """Six square faces, three beside each other in two rows, in the order of `CUBE_FACES`."""

    face_px: int

    @property
    def width(self) -> int:
        """Of the whole picture."""
        return 3 * self.face_px

    @property
    def height(self) -> int:
        """Of the whole picture."""
        return 2 * self.face_px

    def grid(self) -> Array:
        """Directions of the middles of all pixels, shape (height, width, 3)."""
        steps = (np.arange(self.face_px) + 0.5) / self.face_px * 2 - 1
        found = np.empty((self.height, self.width, 3))
        for number, (right, down, outward) in enumerate(CUBE_FACES.values()):
            rays = outward + steps[None, :, None] * right + steps[:, None, None] * down
            row, column = divmod(number, 3)
            top, left = row * self.face_px, column * self.face_px
            found[top : top + self.face_px, left : left + self.face_px] = rays
        return _unit(found)

    def places(self, rays: NDArray[np.floating]) -> Array:
        """Where directions of any length lie, shape (…, 3) to (…, 2)."""
        axes = np.stack([outward for _, _, outward in CUBE_FACES.values()])
        along = rays @ axes.T
        face = np.argmax(along, axis=-1)
        rights = np.stack([right for right, _, _ in CUBE_FACES.values()])[face]
        downs = np.stack([down for _, down, _ in CUBE_FACES.values()])[face]
        depth = np.take_along_axis(along, face[..., None], axis=-1)[..., 0]
        across = ((rays * rights).sum(axis=-1) / depth + 1) / 2 * self.face_px
        down = ((rays * downs).sum(axis=-1) / depth + 1) / 2 * self.face_px
        return np.stack((across + face % 3 * self.face_px, down + face // 3 * self.face_px), axis=-1)


def _unit(rays: Array) -> Array:
    unit: Array = rays / np.linalg.norm(rays, axis=-1, keepdims=True)
    return unit
