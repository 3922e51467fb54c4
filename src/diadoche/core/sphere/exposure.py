"""Lenses made equally bright: gains a lens and a channel, from what two lenses both see, in linear light.

Linear light is reckoned by BT.709's transfer, whatever the camera did: an assumption, and near enough for lenses of one
body, whose exposures differ by little. What is dark, clipped, or not there in both is left aside. The gains' product is
1, so that the whole becomes neither brighter nor darker; and they are steady over a take.

Of two lenses back to back, a correction fades to nothing towards each one's axis: nothing is known of how they differ
there, and each keeps the look of its own. Where lenses see much in common, as in a ring, one shows far from its axis
what another shows near to it: so it is told how they grow darker towards their rims, and that is undone too.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from typing import Any

import cv2
import numpy as np
from numpy.typing import NDArray

from diadoche.core.sphere.rig import Rig
from diadoche.core.sphere.strips import Strip, strips_of, unrolled

Array = NDArray[np.float64]
Plane = NDArray[Any]
Planes = tuple[Plane, Plane, Plane]
# Red's and blue's parts of luma [H273, table 4].
_PARTS = {
    "BT.601": (0.299, 0.114),
    "BT.2020": (0.2627, 0.0593),
    "BT.709": (0.2126, 0.0722),
    "SMPTE 240M": (0.212, 0.087),
}
# BT.709's transfer [BT709-6, item 1.2].
_POWER, _SCALE, _OFFSET, _STRAIGHT, _SLOPE = 0.45, 1.099, 0.099, 0.018, 4.5
# Of R'G'B' between 0 and 1: what is not clipped, and not lost in noise.
_DARKEST, _BRIGHTEST = 0.15, 0.88
# How far from the middle of a seam is looked, in degrees: there both lenses are equally far from their axes.
_NEAR_SEAM_DEG = 3.0
_LEAST_PLACES = 400
# No finer: medians of many places are compared, and every place costs.
_GAIN_COLUMNS = 1500
# Corrections begin and are whole at these parts of the half field.
_BEGINS, _WHOLE = 0.45, 0.88
_BACK_TO_BACK = 2
# Less than that nobody sees.
_NOTHING = 0.003
# Shading is told where one lens shows far from its axis what another shows near to it: over so much of the sphere, by
# so many places of which one is that near, and that far from the other, in squares of the half field.
_SHADING_BAND_DEG, _SHADING_COLUMNS = 60.0, 720
_TOLD_NEAR, _TOLD_APART, _LEAST_TOLD = 0.5, 0.3, 2000
_ROUNDS = 6
# No lens loses more light than this towards its rim, as a logarithm; and its light may be off by so much on the way.
_MOST_LOST = 1.6
_LEAST_SHADING = 0.02


@dataclass(frozen=True, slots=True)
class Levels:
    """How code values stand for colours.

    Args:
        bits: a sample.
        full: whether all code values are used.
        matrix: by which luma and colour are made, by its published name.
    """

    bits: int = 8
    full: bool = False
    matrix: str = "BT.709"

    @property
    def _frame(self) -> tuple[float, float, float, float]:
        """Black and the span of luma, the middle and the span of colour, in code values."""
        top = 1 << self.bits
        if self.full:
            return 0.0, top - 1.0, top / 2, top - 1.0
        scale = 1 << self.bits - 8
        return 16.0 * scale, 219.0 * scale, 128.0 * scale, 224.0 * scale

    @property
    def to_rgb(self) -> Array:
        """The 3×3 matrix from luma and colours, as parts of their spans, to R'G'B'."""
        red, blue = _PARTS.get(self.matrix.partition(" (")[0], _PARTS["BT.709"])
        to_luma = np.array([red, 1 - red - blue, blue])
        rows = np.stack((to_luma, ([0, 0, 1] - to_luma) / (2 * (1 - blue)), ([1, 0, 0] - to_luma) / (2 * (1 - red))))
        inverse: Array = np.linalg.inv(rows)
        return inverse

    def rgb(self, luma: Array, blue: Array, red: Array) -> Array:
        """R'G'B' of code values, shape (…, 3)."""
        black, span, middle, colour_span = self._frame
        parts = np.stack(((luma - black) / span, (blue - middle) / colour_span, (red - middle) / colour_span), axis=-1)
        found: Array = parts @ self.to_rgb.T
        return found

    def change(self, gains: Array) -> tuple[Array, Array]:
        """What gains in linear light do to code values: a 3×3 matrix and an offset that are added, from their middles.

        Above its straight beginning, BT.709's transfer turns a gain into a factor and an offset.
        """
        _, span, _, colour_span = self._frame
        factors = gains**_POWER
        spans = np.array([span, colour_span, colour_span])
        back = np.linalg.inv(self.to_rgb)
        matrix = back @ np.diag(factors - 1) @ self.to_rgb * spans[:, None] / spans[None, :]
        offset = back @ (_OFFSET * (factors - 1)) * spans
        return matrix, offset


def linear(coded: Array) -> Array:
    """Linear light of R'G'B' by BT.709's transfer."""
    low = coded < _SLOPE * _STRAIGHT
    return np.where(low, coded / _SLOPE, ((np.maximum(coded, 0) + _OFFSET) / _SCALE) ** (1 / _POWER))


def matched_gains(
    rig: Rig, frames: Sequence[Sequence[Planes]], levels: Levels, shared: tuple[int, int]
) -> Array | None:
    """Gains of red, green and blue for each lens, shape (lenses, 3); None where too little is seen in common.

    Args:
        rig: as aligned.
        frames: planes of the rig's pictures at some moments.
        levels: of their code values.
        shared: how many pixels across and down share a value of colour.
    """
    if not frames:
        return None
    count = len(rig.lenses)
    rows, ratios, weights = [], [], []
    for strip in strips_of(rig, 2 * _NEAR_SEAM_DEG, _GAIN_COLUMNS):
        found = [_ratios(rig, strip, pictures, levels, shared) for pictures in frames]
        places = np.concatenate(found)
        if len(places) < _LEAST_PLACES:
            continue
        row = np.zeros(count)
        row[strip.one], row[strip.other] = 1, -1
        rows.append(row)
        ratios.append(-np.median(places, axis=0))
        weights.append(np.sqrt(len(places)))
    # All together keep their brightness.
    system = np.array([*(row * weight for row, weight in zip(rows, weights, strict=True)), np.full(count, 1e6)])
    if np.linalg.matrix_rank(system) < count:
        return None
    wanted = np.array([*(ratio * weight for ratio, weight in zip(ratios, weights, strict=True)), np.zeros(3)])
    logs = np.linalg.lstsq(system, wanted, rcond=None)[0]
    gains: Array = np.exp(logs)
    return gains


@dataclass(frozen=True, slots=True)
class Shading:
    """How lenses of one kind grow darker towards their rims: the logarithm of what is left of linear light.

    `square` and `fourth` belong to powers of the angle off the axis, as a part of the half field.
    """

    square: float
    fourth: float

    def log(self, part: Array) -> Array:
        """At parts of the half field."""
        return self.square * part**2 + self.fourth * part**4


def matched_shading(
    rig: Rig, frames: Sequence[Sequence[Planes]], levels: Levels, shared: tuple[int, int], gains: Array
) -> Shading | None:
    """How the lenses grow darker towards their rims; None where what they see in common does not tell, or nothing does.

    Args:
        rig: as aligned, of lenses of one kind.
        frames, levels, shared: as `matched_gains` has them.
        gains: that were found.
    """
    parts, ratios = [], []
    for strip in strips_of(rig, _SHADING_BAND_DEG, _SHADING_COLUMNS):
        one, other = rig.lenses[strip.one], rig.lenses[strip.other]
        rays = strip.rays
        places = np.stack([each.project(rays)[1] / each.lens.widest for each in (one, other)], axis=-1)
        between = np.log(gains[strip.other] / gains[strip.one])
        for pictures in frames:
            seen, found = _compared(rig, strip, pictures, levels, shared)
            parts.append(places[seen])
            # Of all three colours: glass takes from them about alike.
            ratios.append((found[seen] - between).mean(axis=-1))
    if not parts:
        return None
    part, ratio = np.concatenate(parts), np.concatenate(ratios)
    terms = np.stack((part[:, 0] ** 2 - part[:, 1] ** 2, part[:, 0] ** 4 - part[:, 1] ** 4), axis=-1)
    if ((np.abs(terms[:, 0]) > _TOLD_APART) & (part.min(axis=1) < _TOLD_NEAR)).sum() < _LEAST_TOLD:
        return None
    found_terms = np.zeros(2)
    for _ in range(_ROUNDS):
        # What is near shows something else in each: its ratio may be anything, and counts less and less.
        off = np.abs(ratio - terms @ found_terms)
        weight = np.sqrt(1 / (1 + (off / max(1.5 * float(np.median(off)), 1e-3)) ** 2))
        found_terms = np.linalg.lstsq(terms * weight[:, None], ratio * weight, rcond=None)[0]
    shading = Shading(*(float(term) for term in found_terms))
    way = shading.log(np.linspace(0, 1, 50))
    darker = bool((np.diff(way) < _LEAST_SHADING / 10).all())
    return shading if darker and _LEAST_SHADING < -way[-1] < _MOST_LOST else None


def _compared(
    rig: Rig, strip: Strip, pictures: Sequence[Planes], levels: Levels, shared: tuple[int, int]
) -> tuple[NDArray[np.bool_], Array]:
    """Where both lenses show places that can be compared, and how much brighter the one shows them than the other.

    As logarithms of linear light, shape (rows, columns, 3).
    """
    views, seen = [], strip.seen.copy()
    for number in (strip.one, strip.other):
        planes = pictures[rig.lenses[number].picture]
        height, width = planes[0].shape
        # Colour at the size of luma: smooth enough for what is compared over many places.
        whole = [
            planes[0],
            *(cv2.resize(plane, (width, height), interpolation=cv2.INTER_LINEAR) for plane in planes[1:]),
        ]
        luma, blue, red = (cv2.blur(unrolled(rig, number, strip, plane), (5, 5)).astype(np.float64) for plane in whole)
        coded = levels.rgb(luma, blue, red)
        seen &= ((coded > _DARKEST) & (coded < _BRIGHTEST)).all(axis=-1)
        views.append(np.log(linear(np.maximum(coded, _DARKEST))))
    return seen, views[0] - views[1]


def _ratios(rig: Rig, strip: Strip, pictures: Sequence[Planes], levels: Levels, shared: tuple[int, int]) -> Array:
    """How much brighter the one lens shows places than the other, as logarithms of linear light, shape (places, 3)."""
    seen, everywhere = _compared(rig, strip, pictures, levels, shared)
    found: Array = everywhere[seen]
    # Where both show something else, as of what is near, the ratio is anything.
    alike = np.abs(found - np.median(found, axis=0)).max(axis=1) < 0.25 if len(found) else np.zeros(0, bool)
    agreeing: Array = found[alike]
    return agreeing


class Correction:
    """One lens's gains, applied to its part of the planes."""

    def __init__(
        self,
        rig: Rig,
        number: int,
        gains: Array,
        levels: Levels,
        shared: tuple[int, int],
        shading: Shading | None = None,
    ) -> None:
        """
        Args:
            rig: for the size of the pictures.
            number: of the lens.
            gains: of its red, green and blue.
            levels: of the code values.
            shared: how many pixels across and down share a value of colour.
            shading: how it grows darker towards its rim, which is undone; None and it is left.
        """
        own = rig.lenses[number]
        self._own, self._shared, self._levels = own, shared, levels
        self.picture = own.picture
        self.needed = bool(np.abs(gains - 1).max() > _NOTHING) or shading is not None
        self._matrix, self._offset = (each.astype(np.float32) for each in levels.change(gains))
        width, height = own.lens.size_px
        across, down = (np.arange(size) + 0.5 for size in (width, height))
        radius = np.hypot(across[None, :] - own.lens.centre_px[0], down[:, None] - own.lens.centre_px[1])
        share = np.clip((radius / own.lens.circle_px - _BEGINS) / (_WHOLE - _BEGINS), 0, 1)
        if len(rig.lenses) > _BACK_TO_BACK or rig.is_stereo:
            # Neighbours of a ring, and the eyes of a pair, share most of what they see: there is nothing to fade to.
            share = np.ones_like(share)
        self._luma = (share * share * (3 - 2 * share)).astype(np.float32)
        half = (width // shared[0], height // shared[1])
        self._colour = cv2.resize(self._luma, half, interpolation=cv2.INTER_AREA)
        # By how much code values grow where shading is undone: all colours alike, so that luma and colour do too.
        self._lifts: tuple[NDArray[np.float32], NDArray[np.float32]] | None = None
        if shading is not None:
            # A little less than the rim: beyond it by a rounding, there is no angle.
            within = np.minimum(radius, own.lens.circle_px * (1 - 1e-9)) / own.lens.focal_px
            part = own.lens.radial.angle(within, own.lens.widest) / own.lens.widest
            lift = np.exp(-_POWER * shading.log(part)).astype(np.float32)
            small = cv2.resize(lift, half, interpolation=cv2.INTER_AREA).astype(np.float32, copy=False)
            self._lifts = lift, small

    def apply(self, planes: Planes) -> None:
        """Changes this lens's part of a picture's planes, in place."""
        left, top = self._own.corner_px
        width, height = self._own.lens.size_px
        wide, high = self._shared
        luma = planes[0][top : top + height, left : left + width]
        colour = [
            plane[top // high : (top + height) // high, left // wide : (left + width) // wide] for plane in planes[1:]
        ]
        black, span, middle, _ = self._levels._frame
        bright = luma.astype(np.float32) - np.float32(black)
        small = [plane.astype(np.float32) - np.float32(middle) for plane in colour]
        dim = cv2.resize(bright, (small[0].shape[1], small[0].shape[0]), interpolation=cv2.INTER_AREA)
        changed = bright * self._matrix[0, 0] + self._offset[0]
        for number, plane in enumerate(small, start=1):
            if abs(self._matrix[0, number]) > _NOTHING / 3:
                changed += cv2.resize(plane, (width, height), interpolation=cv2.INTER_LINEAR) * self._matrix[0, number]
        added = changed * self._luma
        if self._lifts is not None:
            # As `change` has it: a factor on code values with the transfer's offset under them.
            added += (self._lifts[0] - 1) * (bright + added + np.float32(_OFFSET * span))
        _add(luma, added, self._levels.bits)
        for number, plane in enumerate(colour, start=1):
            row = self._matrix[number]
            added = (dim * row[0] + small[0] * row[1] + small[1] * row[2] + self._offset[number]) * self._colour
            if self._lifts is not None:
                added += (self._lifts[1] - 1) * (small[number - 1] + added)
            _add(plane, added, self._levels.bits)


def _add(plane: Plane, added: NDArray[np.float32], bits: int) -> None:
    np.copyto(plane, np.clip(np.rint(plane + added), 0, (1 << bits) - 1), casting="unsafe")
