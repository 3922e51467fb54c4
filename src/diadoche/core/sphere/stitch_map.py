"""Where each pixel of a stitched picture looks in each lens, and how much of it counts.

Only what a lens contributes is looked up: beyond the seams each place belongs to one lens, and within a band round them
to those that see it, with weights that fade from one to the other.

A small fixed view is worked out for every place, once. Large ones would fill the memory, and views that move would take
too long: they are worked out for every eighth place and interpolated, which is off by less than 0.1 pixels.
"""

from __future__ import annotations

import itertools
from collections.abc import Iterator
from dataclasses import dataclass, replace
from functools import cached_property

import cv2
import numpy as np
from numpy.typing import NDArray

from diadoche.core.sphere.projection import Equirectangular
from diadoche.core.sphere.rig import Rig
from diadoche.core.sphere.ring_stereo import ring_weights
from diadoche.core.sphere.shape import USUAL_BAND_DEG

Array = NDArray[np.float64]
# Rows that are worked out together.
STRIP_ROWS = 480
# Patches begin and end at multiples of so many places.
_BLOCK = 16
# What a call for a patch costs, and the blending of a place, measured in places that are looked up in a lens.
_CALL_COST, _BLEND_COST = 5000, 0.15
SHARE_BITS = 7
# What is worked out for a few places is worked out for every so many-th, and interpolated.
GRID_PX = 8
# A picture for one eye of more pixels than this has its map worked out for a few places.
_MOST_EXACT_PX = 16_000_000
_RIM_PX = 2.0


@dataclass(frozen=True)
class Sampling:
    """How the samples of a plane lie among the pixels of their picture.

    Sample `i` across lies at `i * across + left` pixels from the left edge, and likewise down.
    """

    across: int = 1
    down: int = 1
    left: float = 0.5
    top: float = 0.5


LUMA = Sampling()


def chroma_sampling(across: int, down: int) -> Sampling:
    """That of colour which `across` × `down` pixels share: in line with the left of them, and between upper and lower.

    As MPEG-2, H.264 and HEVC have it where nothing else is said [H273, 8.7].
    """
    return Sampling(across, down, 0.5, down / 2)


@dataclass(frozen=True)
class Part:
    """What one lens gives to a patch: where to look, in samples of its plane from the first one's middle, and with
    which weight out of 1; for each place of the patch, or of its grid.
    """

    lens: int
    across: NDArray[np.float32]
    down: NDArray[np.float32]
    # None where it alone counts.
    weight: NDArray[np.float32] | None = None


@dataclass(frozen=True)
class Patch:
    """A rectangle of the result, and the lenses that make it."""

    top: int
    left: int
    height: int
    width: int
    parts: tuple[Part, ...]
    # Which of its places no lens sees; None where there are none.
    unseen: NDArray[np.bool_] | None = None
    # Directions of the places of its grid, shape (rows, columns, 3); only where several lenses make the patch.
    grid_rays: NDArray[np.float32] | None = None
    # Whether its parts are known at the places of its grid only.
    is_coarse: bool = False
    # The first of two parts' weight as a whole number of `SHARE_BITS`, where it is known for every place.
    share: NDArray[np.int16] | None = None

    def filled(self, values: NDArray[np.float32]) -> NDArray[np.float32]:
        """Values of the parts for every place of the patch."""
        return self.interpolated(values) if self.is_coarse else values

    def interpolated(self, values: NDArray[np.float32]) -> NDArray[np.float32]:
        """Values at the places of its grid for every place: the middles of blocks of `GRID_PX` places, from one block
        before the patch to one behind it.
        """
        rows, columns = values.shape
        whole = cv2.resize(values, (columns * GRID_PX, rows * GRID_PX), interpolation=cv2.INTER_LINEAR)
        return whole[GRID_PX : GRID_PX + self.height, GRID_PX : GRID_PX + self.width].astype(np.float32, copy=False)


def share_of(weight: NDArray[np.float32]) -> NDArray[np.int16]:
    """A weight as a whole number of `SHARE_BITS`."""
    found: NDArray[np.int16] = np.rint(weight * (1 << SHARE_BITS)).astype(np.int16)
    return found


def lens_weights(rig: Rig, rays: NDArray[np.floating], angles: Array, band_deg: float) -> NDArray[np.float32]:
    """How much each lens counts in some directions, whichever way the rig is looked through; see `weights_of`."""
    return ring_weights(rig, rays, angles) if rig.viewing_eye else weights_of(rig, angles, band_deg)


def weights_of(rig: Rig, angles: Array, band_deg: float) -> NDArray[np.float32]:
    """How much each lens counts in some directions, shape (lenses, …); they add up to 1 where any lens sees.

    A seam lies where two lenses are equally far within their image circles, and the weights fade across a band there.

    Args:
        rig: the lenses.
        angles: of the directions off each lens's axis, in radians, shape (lenses, …).
        band_deg: how wide that band is, in degrees across the seam.
    """
    # The last pixels at a rim are mixed with the black around it.
    rims = [each.lens.widest - _RIM_PX / each.lens.focal_px for each in rig.lenses]
    widest = np.array(rims).reshape(-1, *(1,) * (angles.ndim - 1))
    within = widest - angles
    # Across a seam the one lens's margin falls while the other's grows: their difference changes twice as fast.
    behind = (within.max(axis=0) - within) / (2 * np.radians(band_deg))
    share = np.clip(0.5 - behind, 0, 1) * (within > 0)
    smooth = share * share * (3 - 2 * share)
    # Towards its rim a lens fades to nothing, however wide the band: it would end in an edge there.
    smooth *= np.clip(within / np.radians(1.0), 0, 1)
    whole = smooth.sum(axis=0)
    alone = np.where(within == within.max(axis=0), 1.0, 0.0) * (within > 0)
    found = np.where(whole > 1e-6, smooth / np.maximum(whole, 1e-6), alone)
    return found.astype(np.float32)


class StitchMap:
    """The patches of one plane."""

    def __init__(
        self,
        rig: Rig,
        target: Equirectangular,
        sampling: Sampling = LUMA,
        band_deg: float = USUAL_BAND_DEG,
        distance_m: float = np.inf,
        turn: Array | None = None,
    ) -> None:
        """
        Args:
            rig: the lenses; its pictures have the size that will be given.
            target: the result, in pixels of luma.
            sampling: of the plane, in the sources and in the result.
            band_deg: how wide the seams are.
            distance_m: where the lenses' pictures meet.
            turn: of a view that moves: what the rig sees in a direction is shown in `turn @` it.
        """
        self.rig, self.sampling, self.turn = rig, sampling, turn
        self.is_coarse = turn is not None or target.width * target.height > _MOST_EXACT_PX
        self.width, self.height = target.width // sampling.across, target.height // sampling.down
        self.patches: list[Patch] = []
        self.seen = 0
        for top in range(0, self.height, STRIP_ROWS):
            self._add_strip(target, sampling, band_deg, distance_m, top)

    @cached_property
    def alone(self) -> list[Patch]:
        """The patches that one lens gives alone, from the top down."""
        return [patch for patch in self.patches if len(patch.parts) == 1]

    @cached_property
    def seams(self) -> list[Patch]:
        """The patches that several lenses make, the largest first."""
        found = [patch for patch in self.patches if len(patch.parts) > 1]
        return sorted(found, key=lambda patch: patch.height * patch.width, reverse=True)

    @property
    def unseen(self) -> int:
        """How many places no lens sees."""
        return self.width * self.height - self.seen

    def _add_strip(
        self, target: Equirectangular, sampling: Sampling, band_deg: float, distance_m: float, top: int
    ) -> None:
        height = min(STRIP_ROWS, self.height - top)
        step, edge = (GRID_PX, 1) if self.is_coarse else (1, 0)
        rays = self._rays(target, (top, height), (0, self.width), step, edge)
        found = [each.project(rays, distance_m) for each in self.rig.lenses]
        weights = lens_weights(self.rig, rays, np.stack([angle for _, angle in found]), band_deg)
        places = []
        for own, (at, _) in zip(self.rig.lenses, found, strict=True):
            at = at + np.array(own.corner_px)
            x, y = (at[..., 0] - sampling.left) / sampling.across, (at[..., 1] - sampling.top) / sampling.down
            places.append((x.astype(np.float32), y.astype(np.float32)))
        strip = _Strip(top, (height, self.width), places, weights, step, edge)
        for area in strip.areas():
            self._add_patch(target, strip, area)

    def _add_patch(self, target: Equirectangular, strip: _Strip, area: _Area) -> None:
        own, height, width = strip.part(area.rows, area.columns), area.height, area.width
        top, left = strip.top + area.rows[0], area.columns[0]
        parts = []
        for lens in area.lenses:
            x, y = (np.ascontiguousarray(each[own]) for each in strip.places[lens])
            weight = np.ascontiguousarray(strip.weights[lens][own]) if len(area.lenses) > 1 else None
            parts.append(Part(lens, x, y, weight))
        grid = None
        if len(parts) > 1:
            grid = self._rays(target, (top, height), (left, width), GRID_PX, 1).astype(np.float32)
        patch = Patch(top, left, height, width, tuple(parts), None, grid, self.is_coarse)
        if parts[0].weight is not None and not self.is_coarse:
            patch = replace(patch, share=share_of(parts[0].weight))
        seen = (strip.weights[(slice(None), *own)].max(axis=0) > 0).astype(np.float32)
        black = patch.filled(seen) < 0.5  # half way between seen and unseen
        self.seen += black.size - int(black.sum())
        self.patches.append(replace(patch, unseen=np.ascontiguousarray(black)) if black.any() else patch)

    def _rays(
        self, target: Equirectangular, rows: tuple[int, int], columns: tuple[int, int], step: int, edge: int
    ) -> Array:
        """Directions in the rig's frame of the middles of blocks of `step` × `step` places.

        Args:
            target: the result.
            rows: the first, and how many.
            columns: likewise.
            step: places across and down that make a block.
            edge: how many blocks more there are beyond each edge.
        """
        down, across = (
            begin + (np.arange(-edge, -(-length // step) + edge) + 0.5) * step - 0.5
            for begin, length in (rows, columns)
        )
        sampling = self.sampling
        rays = target.rays(
            (across * sampling.across + sampling.left)[None, :], (down * sampling.down + sampling.top)[:, None]
        )
        return rays if self.turn is None else rays @ self.turn


@dataclass(frozen=True, slots=True)
class _Area:
    """A rectangle of a strip, and the lenses that count in it."""

    rows: tuple[int, int]
    columns: tuple[int, int]
    lenses: tuple[int, ...]

    @property
    def height(self) -> int:
        return self.rows[1] - self.rows[0]

    @property
    def width(self) -> int:
        return self.columns[1] - self.columns[0]

    @property
    def cost(self) -> float:
        """What it takes to fill it, in places that are looked up."""
        places, lenses = self.height * self.width, len(self.lenses)
        return lenses * (places + _CALL_COST) + (_BLEND_COST * places if lenses > 1 else 0)


class _Strip:
    """Some rows of a plane, worked out: for each lens where it is looked up, across and down, and its weight.

    Known for the middles of blocks of `step` × `step` places, with `edge` blocks more beyond each edge.
    """

    def __init__(
        self,
        top: int,
        size: tuple[int, int],
        places: list[tuple[NDArray[np.float32], NDArray[np.float32]]],
        weights: NDArray[np.float32],
        step: int,
        edge: int,
    ) -> None:
        self.top, self._size = top, size
        self.places, self.weights = places, weights
        self._step, self._edge = step, edge
        # Which lenses count anywhere in each block of the patches' grid, shape (lenses, down, across).
        across = self._in_blocks(weights > 0, size[1])
        self._seen = self._in_blocks(across.swapaxes(1, 2), size[0]).swapaxes(1, 2)

    def _in_blocks(self, seen: NDArray[np.bool_], length: int) -> NDArray[np.bool_]:
        """Along the last axis. Between two places a lens may count of which it counts at one only: blocks overlap."""
        edges = [*range(0, length, _BLOCK), length]
        return np.stack(
            [np.any(seen[..., self._blocks(begin, end)], axis=-1) for begin, end in itertools.pairwise(edges)], axis=-1
        )

    def _blocks(self, begin: int, end: int) -> slice:
        return slice(begin // self._step, -(-end // self._step) + 2 * self._edge)

    def areas(self) -> list[_Area]:
        """The rectangles that are to be patches, together all that any lens sees."""
        height, width = self._size
        return self._divided((0, height), (0, width))

    def _divided(self, rows: tuple[int, int], columns: tuple[int, int]) -> list[_Area]:
        """A seam goes aslant through a strip: in lower areas, less of it is looked up in more than one lens.

        They cost more calls: areas are divided as far as that pays.
        """
        found: list[_Area] = []
        half = rows[0] + -(-(rows[1] - rows[0]) // (2 * _BLOCK)) * _BLOCK
        for whole in self._runs(rows, columns):
            parts = [whole]
            if len(whole.lenses) > 1 and half < rows[1]:
                halves = [(rows[0], half), (half, rows[1])]
                parts = [area for own in halves for area in self._divided(own, whole.columns)]
            found += parts if sum(part.cost for part in parts) < whole.cost else [whole]
        return found

    def part(self, rows: tuple[int, int], columns: tuple[int, int]) -> tuple[slice, slice]:
        """Which blocks belong to a rectangle, those beyond its edges with it."""
        return self._blocks(*rows), self._blocks(*columns)

    def _runs(self, rows: tuple[int, int], columns: tuple[int, int]) -> Iterator[_Area]:
        """Neighbouring columns of a rectangle that the same lenses make."""
        down, across = (slice(begin // _BLOCK, -(-end // _BLOCK)) for begin, end in (rows, columns))
        seen: NDArray[np.bool_] = np.any(self._seen[:, down, across], axis=1)
        changes = np.flatnonzero((seen[:, 1:] != seen[:, :-1]).any(axis=0)) + 1
        for first, end in itertools.pairwise([0, *changes.tolist(), seen.shape[1]]):
            lenses = tuple(np.flatnonzero(seen[:, first]).tolist())
            if lenses:
                left, right = columns[0] + first * _BLOCK, min(columns[0] + end * _BLOCK, columns[1])
                yield _Area(rows, (left, right), lenses)
