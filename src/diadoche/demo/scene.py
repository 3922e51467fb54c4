"""The drawn scene: a lighthouse on a rock, a turning lamp, a sea that moves and a boat that crosses.

Metres, with x to the east, y to the north, z up; the tower stands at the origin, the sea is z = 0.
Every pixel is the ray of a pinhole camera, so that cameras at different places agree about what they
see. Pictures are BT.709 code values of limited range, drawn straight as luma and chroma.

A number is written into every picture twice: as digits, and as a row of blocks that a test can read.
"""

from __future__ import annotations

from dataclasses import dataclass
from fractions import Fraction

import numpy as np
from numpy.typing import NDArray

Plane = NDArray[np.uint8]

TOWER_RADIUS_M, TOWER_HEIGHT_M = 4.0, 30.0
ROOM_RADIUS_M, ROOM_TOP_M = 2.6, 34.0
LAMP_TURN_S = 4.0
FLASH_EVERY_S = 2
BOAT_SPEED_M_S = 24.0
NUMBER_BITS = 16
BLOCK_PX = 32
STRIP_TOP_PX = 32
STRIP_LEFT_PX = 32

_DIGITS = {
    "0": (7, 5, 5, 5, 7),
    "1": (2, 6, 2, 2, 7),
    "2": (7, 1, 7, 4, 7),
    "3": (7, 1, 7, 1, 7),
    "4": (5, 5, 7, 1, 1),
    "5": (7, 4, 7, 1, 7),
    "6": (7, 4, 7, 5, 7),
    "7": (7, 1, 2, 2, 2),
    "8": (7, 5, 7, 5, 7),
    "9": (7, 5, 7, 1, 7),
}
_SINES = np.round(127 * np.sin(2 * np.pi * np.arange(256) / 256)).astype(np.int16)


@dataclass(frozen=True, slots=True)
class Camera:
    """Where a camera stands and looks. Angles in degrees; yaw 0 looks north, pitch up is positive."""

    east_m: float
    north_m: float
    up_m: float
    yaw_deg: float
    pitch_deg: float
    view_deg: float
    width_px: int
    height_px: int


def yuv709(red: float, green: float, blue: float) -> tuple[float, float, float]:
    """R'G'B' from 0 to 1 as limited-range 8-bit Y'CbCr [BT709-6, items 3.2 to 3.5]."""
    luma = 0.2126 * red + 0.7152 * green + 0.0722 * blue
    return 16 + 219 * luma, 128 + 224 * (blue - luma) / 1.8556, 128 + 224 * (red - luma) / 1.5748


class View:
    """The scene through one camera, for some of its lines: all, or those of one field.

    Args:
        camera: the optics.
        field: None for whole pictures, 0 for the even lines (top field), 1 for the odd ones.
    """

    def __init__(self, camera: Camera, field: int | None = None) -> None:
        self.camera = camera
        rows = slice(None) if field is None else slice(field, None, 2)
        self._line_step = 1 if field is None else 2
        self._first_line = field or 0
        rays = _rays(camera, 1)[rows]
        colour, self._sea_top, self._amplitude, self._phase = _paint(camera, rays)
        self._luma = np.clip(colour[..., 0], 16, 235).astype(np.uint8)
        self._wedge_angle, self._glow = self._beam_maps(rays.shape[:2])
        half = _paint(camera, _rays(camera, 2)[rows])[0]
        self._blue = half[..., 1].astype(np.uint8)
        self._red = half[..., 2].astype(np.uint8)

    def at(self, time_s: Fraction, number: int) -> tuple[Plane, Plane, Plane]:
        """Luma and the two chroma planes (half width, half height) of one moment."""
        luma, blue, red = self._luma.copy(), self._blue.copy(), self._red.copy()
        seconds = float(time_s)
        self._move_sea(luma, seconds)
        self._shine(luma, seconds)
        self._sail(luma, blue, red, seconds)
        if is_flash(time_s):
            self._box(luma, self.camera.width_px - 140, 32, 100, 100, 235)
        self._write_number(luma, number)
        return luma, blue, red

    def _move_sea(self, luma: Plane, seconds: float) -> None:
        sea = luma[self._sea_top :]
        waves = _SINES[(self._phase + np.uint8(int(seconds * 160) & 255)) & np.uint8(255)]
        waves *= self._amplitude
        waves >>= 7
        waves += sea
        sea[:] = waves

    def _beam_maps(self, shape: tuple[int, int]) -> tuple[NDArray[np.uint8], NDArray[np.int16]]:
        column, row = _project(self.camera, (0.0, 0.0, 32.0))
        lines = np.arange(shape[0]) * self._line_step + self._first_line - row
        across = np.arange(shape[1]) - column
        angle = np.arctan2(lines[:, None], across[None, :])
        away = np.hypot(lines[:, None], across[None, :])
        glow = 110 * np.exp(-away / (0.22 * self.camera.width_px))
        return ((angle / np.pi + 1) * 127.9).astype(np.uint8), glow.astype(np.int16)

    def _shine(self, luma: Plane, seconds: float) -> None:
        turn = int(256 * (seconds / LAMP_TURN_S % 1.0))
        distance = (np.arange(256) - turn + 128) % 256 - 128
        wedge = np.round(64 * np.exp(-((distance / 5.0) ** 2))).astype(np.int16)
        sky = luma[: self._sea_top]
        light = wedge[self._wedge_angle[: self._sea_top]]
        light *= self._glow[: self._sea_top]
        light >>= 6
        light += sky
        np.minimum(light, 235, out=light)
        sky[:] = light

    def _sail(self, luma: Plane, blue: Plane, red: Plane, seconds: float) -> None:
        east = -70 + (BOAT_SPEED_M_S * seconds) % 140
        column, row = _project(self.camera, (east, -45.0, 0.0))
        top = _project(self.camera, (east, -45.0, 10.0))[1]
        unit = max(1.0, (row - top) / 10)
        hull = yuv709(0.75, 0.16, 0.10)
        for left, up, width, high, colour in ((-9, 3, 18, 3, hull), (-1, 10, 1.2, 7, yuv709(0.9, 0.9, 0.85))):
            box = (
                round(column + left * unit),
                round(row - up * unit),
                max(2, round(width * unit)),
                max(2, round(high * unit)),
            )
            self._box(luma, *box, colour[0])
            for plane, value in ((blue, colour[1]), (red, colour[2])):
                self._box(plane, box[0] // 2, box[1] // 2, box[2] // 2, box[3] // 2, value)

    def _box(self, plane: Plane, left: int, top: int, width: int, height: int, value: float) -> None:
        """Fills a box given in lines of the whole picture, on the lines that this view has."""
        first = -(-(top - self._first_line) // self._line_step)
        last = -(-(top + height - self._first_line) // self._line_step)
        plane[max(0, first) : max(0, last), max(0, left) : max(0, left + width)] = round(value)

    def _write_number(self, luma: Plane, number: int) -> None:
        for place, bit in enumerate(number_blocks(number)):
            self._box(luma, STRIP_LEFT_PX + place * BLOCK_PX, STRIP_TOP_PX, BLOCK_PX, BLOCK_PX, 200 if bit else 40)
        for place, digit in enumerate(f"{number:05}"):
            for line, bits in enumerate(_DIGITS[digit]):
                for column in range(3):
                    value = 220 if bits >> (2 - column) & 1 else 30
                    self._box(luma, STRIP_LEFT_PX + place * 48 + column * 12, 80 + line * 12, 12, 12, value)


def number_blocks(number: int) -> list[int]:
    """A one and a zero to find the levels by, the bits from the highest down, and their parity.

    Written so that one bit changes from a number to the next: fields that follow each other are all equally alike.
    """
    gray = number ^ number >> 1
    bits = [gray >> place & 1 for place in range(NUMBER_BITS - 1, -1, -1)]
    return [1, 0, *bits, sum(bits) & 1]


def read_number(luma: Plane, *, scale: float = 1.0, line_step: int = 1) -> int | None:
    """The number in a picture, or None where the blocks do not agree with their parity.

    Args:
        luma: lines of the picture, all or those of one field.
        scale: size of this picture against the one that was drawn.
        line_step: 2 when only one field's lines are given.
    """
    row = int((STRIP_TOP_PX + BLOCK_PX // 2) * scale / line_step)
    reach = max(1, int(BLOCK_PX * scale / 5))
    levels = []
    for place in range(NUMBER_BITS + 3):
        column = int((STRIP_LEFT_PX + (place + 0.5) * BLOCK_PX) * scale)
        levels.append(float(luma[row - 2 : row + 2, column - reach : column + reach].mean()))
    middle = (levels[0] + levels[1]) / 2
    bits = [int(level > middle) for level in levels[2:]]
    if levels[0] - levels[1] < 40 or sum(bits[:-1]) & 1 != bits[-1]:
        return None
    number = 0
    for bit in bits[:-1]:
        number = number << 1 | (number & 1) ^ bit
    return number


def is_flash(time_s: Fraction) -> bool:
    """Whether the lamp flashes: the first 40 ms of every second second."""
    return time_s % FLASH_EVERY_S < Fraction(1, 25)


def sound(first_sample: int, samples: int, rate_hz: int) -> NDArray[np.float32]:
    """Sea on two channels and a 1 kHz beep on every flash. Shape (2, samples), -1 to 1."""
    position = np.arange(first_sample, first_sample + samples)
    seconds = position / rate_hz
    noise = np.random.default_rng(first_sample // samples if samples else 0).standard_normal((2, samples))
    sea = 0.02 * noise * (1 + 0.6 * np.sin(2 * np.pi * 0.3 * seconds))
    beep = 0.5 * np.sin(2 * np.pi * 1000 * seconds) * (position % (FLASH_EVERY_S * rate_hz) < rate_hz // 25)
    mixed: NDArray[np.float32] = (sea + beep).astype(np.float32)
    return mixed


def _axes(camera: Camera) -> tuple[NDArray[np.float64], NDArray[np.float64], NDArray[np.float64]]:
    yaw, pitch = np.radians(camera.yaw_deg), np.radians(camera.pitch_deg)
    ahead = np.array([np.sin(yaw) * np.cos(pitch), np.cos(yaw) * np.cos(pitch), np.sin(pitch)])
    right = np.array([np.cos(yaw), -np.sin(yaw), 0.0])
    return right, np.cross(right, ahead), ahead


def _focal_px(camera: Camera) -> float:
    return float(camera.width_px / 2 / np.tan(np.radians(camera.view_deg) / 2))


def _rays(camera: Camera, step: int) -> NDArray[np.float32]:
    """Directions of the pixels' centres; with step 2, of the centres of two by two pixels."""
    right, up, ahead = (axis.astype(np.float32) for axis in _axes(camera))
    across = (np.arange(0, camera.width_px, step, dtype=np.float32) + step / 2) - camera.width_px / 2
    down = (np.arange(0, camera.height_px, step, dtype=np.float32) + step / 2) - camera.height_px / 2
    rays = (
        ahead * np.float32(_focal_px(camera))
        + across[None, :, None].astype(np.float32) * right
        - down[:, None, None].astype(np.float32) * up
    )
    normal: NDArray[np.float32] = rays / np.linalg.norm(rays, axis=2, keepdims=True)
    return normal


def _project(camera: Camera, point: tuple[float, float, float]) -> tuple[float, float]:
    """Column and row of a point in front of the camera, in pixels."""
    right, up, ahead = _axes(camera)
    offset = np.array(point) - np.array([camera.east_m, camera.north_m, camera.up_m])
    depth = max(1.0, float(offset @ ahead))
    scale = _focal_px(camera) / depth
    return camera.width_px / 2 + float(offset @ right) * scale, camera.height_px / 2 - float(offset @ up) * scale


def _paint(
    camera: Camera, rays: NDArray[np.float32]
) -> tuple[NDArray[np.float32], int, NDArray[np.int16], NDArray[np.uint8]]:
    """The still part of the scene, and the maps by which its sea moves."""
    colour = np.empty(rays.shape, np.float32)
    height = np.clip(rays[..., 2] * 2.2, 0, 1)[..., None]
    low, high = _colour(yuv709(0.82, 0.84, 0.80)), _colour(yuv709(0.45, 0.60, 0.74))
    colour[:] = low + (high - low) * height
    is_sea = rays[..., 2] < -0.002
    reach = camera.up_m / np.where(is_sea, -rays[..., 2], 1)
    near, far = _colour(yuv709(0.07, 0.20, 0.26)), _colour(yuv709(0.33, 0.47, 0.52))
    colour[is_sea] = near + (far - near) * np.clip(reach[is_sea] / 900, 0, 1)[:, None]
    _paint_tower(camera, rays, colour)
    sea_top = int(np.argmax(is_sea.any(axis=1))) if is_sea.any() else rays.shape[0]
    along = (camera.east_m + rays[..., 0] * reach) * 0.35 + (camera.north_m + rays[..., 1] * reach) * 0.9
    phase = (along * 40).astype(np.int64).astype(np.uint8)[sea_top:]
    strength = np.where(_is_bare_sea(colour, is_sea), 14 * np.exp(-reach / 400), 0)
    return colour, sea_top, strength.astype(np.int16)[sea_top:], phase


def _colour(code_values: tuple[float, float, float]) -> NDArray[np.float32]:
    return np.array(code_values, np.float32)


def _is_bare_sea(colour: NDArray[np.float32], is_sea: NDArray[np.bool_]) -> NDArray[np.bool_]:
    bare: NDArray[np.bool_] = is_sea & (colour[..., 1] > 128)
    return bare


def _paint_tower(camera: Camera, rays: NDArray[np.float32], colour: NDArray[np.float32]) -> None:
    white, band = _colour(yuv709(0.90, 0.88, 0.82)), _colour(yuv709(0.70, 0.20, 0.13))
    rock, glass = _colour(yuv709(0.20, 0.19, 0.17)), _colour(yuv709(0.98, 0.93, 0.70))
    for radius, bottom, top, paint in (
        (16.0, 0.0, 3.0, rock),
        (TOWER_RADIUS_M, 3.0, TOWER_HEIGHT_M, white),
        (TOWER_RADIUS_M, 14.0, 20.0, band),
        (ROOM_RADIUS_M, TOWER_HEIGHT_M, ROOM_TOP_M, glass),
    ):
        hit, light = _cylinder(camera, rays, radius, bottom, top)
        colour[hit] = paint
        colour[hit, 0] = 16 + (colour[hit, 0] - 16) * light[hit]


def _cylinder(
    camera: Camera, rays: NDArray[np.float32], radius: float, bottom: float, top: float
) -> tuple[NDArray[np.bool_], NDArray[np.float32]]:
    """Which rays meet an upright cylinder round the origin, and how brightly the sun lights it there."""
    level = rays[..., 0] ** 2 + rays[..., 1] ** 2
    half = camera.east_m * rays[..., 0] + camera.north_m * rays[..., 1]
    inside = half**2 - level * (camera.east_m**2 + camera.north_m**2 - radius**2)
    reach = np.where(inside > 0, (-half - np.sqrt(np.maximum(inside, 0))) / np.maximum(level, 1e-9), -1)
    height = camera.up_m + reach * rays[..., 2]
    hit = (reach > 0) & (height >= bottom) & (height <= top)
    east = (camera.east_m + reach * rays[..., 0]) / radius
    north = (camera.north_m + reach * rays[..., 1]) / radius
    light = np.where(hit, 0.55 + 0.45 * np.clip(0.6 * east - 0.8 * north, 0, 1), 0.9)
    return hit | _lid(camera, rays, radius, top), light.astype(np.float32)


def _lid(camera: Camera, rays: NDArray[np.float32], radius: float, top: float) -> NDArray[np.bool_]:
    reach = (top - camera.up_m) / np.where(rays[..., 2] == 0, 1e-9, rays[..., 2])
    east, north = camera.east_m + reach * rays[..., 0], camera.north_m + reach * rays[..., 1]
    inside: NDArray[np.bool_] = (reach > 0) & (east**2 + north**2 < radius**2)
    return inside
