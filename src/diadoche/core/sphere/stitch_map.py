"""Where each pixel of a stitched picture looks in each lens, and how much of it counts: made once for a fixed view.

Only what a lens contributes is looked up: beyond the seams each place belongs to one lens, and within a band round them
to those that see it, with weights that fade from one to the other.
"""

from __future__ import annotations

import itertools
from collections.abc import Iterator
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from diadoche.core.sphere.projection import Equirectangular
from diadoche.core.sphere.rig import Rig
from diadoche.core.sphere.ring_stereo import ring_weights
from diadoche.core.sphere.shape import USUAL_BAND_DEG

Array = NDArray[np.float64]
# Rows that are worked on together: few enough to stay in the processor's cache.
STRIP_ROWS = 64
_BLOCK = 32
SHARE_BITS = 7
# What moves where a lens is looked up is reckoned for every so many-th place, and interpolated.
GRID_PX = 8
_RIM_PX = 2.0
_WHOLE = np.ones((1, 1), np.float32)


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
    which weight.
    """

    lens: int
    across: NDArray[np.float32]
    down: NDArray[np.float32]
    # Of 1, and the same as a whole number of `SHARE_BITS`; 1 where it alone counts.
    weight: NDArray[np.float32]
    share: NDArray[np.int16]


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
    # Directions of every `GRID_PX`-th place, with one more beyond each edge, shape (rows, columns, 3); only where
    # several lenses make the patch.
    grid_rays: NDArray[np.float32] | None = None


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
    ) -> None:
        """
        Args:
            rig: the lenses; its pictures have the size that will be given.
            target: the result, in pixels of luma.
            sampling: of the plane, in the sources and in the result.
            band_deg: how wide the seams are.
            distance_m: where the lenses' pictures meet.
        """
        self.rig, self.sampling = rig, sampling
        self.width, self.height = target.width // sampling.across, target.height // sampling.down
        self.patches: list[Patch] = []
        self.unseen = 0
        for top in range(0, self.height, STRIP_ROWS):
            self._add_strip(target, sampling, band_deg, distance_m, top)

    def _add_strip(
        self, target: Equirectangular, sampling: Sampling, band_deg: float, distance_m: float, top: int
    ) -> None:
        rows = np.arange(top, min(top + STRIP_ROWS, self.height))
        across = np.arange(self.width) * sampling.across + sampling.left
        down = rows * sampling.down + sampling.top
        rays = target.rays(across[None, :], down[:, None])
        found = [each.project(rays, distance_m) for each in self.rig.lenses]
        weights = lens_weights(self.rig, rays, np.stack([angle for _, angle in found]), band_deg)
        unseen = weights.max(axis=0) == 0
        self.unseen += int(unseen.sum())
        for left, right, lenses in _runs(weights):
            parts = []
            for lens in lenses:
                own = self.rig.lenses[lens]
                places = found[lens][0][:, left:right] + np.array(own.corner_px)
                x = ((places[..., 0] - sampling.left) / sampling.across).astype(np.float32)
                y = ((places[..., 1] - sampling.top) / sampling.down).astype(np.float32)
                weight = np.ascontiguousarray(weights[lens][:, left:right]) if len(lenses) > 1 else _WHOLE
                parts.append(Part(lens, x, y, weight, np.rint(weight * (1 << SHARE_BITS)).astype(np.int16)))
            black = np.ascontiguousarray(unseen[:, left:right]) if unseen[:, left:right].any() else None
            grid = _grid_rays(target, sampling, top, left, len(rows), right - left) if len(parts) > 1 else None
            self.patches.append(Patch(top, left, len(rows), right - left, tuple(parts), black, grid))


def _grid_rays(
    target: Equirectangular, sampling: Sampling, top: int, left: int, height: int, width: int
) -> NDArray[np.float32]:
    """Directions of the middles of blocks of `GRID_PX` places, from one block before the patch to one behind it."""
    down, across = (
        begin + (np.arange(-1, -(-length // GRID_PX) + 1) + 0.5) * GRID_PX - 0.5
        for begin, length in ((top, height), (left, width))
    )
    rays = target.rays(
        (across * sampling.across + sampling.left)[None, :], (down * sampling.down + sampling.top)[:, None]
    )
    return rays.astype(np.float32)


def _runs(weights: NDArray[np.float32]) -> Iterator[tuple[int, int, tuple[int, ...]]]:
    """Neighbouring columns of a strip that the same lenses make: left, right, and which lenses these are."""
    width = weights.shape[2]
    edges = [*range(0, width, _BLOCK), width]
    begun, before = 0, None
    for left, right in itertools.pairwise(edges):
        seen = weights[:, :, left:right].max(axis=(1, 2)) > 0
        lenses = tuple(np.flatnonzero(seen).tolist())
        if lenses != before:
            if before:
                yield begun, left, before
            begun, before = left, lenses
    if before:
        yield begun, width, before
