"""Lens pictures into one picture, plane by plane, at their own depth, sampled once."""

from __future__ import annotations

import os
from collections.abc import Callable, Sequence
from concurrent.futures import ThreadPoolExecutor
from types import TracebackType
from typing import Any

import cv2
import numpy as np
from numpy.typing import NDArray

from diadoche.core.sphere.projection import Equirectangular
from diadoche.core.sphere.rig import Rig
from diadoche.core.sphere.stitch_map import LUMA, USUAL_BAND_DEG, Patch, StitchMap, chroma_sampling

Plane = NDArray[Any]
# Luma and two planes of colour.
Planes = tuple[Plane, Plane, Plane]
_WEIGHT_BITS = {np.dtype(np.uint8): 8, np.dtype(np.uint16): 15}


class Stitcher:
    """Stitches pictures of one kind after another. Used as a context manager: it keeps threads ready."""

    def __init__(
        self,
        rig: Rig,
        target: Equirectangular,
        shared: tuple[int, int] = (2, 2),
        *,
        band_deg: float = USUAL_BAND_DEG,
        distance_m: float = np.inf,
        threads: int | None = None,
        black: tuple[int, int] = (16, 128),
    ) -> None:
        """
        Args:
            rig: the lenses, for the size of the pictures that will be given.
            target: the result.
            shared: how many pixels across and down share a value of colour, in the sources and in the result.
            band_deg: how wide the seams are.
            distance_m: where the lenses' pictures meet.
            threads: that work on one picture; as many as there are processors where nothing is said.
            black: code values of luma and colour where no lens sees anything.
        """
        self._luma = _Warp(StitchMap(rig, target, LUMA, band_deg, distance_m))
        self._chroma = _Warp(StitchMap(rig, target, chroma_sampling(*shared), band_deg, distance_m))
        self._black = black
        self._pictures = [each.picture for each in rig.lenses]
        self._threads = threads or os.cpu_count() or 1
        self._pool = ThreadPoolExecutor(self._threads, "stitch")

    def __enter__(self) -> Stitcher:
        return self

    def __exit__(
        self, kind: type[BaseException] | None, error: BaseException | None, trace: TracebackType | None
    ) -> None:
        self._pool.shutdown()

    @property
    def sees_all(self) -> bool:
        """Whether every pixel of the result is seen by a lens."""
        return self._luma.map.unseen == 0

    def stitch(self, pictures: Sequence[Planes], into: Planes) -> None:
        """Writes the stitched picture into planes that are there.

        Args:
            pictures: of the rig's files or tracks, in their order; views of 8 or 16 bits.
            into: the result's planes, of the same kind.
        """
        lumas = [pictures[number][0] for number in self._pictures]
        # Colour is looked up once for both planes.
        merged = [cv2.merge(planes[1:]) for planes in pictures]
        chromas = [merged[number] for number in self._pictures]
        if self._luma.map.unseen:
            into[0][:] = self._black[0]
            into[1][:] = into[2][:] = self._black[1]
        work: list[Callable[[], None]] = [
            *(lambda patch=patch: self._luma.one(patch, lumas, into[0]) for patch in self._luma.map.patches),
            *(lambda patch=patch: self._chroma.two(patch, chromas, into[1:]) for patch in self._chroma.map.patches),
        ]
        if self._threads == 1:
            for each in work:
                each()
            return
        shares = [work[number :: self._threads] for number in range(self._threads)]
        for done in self._pool.map(_do_all, shares):
            assert done is None


def _do_all(work: list[Callable[[], None]]) -> None:
    for each in work:
        each()


class _Warp:
    """The patches of one kind of plane."""

    def __init__(self, map_: StitchMap) -> None:
        self.map = map_

    def one(self, patch: Patch, sources: Sequence[Plane], into: Plane) -> None:
        """Fills a patch of a plane."""
        part = into[patch.top : patch.top + patch.height, patch.left : patch.left + patch.width]
        if len(patch.parts) == 1:
            only = patch.parts[0]
            cv2.remap(sources[only.lens], only.coarse, only.fine, cv2.INTER_LINEAR, part, cv2.BORDER_REPLICATE)
            return
        part[:] = _blended(patch, sources)

    def two(self, patch: Patch, sources: Sequence[Plane], into: Sequence[Plane]) -> None:
        """Fills a patch of both planes of colour."""
        if len(patch.parts) == 1:
            only = patch.parts[0]
            found = cv2.remap(sources[only.lens], only.coarse, only.fine, cv2.INTER_LINEAR, None, cv2.BORDER_REPLICATE)
        else:
            found = _blended(patch, sources)
        rows, columns = slice(patch.top, patch.top + patch.height), slice(patch.left, patch.left + patch.width)
        into[0][rows, columns], into[1][rows, columns] = found[..., 0], found[..., 1]


def _blended(patch: Patch, sources: Sequence[Plane]) -> Plane:
    """A patch that several lenses make, in whole numbers: exact where they agree."""
    kind = sources[0].dtype
    bits = _WEIGHT_BITS[kind]
    wide = np.uint32
    total: Plane | None = None
    left: Plane | None = None
    for number, part in enumerate(patch.parts):
        seen = cv2.remap(
            sources[part.lens], part.coarse, part.fine, cv2.INTER_LINEAR, None, cv2.BORDER_REPLICATE
        ).astype(wide)
        assert part.weight is not None
        if number == len(patch.parts) - 1 and left is not None:
            # What is left of the whole: rounded weights must add up.
            weight = left
        else:
            weight = np.round(part.weight * (1 << bits)).astype(wide)
            left = (np.full_like(weight, 1 << bits) if left is None else left) - weight
        if seen.ndim == 3:
            weight = weight[..., None]
        total = seen * weight if total is None else total + seen * weight
    assert total is not None
    return ((total + (1 << bits - 1)) >> bits).astype(kind)
