"""The gallery of the lighthouse as light along any ray: what judges a stitch must know what is seen from everywhere.

Metres, x to the east, y to the north, z up, the sea at z = 0, as in `scene`; the cameras stand on the gallery, on a
round floor with rails, people near them, and rocks, a second tower, ships and clouds far away. Colours are linear
light, red, green and blue, 1 a white wall in the sun. Everything is drawn from the arguments alone: the same ray at the
same moment gives the same light, whichever lens it falls through.
"""

from __future__ import annotations

from dataclasses import dataclass, field
from typing import Any

import numpy as np
from numpy.typing import NDArray

# Light and lengths, in single precision throughout.
Array = NDArray[Any]

FLOOR_M = 30.0
FLOOR_RADIUS_M = 3.6
EYE_M = 31.6
FAR_M = 20.0
# The board that carries the picture's number: its middle, and half its width and height.
BOARD_MIDDLE = (0.0, 24.0, 33.0)
BOARD_HALF = (7.0, 2.0)
BOARD_BITS = 16
_INFINITE_M = 1e6


@dataclass(frozen=True, slots=True)
class Person:
    """Somebody who stands on the gallery, as an upright cylinder with a head; clothes have stripes and buttons."""

    east_m: float
    north_m: float
    radius_m: float = 0.24
    height_m: float = 1.72
    colour: tuple[float, float, float] = (0.5, 0.1, 0.08)
    # How far it walks to and fro, and in which time.
    sway_m: float = 0.0
    sway_s: float = 3.0


@dataclass(frozen=True, slots=True)
class Moment:
    """What changes: the time, and the number on the board."""

    time_s: float
    number: int = 0


PEOPLE = (
    Person(0.9, 1.4, colour=(0.55, 0.12, 0.08), sway_m=0.15),
    Person(-1.5, -0.3, colour=(0.08, 0.16, 0.42)),
    Person(1.9, -0.4, colour=(0.5, 0.42, 0.1), sway_m=0.3, sway_s=4.0),
    Person(-0.7, -2.6, colour=(0.1, 0.35, 0.2)),
)


@dataclass(frozen=True)
class StillView:
    """What some rays see of what stands still."""

    beams: _Beams
    colour: Array
    depth: Array
    shape: tuple[int, ...]


@dataclass(frozen=True)
class RayScene:
    """The scene. A seed gives it other textures, and other places for what stands near."""

    seed: int = 0
    people: tuple[Person, ...] = PEOPLE
    rails: bool = True
    # How much light there is: 1 a bright day.
    light: float = 1.0
    # It follows from the seed.
    _noise: NDArray[np.float32] = field(init=False, repr=False, compare=False)

    def __post_init__(self) -> None:
        dice = np.random.default_rng(1000 + self.seed)
        object.__setattr__(self, "_noise", dice.random((256, 256), np.float32))
        if self.seed:
            moved = tuple(
                Person(
                    float(person.east_m * turn[0] - person.north_m * turn[1]),
                    float(person.east_m * turn[1] + person.north_m * turn[0]),
                    person.radius_m,
                    person.height_m,
                    tuple(dice.uniform(0.05, 0.6, 3).tolist()),
                    person.sway_m,
                    person.sway_s,
                )
                for person in self.people
                for turn in [_turn(dice.uniform(-0.6, 0.6))]
            )
            object.__setattr__(self, "people", moved)

    def see(self, origin: NDArray[Any], rays: NDArray[Any], moment: Moment) -> tuple[Array, Array]:
        """What rays see.

        Args:
            origin: where they start, in metres: one place, or one for each ray.
            rays: unit directions, shape (…, 3).
            moment: when.

        Returns:
            linear light, shape (…, 3), and how far away it comes from in metres, shape (…).
        """
        return self.see_moving(self.see_still(origin, rays, moment), moment)

    def see_still(self, origin: NDArray[Any], rays: NDArray[Any], moment: Moment) -> StillView:
        """The part of `see` that stands still, or nearly: sea and clouds drift by less than can be seen in a second."""
        flat = np.ascontiguousarray(rays, np.float32).reshape(-1, 3)
        start = np.broadcast_to(np.asarray(origin, np.float32), rays.shape).reshape(-1, 3)
        beams = _Beams(start, flat)
        colour, depth = self._sky(flat, moment), np.full(len(flat), _INFINITE_M, np.float32)
        self._sea(start, flat, moment, colour, depth)
        self._towers(beams, colour, depth)
        self._floor(start, flat, colour, depth)
        if self.rails:
            self._rails(beams, colour, depth)
        for number, person in enumerate(self.people):
            if not person.sway_m:
                self._person(beams, moment, person, number, colour, depth)
        return StillView(beams, colour, depth, rays.shape[:-1])

    def see_moving(self, still: StillView, moment: Moment) -> tuple[Array, Array]:
        """The rest of `see`, before what stands still."""
        colour, depth = still.colour.copy(), still.depth.copy()
        self._ships(still.beams, moment, colour, depth)
        self._board(still.beams, moment, colour, depth)
        for number, person in enumerate(self.people):
            if person.sway_m:
                self._person(still.beams, moment, person, number, colour, depth)
        self._lamp(still.beams, moment, colour, depth)
        return (colour * np.float32(self.light)).reshape(*still.shape, 3), depth.reshape(still.shape)

    # -- what is far --------------------------------------------------------------------------------

    def _sky(self, rays: Array, moment: Moment) -> Array:
        up = np.clip(rays[:, 2], -1, 1)
        height = np.clip(up, 0, 1)[:, None]
        found: Array = (1 - height) * _colour(0.62, 0.66, 0.66) + height * _colour(0.10, 0.22, 0.45)
        above = np.flatnonzero(up > 0)
        rays, up, colour = rays[above], up[above], found[above]
        # Clouds on a ceiling 1.5 km up, drifting.
        away = 1.5 / np.maximum(up, 0.06)
        east = rays[:, 0] * away + 0.004 * np.float32(moment.time_s)
        clouds = self._texture(east * 1.1, rays[:, 1] * away * 1.1, 4)
        cover = np.clip((clouds - 0.42) * 4, 0, 1) * np.clip(up * 6, 0, 1)
        colour += cover[:, None] * (_colour(0.85, 0.84, 0.80) * (0.6 + 0.4 * clouds[:, None]) - colour)
        sun = np.clip(rays @ np.array([0.48, -0.62, 0.62], np.float32), 0, 1)
        colour += (3.0 * np.clip((sun - 0.999) / 0.001, 0, 1) + 0.4 * sun**200)[:, None] * _colour(1, 0.95, 0.85)
        found[above] = colour
        return found

    def _sea(self, start: Array, rays: Array, moment: Moment, colour: Array, depth: Array) -> None:
        below = rays[:, 2] < -1e-4
        reach = np.where(below, -start[:, 2] / np.minimum(rays[:, 2], -1e-4), _INFINITE_M)
        hit = below & (reach < depth)
        east, north = start[hit, 0] + reach[hit] * rays[hit, 0], start[hit, 1] + reach[hit] * rays[hit, 1]
        away = np.clip(reach[hit] / 3000, 0, 1)[:, None]
        drift = np.float32(moment.time_s * 0.8)
        waves = self._texture(east * 0.06 + drift * 0.05, north * 0.09, 4) - 0.5
        # Waves too small to be seen apart are not drawn: they would only glitter.
        strength = np.exp(-reach[hit] / 500)[:, None]
        base = (1 - away) * _colour(0.02, 0.08, 0.10) + away * _colour(0.30, 0.36, 0.38)
        colour[hit] = base + strength * waves[:, None] * _colour(0.10, 0.16, 0.17)
        depth[hit] = reach[hit]
        # Rocks in the sea: patches with sharp edges.
        rocks = self._texture(east * 0.013 + 7, north * 0.013 + 3, 3)
        patch = np.clip((rocks - 0.66) * 60, 0, 1)[:, None] * (reach[hit] < 900)[:, None]
        stone = self._texture(east * 0.5, north * 0.5, 3)[:, None] * _colour(0.30, 0.27, 0.22)
        colour[hit] += patch * (stone - colour[hit])

    def _ships(self, beams: _Beams, moment: Moment, colour: Array, depth: Array) -> None:
        for number in range(8):
            bearing = 2 * np.pi * number / 8 + 0.3
            away = 90 + 40 * (number % 3)
            along = (9.0 * moment.time_s + 20 * number) % 60 - 30
            middle = (
                away * np.sin(bearing) + along * np.cos(bearing),
                away * np.cos(bearing) - along * np.sin(bearing),
                3.0,
            )
            paint = (_colour(0.45, 0.06, 0.04), _colour(0.7, 0.7, 0.62), _colour(0.05, 0.1, 0.3))[number % 3]
            self._panel(beams, middle, (8.0, 3.0), paint, colour, depth, 1.1)
            self._panel(beams, (middle[0], middle[1], 10.0), (0.5, 4.0), _colour(0.75, 0.7, 0.6), colour, depth, 9.0)

    def _towers(self, beams: _Beams, colour: Array, depth: Array) -> None:
        for east, north, radius, top in ((40.0, 70.0, 5.0, 44.0), (-65.0, -30.0, 7.0, 26.0), (30.0, -80.0, 6.0, 36.0)):
            hit, reach, around, height = _cylinder(beams, (east, north), radius, 0.0, top, depth)
            bands = (np.floor(height / 5) % 2)[:, None]
            paint = bands * _colour(0.62, 0.10, 0.06) + (1 - bands) * _colour(0.8, 0.78, 0.70)
            # Courses of stone, and windows.
            joint = ((height * 1.2) % 1 < 0.12) | ((around * radius * 0.7 + np.floor(height * 1.2) * 0.5) % 1 < 0.1)
            window = (np.abs((around * 4 / np.pi) % 1 - 0.5) < 0.12) & (np.abs(height % 5 - 2.5) < 0.9)
            light = 0.35 + 0.65 * np.clip(np.cos(around - 2.5), 0, 1)
            light = light * np.where(joint, 0.75, 1) * np.where(window, 0.12, 1)
            colour[hit], depth[hit] = paint * light[:, None], reach

    def _board(self, beams: _Beams, moment: Moment, colour: Array, depth: Array) -> None:
        hit, reach, across, up = _plane(beams, BOARD_MIDDLE, BOARD_HALF, depth, 0.0)
        cells = np.clip(((across / BOARD_HALF[0] + 1) / 2 * (BOARD_BITS + 2)).astype(int), 0, BOARD_BITS + 1)
        lit = np.array([1, 0, *(moment.number >> place & 1 for place in range(BOARD_BITS - 1, -1, -1))])
        paint = np.where((np.abs(up) < 1.3) & (lit[cells] == 1), 0.9, 0.04)[:, None] * _colour(1, 1, 0.95)
        paint[np.abs(up) > 1.7] = _colour(0.5, 0.3, 0.02)
        colour[hit], depth[hit] = paint, reach

    # -- what is near -------------------------------------------------------------------------------

    def _floor(self, start: Array, rays: Array, colour: Array, depth: Array) -> None:
        below = rays[:, 2] < -1e-3
        reach = np.where(below, (FLOOR_M - start[:, 2]) / np.minimum(rays[:, 2], -1e-3), _INFINITE_M)
        east, north = start[:, 0] + reach * rays[:, 0], start[:, 1] + reach * rays[:, 1]
        hit = (reach > 0) & (reach < depth) & (east**2 + north**2 < FLOOR_RADIUS_M**2)
        east, north = east[hit], north[hit]
        tiles = (np.floor(east / 0.4) + np.floor(north / 0.4)) % 2
        joint = (np.abs(east / 0.4 % 1 - 0.5) > 0.47) | (np.abs(north / 0.4 % 1 - 0.5) > 0.47)
        grain = 0.7 + 0.6 * self._texture(east * 9, north * 9, 3)
        paint = np.where(joint, 0.05, np.where(tiles == 1, 0.34, 0.22)) * grain
        colour[hit], depth[hit] = paint[:, None] * _colour(1.0, 0.93, 0.82), reach[hit]

    def _rails(self, beams: _Beams, colour: Array, depth: Array) -> None:
        rim = FLOOR_RADIUS_M - 0.1
        for height in (FLOOR_M + 0.55, FLOOR_M + 1.05):
            hit, reach, around, up = _cylinder(beams, (0.0, 0.0), rim, height - 0.03, height + 0.03, depth, inside=True)
            rust = self._texture(around * 40, up * 30, 3)
            colour[hit] = (0.10 + 0.25 * rust[:, None]) * _colour(0.9, 0.85, 0.8)
            depth[hit] = reach
        for number in range(20):
            turn = 2 * np.pi * number / 20
            place = (float(rim * np.cos(turn)), float(rim * np.sin(turn)))
            hit, reach, around, up = _cylinder(beams, place, 0.035, FLOOR_M, FLOOR_M + 1.1, depth)
            stripes = (np.floor(up * 12) % 2)[:, None]
            light = (0.4 + 0.6 * np.clip(np.cos(around - 2.5), 0, 1))[:, None]
            colour[hit] = light * (stripes * _colour(0.65, 0.6, 0.5) + (1 - stripes) * _colour(0.06, 0.06, 0.07))
            depth[hit] = reach

    def _person(self, beams: _Beams, moment: Moment, person: Person, number: int, colour: Array, depth: Array) -> None:
        moved = person.sway_m * np.sin(2 * np.pi * moment.time_s / person.sway_s)
        place = (person.east_m + moved, person.north_m - moved / 2)
        shoulders = FLOOR_M + person.height_m - 0.27
        hit, reach, around, up = _cylinder(beams, place, person.radius_m, FLOOR_M, shoulders, depth)
        weave = self._texture(around * 6 + number * 5, (up - FLOOR_M) * 14, 3)
        stripes = (np.floor((up - FLOOR_M) * 9) % 2) * 0.5 + 0.5
        buttons = (np.abs(around % 1.2 - 0.6) < 0.08) & (np.abs((up * 7) % 1 - 0.5) < 0.2)
        light = (0.45 + 0.55 * np.clip(np.cos(around - 2.5), 0, 1)) * (0.6 + 0.6 * weave) * stripes
        paint = light[:, None] * np.array(person.colour, np.float32) * 2
        paint[buttons] = _colour(0.8, 0.75, 0.5)
        colour[hit], depth[hit] = paint, reach
        head = (*place, shoulders + 0.14)
        hit, reach, normal = _ball(beams, head, 0.13, depth)
        hair = (normal[:, 2] > 0.35)[:, None]
        freckles = self._texture(normal[:, 0] * 8 + number, normal[:, 2] * 8, 3)[:, None]
        skin = (0.5 + 0.4 * freckles) * _colour(0.75, 0.5, 0.38)
        shade = (0.5 + 0.5 * np.clip(normal @ np.array([0.5, -0.6, 0.62], np.float32), 0, 1))[:, None]
        colour[hit] = shade * np.where(hair, _colour(0.10, 0.06, 0.03) * (0.5 + freckles), skin)
        depth[hit] = reach

    def _lamp(self, beams: _Beams, moment: Moment, colour: Array, depth: Array) -> None:
        turn = 2 * np.pi * moment.time_s / 5
        place = (2.9 * np.cos(turn), 2.9 * np.sin(turn), EYE_M + 0.5 + 0.3 * np.sin(2 * turn))
        hit, reach, _ = _ball(beams, place, 0.09, depth)
        colour[hit], depth[hit] = _colour(1.6, 1.35, 0.8), reach

    # -- shapes -------------------------------------------------------------------------------------

    def _panel(
        self,
        beams: _Beams,
        middle: tuple[float, float, float],
        half: tuple[float, float],
        paint: Array,
        colour: Array,
        depth: Array,
        stripes: float,
    ) -> None:
        hit, reach, across, up = _plane(beams, middle, half, depth, float(np.arctan2(middle[0], middle[1])))
        boards = 0.6 + 0.4 * ((np.floor(across * stripes) + np.floor(up * stripes)) % 2)
        colour[hit], depth[hit] = boards[:, None] * paint, reach

    def _texture(self, across: Array, up: Array, octaves: int) -> Array:
        """Smooth noise between 0 and 1, each octave finer and weaker than the one before."""
        found, weight, whole = np.zeros(len(across), np.float32), 1.0, 0.0
        across, up = across.astype(np.float32), up.astype(np.float32)
        for octave in range(octaves):
            found += np.float32(weight) * self._smooth(across + 17 * octave, up + 31 * octave)
            whole += weight
            weight *= 0.55
            across, up = across * 2, up * 2
        return found / np.float32(whole)

    def _smooth(self, across: Array, up: Array) -> Array:
        left, below = np.floor(across), np.floor(up)
        right_share, up_share = across - left, up - below
        right_share *= right_share * (3 - 2 * right_share)
        up_share *= up_share * (3 - 2 * up_share)
        column, row = left.astype(np.int32) & 255, below.astype(np.int32) & 255
        next_column, next_row = (column + 1) & 255, ((row + 1) & 255) << 8
        row <<= 8
        # One index into all of it: most of the time that drawing takes is spent here.
        noise = self._noise.ravel()
        low, high = noise.take(row + column), noise.take(next_row + column)
        low += (noise.take(row + next_column) - low) * right_share
        high += (noise.take(next_row + next_column) - high) * right_share
        low += (high - low) * up_share
        return low


class _Beams:
    """Rays with their starts, and which of them can meet a thing at all: the others need no arithmetic."""

    def __init__(self, start: Array, rays: Array) -> None:
        self.start, self.rays = start, rays
        self._columns = np.ascontiguousarray(rays.T)
        # Rays that start elsewhere, as those of a moving camera's later rows, may meet it from there.
        self._apart_m = float(np.abs(start - start[0]).max()) if start.strides[0] else 0.0

    def toward(self, middle: tuple[float, float, float], bound: float) -> NDArray[np.int64]:
        """Those that can meet what lies within a ball."""
        offset = np.array(middle, np.float32) - self.start[0]
        away = float(np.linalg.norm(offset))
        bound += self._apart_m
        if away <= bound:
            return np.arange(len(self.rays))
        x, y, z = offset / np.float32(away)
        along = self._columns[0] * x
        along += self._columns[1] * y
        along += self._columns[2] * z
        return np.flatnonzero(along >= np.float32(np.sqrt(1 - (bound / away) ** 2) - 1e-4))


def _colour(red: float, green: float, blue: float) -> Array:
    return np.array([red, green, blue], np.float32)


def _turn(angle: float) -> tuple[float, float]:
    return float(np.cos(angle)), float(np.sin(angle))


def _cylinder(
    beams: _Beams,
    place: tuple[float, float],
    radius: float,
    bottom: float,
    top: float,
    depth: Array,
    *,
    inside: bool = False,
) -> tuple[NDArray[np.int64], Array, Array, Array]:
    """Which rays meet an upright cylinder nearer than `depth`, how far away, at which angle round it and how high."""
    bound = float(np.hypot(radius, (top - bottom) / 2))
    able = beams.toward((*place, (bottom + top) / 2), bound)
    start, rays = beams.start[able], beams.rays[able]
    east, north = start[:, 0] - np.float32(place[0]), start[:, 1] - np.float32(place[1])
    level = np.maximum(rays[:, 0] ** 2 + rays[:, 1] ** 2, 1e-9)
    half = east * rays[:, 0] + north * rays[:, 1]
    under = half**2 - level * (east**2 + north**2 - np.float32(radius) ** 2)
    root = np.sqrt(np.maximum(under, 0))
    reach = (-half + root) / level if inside else (-half - root) / level
    height = start[:, 2] + reach * rays[:, 2]
    hit = np.flatnonzero((under > 0) & (reach > 0) & (reach < depth[able]) & (height >= bottom) & (height <= top))
    reach, height = reach[hit], height[hit]
    around = np.arctan2(north[hit] + reach * rays[hit, 1], east[hit] + reach * rays[hit, 0])
    return able[hit], reach, around, height


def _plane(
    beams: _Beams, middle: tuple[float, float, float], half: tuple[float, float], depth: Array, bearing: float
) -> tuple[NDArray[np.int64], Array, Array, Array]:
    """Which rays meet an upright rectangle that faces the origin from a bearing, and where on it, from its middle."""
    able = beams.toward(middle, float(np.hypot(*half)))
    start, rays = beams.start[able], beams.rays[able]
    outward = np.array([np.sin(bearing), np.cos(bearing), 0], np.float32)
    right = np.array([np.cos(bearing), -np.sin(bearing), 0], np.float32)
    along = rays @ outward
    offset = np.array(middle, np.float32) - start
    reach = (offset @ outward) / np.where(np.abs(along) > 1e-6, along, 1e-6)
    across = reach * (rays @ right) - offset @ right
    up = reach * rays[:, 2] - offset[:, 2]
    near = (reach > 0) & (reach < depth[able])
    hit = np.flatnonzero(near & (np.abs(across) <= half[0]) & (np.abs(up) <= half[1]))
    return able[hit], reach[hit], across[hit], up[hit]


def _ball(
    beams: _Beams, middle: tuple[float, float, float], radius: float, depth: Array
) -> tuple[NDArray[np.int64], Array, Array]:
    """Which rays meet a ball nearer than `depth`, how far away, and the directions outward there."""
    able = beams.toward(middle, radius)
    start, rays = beams.start[able], beams.rays[able]
    offset = np.array(middle, np.float32) - start
    half = (offset * rays).sum(axis=1)
    under = half**2 - (offset**2).sum(axis=1) + np.float32(radius) ** 2
    reach = half - np.sqrt(np.maximum(under, 0))
    hit = np.flatnonzero((under > 0) & (reach > 0) & (reach < depth[able]))
    normal = (rays[hit] * reach[hit, None] - offset[hit]) / np.float32(radius)
    return able[hit], reach[hit], normal


def read_board(luma: NDArray[Any]) -> int | None:
    """The number on a board, from a picture of it alone whose edges are the board's; None where it cannot be read."""
    middle = luma[luma.shape[0] * 2 // 5 : luma.shape[0] * 3 // 5].astype(float).mean(axis=0)
    cells = [part.mean() for part in np.array_split(middle, BOARD_BITS + 2)]
    if cells[0] - cells[1] < 20:
        return None
    bits = [cell > (cells[0] + cells[1]) / 2 for cell in cells[2:]]
    return int("".join("1" if bit else "0" for bit in bits), 2)
