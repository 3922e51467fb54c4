"""Round places of a sphere filled from around them: a tripod below, and what no lens of a ring sees above and below.

Inside, every value is as even as its rim allows: the harmonic extension of what lies around, which has no edge and
no peak of its own [closed form: Fourier's series on a disc]. It is an invention, and only made where it is asked for.
"""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

import cv2
import numpy as np
from numpy.typing import NDArray

from diadoche.core.sphere.projection import Equirectangular
from diadoche.core.sphere.rig import Rig
from diadoche.core.sphere.stitch_map import Sampling

Array = NDArray[np.float64]
# Places around the rim, and from the middle to the rim, at which the filling is reckoned.
_AROUND, _OUTWARD = 720, 48
_FINEST = 90
# Beyond its rim a filling fades into what was filmed, over so many degrees.
_FADE_DEG = 1.5
# What is unseen farther from a pole than that is no hole at the pole.
_WIDEST_DEG = 45.0
_MARGIN_DEG = 1.0


@dataclass(frozen=True)
class Cap:
    """A round place: the direction of its middle in the result, and how far it reaches, in degrees."""

    direction: tuple[float, float, float]
    radius_deg: float


def open_poles(rig: Rig, down: Array) -> list[Cap]:
    """The places above and below a rig that no lens sees.

    Args:
        rig: as its result is turned.
        down: where the rig's own nadir is in the result.
    """
    found = []
    for pole in (down, -down):
        rays = _around(pole, np.arange(0.5, _WIDEST_DEG, 0.5))
        seen = np.zeros(rays.shape[:-1], bool)
        for each in rig.lenses:
            seen |= each.project(rays)[1] < each.lens.widest - 2 / each.lens.focal_px
        rings = np.flatnonzero((~seen).any(axis=1))
        # A hole that begins at the pole; one that reaches as far as is looked is another fault.
        if len(rings) and not seen[0].all() and rings[-1] < len(rays) - 1:
            x, y, z = (float(value) for value in pole)
            found.append(Cap((x, y, z), 0.5 * (rings[-1] + 1) + _MARGIN_DEG))
    return found


def _frame(direction: Array) -> tuple[Array, Array]:
    """Two directions at right angles to one, and to each other."""
    beside = np.cross(direction, (1.0, 0.0, 0.0) if abs(direction[0]) < 0.9 else (0.0, 0.0, 1.0))
    beside /= np.linalg.norm(beside)
    return beside, np.cross(direction, beside)


def _around(direction: Array, degrees: Array) -> Array:
    """Directions on rings around one, shape (rings, `_AROUND`, 3)."""
    one, two = _frame(direction)
    turn = np.arange(_AROUND) / _AROUND * 2 * np.pi
    flat = np.cos(turn)[:, None] * one + np.sin(turn)[:, None] * two
    away = np.radians(degrees)[:, None, None]
    rays: Array = np.cos(away) * direction + np.sin(away) * flat
    return rays


class Cover:
    """A cap of one plane, filled picture after picture."""

    def __init__(self, cap: Cap, target: Equirectangular, sampling: Sampling) -> None:
        """
        Args:
            cap: where.
            target: the result, in pixels of luma.
            sampling: of the plane.
        """
        direction = np.array(cap.direction)
        direction = direction / np.linalg.norm(direction)
        width, height = target.width // sampling.across, target.height // sampling.down
        across = np.arange(width) * sampling.across + sampling.left
        down = np.arange(height) * sampling.down + sampling.top
        rays = target.rays(across[None, :], down[:, None])
        away = np.degrees(np.arccos(np.clip(rays @ direction, -1, 1)))
        rows = np.flatnonzero((away < cap.radius_deg + _FADE_DEG).any(axis=1))
        self._rows = slice(int(rows[0]), int(rows[-1]) + 1) if len(rows) else slice(0, 0)
        one, two = _frame(direction)
        part = rays[self._rows]
        # Stereographic: there circles stay circles, and the disc's harmonics are powers of the radius.
        rim_deg = cap.radius_deg + _FADE_DEG / 2
        radius = np.tan(np.radians(away[self._rows]) / 2) / np.tan(np.radians(rim_deg) / 2)
        turn = np.arctan2(part @ two, part @ one) % (2 * np.pi) / (2 * np.pi) * _AROUND
        self._map = np.stack((turn, np.minimum(radius, 1) * (_OUTWARD - 1)), axis=-1).astype(np.float32)
        self._share = np.clip(1 - (away[self._rows] - cap.radius_deg) / _FADE_DEG, 0, 1).astype(np.float32)
        rim = target.places(_around(direction, np.array([rim_deg])))
        self._rim = np.stack(
            ((rim[..., 0] - sampling.left) / sampling.across, (rim[..., 1] - sampling.top) / sampling.down), axis=-1
        ).astype(np.float32)
        steps = np.linspace(0, 1, _OUTWARD)[:, None]
        self._powers = steps ** np.arange(_FINEST)[None, :]

    def fill(self, plane: NDArray[Any]) -> None:
        """Fills the cap of a plane, in place; nothing where the plane shows another part of the sphere."""
        if not self._share.size:
            return
        rim = cv2.remap(plane, self._rim, None, cv2.INTER_LINEAR, None, cv2.BORDER_REPLICATE)  # type: ignore[call-overload]  # one map of two channels
        waves = np.fft.rfft(rim[0].astype(np.float64))[:_FINEST]
        disc = np.fft.irfft(waves * self._powers, _AROUND, axis=1).astype(np.float32)
        # Its end is its beginning.
        disc = np.concatenate((disc, disc[:, :1]), axis=1)
        filled = cv2.remap(disc, self._map, None, cv2.INTER_LINEAR, None, cv2.BORDER_REPLICATE)  # type: ignore[call-overload]  # one map of two channels
        own = plane[self._rows]
        mixed = own + (filled - own) * self._share
        np.copyto(own, np.rint(mixed), casting="unsafe")
