"""Lenses: where a direction falls in a picture, and which direction a place of it shows.

All models here are round: a ray that is `angle` (radians) off the axis falls `focal_px * radius(angle)` from the
centre. Places are in pixels from the upper left corner of the picture, so that the middle of the first pixel is at
(0.5, 0.5); directions are in the lens's own frame (see `rotation`), z along its axis.

Sources: [KB2006] Kannala and Brandt 2006, [DS2018] Usenko et al. 2018.
"""

from __future__ import annotations

from abc import ABC, abstractmethod
from dataclasses import dataclass
from typing import ClassVar

import numpy as np
from numpy.typing import NDArray

Array = NDArray[np.float64]
_STEPS = 12
_TABLE = 4096


class Radial(ABC):
    """How far from the centre a ray falls, by its angle, with a focal length of 1."""

    name: ClassVar[str]
    # How many terms it takes.
    terms_count: ClassVar[int]
    # Terms of a lens without distortion, where there is such a one.
    usual: ClassVar[tuple[float, ...]] = ()

    def __init__(self, terms: tuple[float, ...] = ()) -> None:
        """
        Args:
            terms: of the model, as its paper names them; the usual ones where there are none.

        Raises:
            ValueError: as many as the model does not take.
        """
        self.terms = terms or self.usual
        if len(self.terms) != self.terms_count:
            raise ValueError(f"the model {self.name} takes {self.terms_count} terms, not {len(self.terms)}")

    @abstractmethod
    def radius(self, angle: Array) -> Array:
        """By the angle off the axis, in radians."""

    def angle(self, radius: Array, widest: float) -> Array:
        """The angle in radians by the radius, up to `widest`; NaN beyond. Found in a table, then by Newton's method."""
        table = np.linspace(0, widest, _TABLE)
        radii = self.radius(table)
        angle = np.interp(radius, radii, table)
        step = 1e-6
        for _ in range(_STEPS):
            slope = (self.radius(angle + step) - self.radius(angle - step)) / (2 * step)
            change = (self.radius(angle) - radius) / np.where(np.abs(slope) > 1e-9, slope, 1)
            angle = angle - change
            if np.all(np.abs(change) < 1e-12):
                break
        return np.where((radius <= radii[-1]) & (radius >= 0), angle, np.nan)

    def grows_until(self, widest: float) -> bool:
        """Whether the radius grows with the angle all the way, so that every place shows one direction."""
        return bool(np.all(np.diff(self.radius(np.linspace(0, widest, _TABLE))) > 0))


class Equidistant(Radial):
    """Radius in proportion to the angle."""

    name = "equidistant"
    terms_count = 0

    def radius(self, angle: Array) -> Array:
        """See `Radial`."""
        return np.asarray(angle, np.float64)


class KannalaBrandt(Radial):
    """Odd powers of the angle up to the ninth, as in OpenCV's fisheye model [KB2006, eq. 6]."""

    name = "kannala-brandt"
    terms_count = 4
    usual = (0.0, 0.0, 0.0, 0.0)

    def radius(self, angle: Array) -> Array:
        """See `Radial`."""
        square = np.asarray(angle, np.float64) ** 2
        one, two, three, four = self.terms
        radius: Array = angle * (1 + square * (one + square * (two + square * (three + square * four))))
        return radius


class DoubleSphere(Radial):
    """Two unit spheres, `xi` apart, and a pinhole shifted by `alpha` [DS2018, eq. 40 to 45]."""

    name = "double-sphere"
    terms_count = 2

    def radius(self, angle: Array) -> Array:
        """See `Radial`."""
        xi, alpha = self.terms
        along = np.cos(angle)
        second = np.sqrt(np.sin(angle) ** 2 + (xi + along) ** 2)
        radius: Array = np.sin(angle) / (alpha * second + (1 - alpha) * (xi + along))
        return radius


class Gnomonic(Radial):
    """The pinhole: what is straight stays straight."""

    name = "gnomonic"
    terms_count = 0

    def radius(self, angle: Array) -> Array:
        """See `Radial`; without end at a right angle."""
        return np.tan(np.minimum(angle, np.pi / 2 - 1e-9))


RADIAL_MODELS: dict[str, type[Radial]] = {
    model.name: model for model in (Equidistant, KannalaBrandt, DoubleSphere, Gnomonic)
}


@dataclass(frozen=True)
class Lens:
    """One lens with the picture it makes.

    Args:
        radial: its model.
        focal_px: pixels a radian at the axis.
        centre_px: where the axis meets the picture, across and down.
        size_px: of the picture, width and height.
        field_deg: the full angle that it sees; nothing is taken from beyond.
    """

    radial: Radial
    focal_px: float
    centre_px: tuple[float, float]
    size_px: tuple[int, int]
    field_deg: float

    @property
    def widest(self) -> float:
        """Half of what it sees, in radians."""
        return float(np.radians(self.field_deg / 2))

    @property
    def circle_px(self) -> float:
        """The radius of the image circle."""
        return float(self.focal_px * self.radial.radius(np.array(self.widest)))

    def project(self, rays: NDArray[np.floating]) -> tuple[Array, Array]:
        """Where directions fall.

        Args:
            rays: of any length, shape (…, 3), in the lens's frame.

        Returns:
            places in pixels, shape (…, 2), and the angles off the axis in radians, shape (…); a place means something
            where the angle is not above `widest`.
        """
        across = np.hypot(rays[..., 0], rays[..., 1])
        angle = np.arctan2(across, rays[..., 2])
        inside = np.minimum(angle, self.widest)
        scale = self.focal_px * self.radial.radius(inside) / np.where(across > 1e-12, across, 1)
        places = np.stack((self.centre_px[0] + scale * rays[..., 0], self.centre_px[1] + scale * rays[..., 1]), axis=-1)
        return places, angle

    def unproject(self, places: NDArray[np.floating]) -> Array:
        """Unit directions of places in pixels, shape (…, 2) to (…, 3); NaN outside the image circle."""
        across = (places[..., 0] - self.centre_px[0]) / self.focal_px
        down = (places[..., 1] - self.centre_px[1]) / self.focal_px
        radius = np.hypot(across, down)
        angle = self.radial.angle(radius, self.widest)
        scale = np.where(radius > 1e-12, np.sin(angle) / np.where(radius > 1e-12, radius, 1), 1)
        return np.stack((across * scale, down * scale, np.cos(angle)), axis=-1)

    def resized(self, width: int, height: int) -> Lens:
        """The same lens where its picture has another size; each direction is scaled by itself only if they agree.

        Raises:
            ValueError: another shape: it is not known what was cut off, or squeezed.
        """
        if width * self.size_px[1] != height * self.size_px[0]:
            raise ValueError(f"a picture of {width}×{height} is no {self.size_px[0]}×{self.size_px[1]} in another size")
        scale = width / self.size_px[0]
        centre = (self.centre_px[0] * scale, self.centre_px[1] * scale)
        return Lens(self.radial, self.focal_px * scale, centre, (width, height), self.field_deg)
