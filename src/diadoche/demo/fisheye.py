"""What a fisheye lens makes of the scene: true optics that are nobody's model, and a sensor with its faults.

A lens looks along its own z, with x to the right of its picture and y down. Places are in pixels from the upper left
corner. Where a ray falls is a sum of what real lenses do: a radius that follows no closed form of the lens models in
use, a centre that is not the picture's, a sensor that is not quite square to the axis, and elements out of line.
"""

from __future__ import annotations

from dataclasses import dataclass, replace
from functools import cache
from typing import Any

import numpy as np
from numpy.typing import NDArray

from diadoche.demo.ray_scene import EYE_M, Moment, RayScene, StillView

Array = NDArray[Any]
NUMBER_ROWS, NUMBER_COLUMNS = 4, 5
_TABLE = 4096
# Towards the rim a lens passes less light; the share that is lost there.
_FALL_OFF = 0.35


@dataclass(frozen=True)
class Fisheye:
    """A lens and its sensor.

    Args:
        size_px: of the square picture.
        field_deg: the full angle that falls on it.
        position_m: of the entrance pupil, east, north and up.
        yaw_deg, pitch_deg, roll_deg: where it looks; yaw 0 is north, to the right is positive.
        decentre: of its axis, as parts of the size; tilt and elements out of line come with it.
        bend: how far the radius leaves proportion to the angle.
        gains: of red, green and blue against the scene's light.
        noise: standard deviation in linear light of a grey of 0.2.
        flare: the share of all light that is spread over the picture.
        lean: 3×3: how the whole camera leans, in east, north and up, about the middle of the gallery at eye height.
        mirrored: left and right are exchanged, as behind a prism that nobody turned back.
    """

    size_px: int
    field_deg: float = 200.0
    position_m: tuple[float, float, float] = (0.0, 0.0, EYE_M)
    yaw_deg: float = 0.0
    pitch_deg: float = 0.0
    roll_deg: float = 0.0
    decentre: tuple[float, float] = (0.0, 0.0)
    bend: float = 0.0
    gains: tuple[float, float, float] = (1.0, 1.0, 1.0)
    noise: float = 0.0
    flare: float = 0.0
    fall_off: float = _FALL_OFF
    mirrored: bool = False
    lean: tuple[tuple[float, float, float], ...] = ()

    @property
    def _focal_px(self) -> float:
        return self.size_px / 2 / float(np.radians(self.field_deg / 2))

    def _radius(self, angle: Array) -> Array:
        """In pixels, by the angle off the axis in radians."""
        bent = 1 + self.bend * (np.sin(1.7 * angle) - 0.35 * angle**2 + 0.06 * np.cos(5 * angle))
        found: Array = self._focal_px * angle * bent
        return found

    @property
    def axes(self) -> Array:
        """Its x, y and z as rows, in east, north and up."""
        yaw, pitch, roll = np.radians([self.yaw_deg, self.pitch_deg, self.roll_deg])
        ahead = np.array([np.sin(yaw) * np.cos(pitch), np.cos(yaw) * np.cos(pitch), np.sin(pitch)])
        right = np.array([np.cos(yaw), -np.sin(yaw), 0.0])
        down = np.cross(ahead, right)
        turned = np.cos(roll) * right + np.sin(roll) * down, np.cos(roll) * down - np.sin(roll) * right
        upright = np.stack((*turned, ahead))
        found: Array = upright @ np.array(self.lean).T if self.lean else upright
        return found

    @property
    def pupil_m(self) -> Array:
        """Where its entrance pupil is, east, north and up, however the camera leans."""
        middle = np.array((0.0, 0.0, EYE_M))
        beside = np.array(self.position_m) - middle
        found: Array = middle + (np.array(self.lean) @ beside if self.lean else beside)
        return found

    def place(self, rays: Array) -> tuple[Array, Array]:
        """Where directions in east, north and up fall, shape (…, 3) to (…, 2), and their angles off the axis."""
        own = rays @ self.axes.T
        across = np.hypot(own[..., 0], own[..., 1])
        angle = np.arctan2(across, own[..., 2])
        around = np.arctan2(own[..., 1], own[..., 0])
        return self._sensor(self._radius(angle), around), angle

    def _sensor(self, radius: Array, around: Array) -> Array:
        """A tilted sensor stretches one side; elements out of line push along one direction."""
        x, y = radius * np.cos(around), radius * np.sin(around)
        share = radius / (self.size_px / 2)
        tilt = 1 + 0.0006 * share * np.cos(around - 0.7) * (self.bend != 0)
        x, y = x * tilt * (1 + 0.0003 * (self.bend != 0)), y * tilt
        middle = self.size_px / 2
        x = middle + self.decentre[0] * self.size_px + (-x if self.mirrored else x)
        return np.stack((x, middle + self.decentre[1] * self.size_px + y), axis=-1)

    def rays(self, places: Array) -> tuple[Array, Array]:
        """Directions in east, north and up that places show, and their angles; what `place` does, undone."""
        own = (places - self.size_px / 2 - np.array(self.decentre) * self.size_px).astype(np.float64)
        if self.mirrored:
            own[..., 0] = -own[..., 0]
        table = np.linspace(0, np.pi, _TABLE)
        radii = self._radius(table)
        wanted = own.copy()
        middle = self.size_px / 2 + np.array(self.decentre) * self.size_px
        for _ in range(4):
            # What tilt and stretching do is small: a few steps back undo it to a millionth of a pixel.
            radius, around = np.hypot(wanted[..., 0], wanted[..., 1]), np.arctan2(wanted[..., 1], wanted[..., 0])
            fell = replace(self, mirrored=False)._sensor(radius, around) - middle
            wanted += own - fell
        radius, around = np.hypot(wanted[..., 0], wanted[..., 1]), np.arctan2(wanted[..., 1], wanted[..., 0])
        angle = np.interp(radius, radii, table)
        level = np.sin(angle)
        found = np.stack((level * np.cos(around), level * np.sin(around), np.cos(angle)), axis=-1)
        return found @ self.axes, angle


@cache
def _sub_rays(lens: Fisheye, fine: int) -> tuple[Array, Array, Array]:
    """Rays of `fine`² places in each pixel within the image circle, their angles, and which pixels those are."""
    steps = (np.arange(lens.size_px * fine) + 0.5) / fine
    places = np.stack(np.meshgrid(steps, steps), axis=-1)
    rays, angle = lens.rays(places)
    blocks = (lens.size_px, fine, lens.size_px, fine)
    widest = angle.reshape(blocks).max(axis=(1, 3))
    inside = np.flatnonzero(widest.ravel() <= np.radians(lens.field_deg / 2))
    own = rays.reshape(*blocks, 3).swapaxes(1, 2).reshape(-1, fine * fine, 3)[inside].astype(np.float32)
    return own, angle.reshape(blocks).mean(axis=(1, 3)).ravel()[inside].astype(np.float32), inside


@cache
def _fall_off(lens: Fisheye, fine: int) -> Array:
    """How much of the light gets through at each pixel within the image circle, one value in a row of its own."""
    _rays, angle, _inside = _sub_rays(lens, fine)
    share = angle / np.float32(np.radians(lens.field_deg / 2))
    return (1 - np.float32(lens.fall_off) * np.square(np.square(share)))[:, None]


def still_view(lens: Fisheye, scene: RayScene, *, fine: int = 2) -> StillView:
    """What a lens sees of what stands still: for many pictures, it is drawn once."""
    return scene.see_still(lens.pupil_m, _sub_rays(lens, fine)[0], Moment(0.0))


def photograph(
    lens: Fisheye,
    scene: RayScene,
    moment: Moment,
    *,
    fine: int = 2,
    dice: np.random.Generator | None = None,
    still: StillView | None = None,
) -> NDArray[np.float32]:
    """Linear light on the sensor, shape (size, size, 3); black outside the image circle.

    Args:
        lens: through which.
        scene: of what.
        moment: when.
        fine: so many rays across each pixel, whose mean is its light; what is finer than a pixel is blurred by that.
        dice: for the noise; none, and there is no noise.
        still: see `still_view`, by the same lens, scene and `fine`.
    """
    rays, _angle, inside = _sub_rays(lens, fine)
    if still is None:
        still = scene.see_still(lens.pupil_m, rays, moment)
    light, _ = scene.see_moving(still, moment)
    # One ray a pixel needs no mean, which would take as long as all the rest.
    seen = light[:, 0] if fine == 1 else light.mean(axis=1)
    seen *= _fall_off(lens, fine)
    if lens.flare:
        seen = seen * np.float32(1 - lens.flare) + np.float32(lens.flare) * seen.mean(axis=0)
    seen = seen * np.array(lens.gains, np.float32)
    if dice is not None and lens.noise:
        # Noise of light grows with its root, that of reading does not.
        spread = np.maximum(seen, 0)
        spread /= np.float32(0.2)
        spread += np.float32(0.1)
        np.sqrt(spread, out=spread)
        spread *= np.float32(lens.noise)
        spread *= dice.standard_normal(seen.shape, np.float32)
        seen += spread
    picture = np.zeros((lens.size_px * lens.size_px, 3), np.float32)
    picture[inside] = seen
    return picture.reshape(lens.size_px, lens.size_px, 3)


def transfer(light: Array) -> Array:
    """Linear light as BT.709's R'G'B' between 0 and 1 [BT709-6, item 1.2]."""
    light = np.clip(light, 0, 1)
    return np.where(light < 0.018, 4.5 * light, 1.099 * light**0.45 - 0.099)


def planes(light: Array, bits: int = 8, chroma: str = "420") -> tuple[Array, Array, Array]:
    """Limited-range BT.709 planes of linear light; of colour, each value is the mean of the pixels that share it."""
    scale, kind = 1 << bits - 8, np.uint8 if bits == 8 else np.uint16
    coded = transfer(light)
    luma = coded @ np.array([0.2126, 0.7152, 0.0722], np.float32)
    across, down = {"420": (2, 2), "422": (2, 1), "444": (1, 1)}[chroma]
    height, width = luma.shape
    found = [np.round((16 + 219 * luma) * scale).astype(kind)]
    for channel, span in ((2, 1.8556), (0, 1.5748)):
        whole = (coded[..., channel] - luma) / span
        shared = whole.reshape(height // down, down, width // across, across).mean(axis=(1, 3))
        found.append(np.round((128 + 224 * shared) * scale).astype(kind))
    return found[0], found[1], found[2]


def write_number(luma: Array, number: int, bits: int = 8) -> None:
    """Writes a number into the upper left corner, outside the image circle, as black and white cells with a parity."""
    cell = luma.shape[1] // 40
    values = [1, 0, *(number >> place & 1 for place in range(15, -1, -1)), bin(number).count("1") & 1, 0]
    for place, value in enumerate(values):
        row, column = divmod(place, NUMBER_COLUMNS)
        luma[row * cell : (row + 1) * cell, column * cell : (column + 1) * cell] = (200 if value else 40) << bits - 8


def read_corner(luma: Array) -> int | None:
    """The number in the corner of a lens's picture; None where its parity says that it cannot be read."""
    cell = luma.shape[1] // 40
    inner = slice(cell // 4, cell - cell // 4)
    levels = []
    for row in range(NUMBER_ROWS):
        for column in range(NUMBER_COLUMNS):
            part = luma[row * cell : (row + 1) * cell, column * cell : (column + 1) * cell]
            levels.append(float(part[inner, inner].mean()))
    values = [int(level > (levels[0] + levels[1]) / 2) for level in levels[2:]]
    number = int("".join(map(str, values[:16])), 2)
    return number if values[16] == bin(number).count("1") & 1 else None
