"""Lens pictures into one picture, plane by plane, at their own depth, sampled once."""

from __future__ import annotations

import os
from collections.abc import Callable, Sequence
from concurrent.futures import ThreadPoolExecutor
from functools import partial
from types import TracebackType
from typing import Any

import cv2
import numpy as np
from numpy.typing import NDArray

from diadoche.core.sphere.projection import Equirectangular
from diadoche.core.sphere.rig import Rig
from diadoche.core.sphere.shape import USUAL_BAND_DEG
from diadoche.core.sphere.stitch_map import LUMA, SHARE_BITS, Patch, StitchMap, chroma_sampling

Plane = NDArray[Any]
# Luma and two planes of colour.
Planes = tuple[Plane, Plane, Plane]
_SHARE_HALF = np.int16(1 << SHARE_BITS - 1)


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
        luma = StitchMap(rig, target, LUMA, band_deg, distance_m)
        chroma = StitchMap(rig, target, chroma_sampling(*shared), band_deg, distance_m)
        # The planes of colour are looked up one by one, with one map: as one picture of two channels that is slower.
        self._maps = (luma, chroma, chroma)
        self._black = (black[0], black[1], black[1])
        self._pictures = [each.picture for each in rig.lenses]
        self._threads = threads or os.cpu_count() or 1
        # Threads are ours: OpenCV's own within each of them would only be in each other's way.
        cv2.setNumThreads(1)
        self._pool = ThreadPoolExecutor(self._threads, "stitch")

    def __enter__(self) -> Stitcher:
        return self

    def __exit__(
        self, kind: type[BaseException] | None, error: BaseException | None, trace: TracebackType | None
    ) -> None:
        self.close()

    def close(self) -> None:
        """Ends its threads."""
        self._pool.shutdown()

    @property
    def sees_all(self) -> bool:
        """Whether every pixel of the result is seen by a lens."""
        return self._maps[0].unseen == 0

    def stitch(self, pictures: Sequence[Planes], into: Planes) -> None:
        """Writes the stitched picture into planes that are there.

        Args:
            pictures: of the rig's files or tracks, in their order; views of 8 or 16 bits.
            into: the result's planes, of the same kind.
        """
        work: list[Callable[[], None]] = []
        for place, (found, black) in enumerate(zip(self._maps, self._black, strict=True)):
            sources = [pictures[number][place] for number in self._pictures]
            if found.unseen:
                into[place][:] = black
            work += [partial(_fill, patch, sources, into[place], black) for patch in found.patches]
        if self._threads == 1:
            _do_all(work)
            return
        # Neighbours together: each thread stays in its own part of every picture.
        share = -(-len(work) // (4 * self._threads))
        for done in self._pool.map(_do_all, [work[place : place + share] for place in range(0, len(work), share)]):
            assert done is None


def _do_all(work: list[Callable[[], None]]) -> None:
    for each in work:
        each()


def _fill(patch: Patch, sources: Sequence[Plane], into: Plane, black: int) -> None:
    part = into[patch.top : patch.top + patch.height, patch.left : patch.left + patch.width]
    if len(patch.parts) == 1:
        only = patch.parts[0]
        cv2.remap(sources[only.lens], only.across, only.down, cv2.INTER_LINEAR, part, cv2.BORDER_REPLICATE)
    else:
        part[:] = _blended(patch, sources)
    if patch.unseen is not None:
        part[patch.unseen] = black


def _blended(patch: Patch, sources: Sequence[Plane]) -> Plane:
    """A patch that several lenses make; exact where they agree."""
    found = [
        cv2.remap(sources[part.lens], part.across, part.down, cv2.INTER_LINEAR, None, cv2.BORDER_REPLICATE)
        for part in patch.parts
    ]
    kind = found[0].dtype
    if len(found) == 2 and kind == np.uint8:
        # In 16-bit integers, which is several times as fast: 255 times 128 just fits.
        one, other = (each.astype(np.int16) for each in found)
        one -= other
        one *= patch.parts[0].share
        one += _SHARE_HALF
        one >>= SHARE_BITS
        one += other
        return one.astype(np.uint8)
    last = found[-1].astype(np.float32)
    total = last.copy()
    for seen, part in zip(found[:-1], patch.parts[:-1], strict=True):
        total += (seen.astype(np.float32) - last) * part.weight
    return np.rint(total).astype(kind)
