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

from diadoche.core.sphere.near_matching import NearMatching
from diadoche.core.sphere.projection import Equirectangular
from diadoche.core.sphere.rig import Rig
from diadoche.core.sphere.shape import USUAL_BAND_DEG
from diadoche.core.sphere.shifts import Shifts
from diadoche.core.sphere.stitch_map import (
    LUMA,
    SHARE_BITS,
    Part,
    Patch,
    Sampling,
    StitchMap,
    chroma_sampling,
    share_of,
)

Plane = NDArray[Any]
# Luma and two planes of colour.
Planes = tuple[Plane, Plane, Plane]
# Less than so much, in radians, a view has not moved: a tenth of a pixel at 7680.
_LEAST_TURN = 8e-5
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
        near: NearMatching | None = None,
        threads: int | None = None,
        black: tuple[int, int] = (16, 128),
        moves: bool = False,
    ) -> None:
        """
        Args:
            rig: the lenses, for the size of the pictures that will be given.
            target: the result.
            shared: how many pixels across and down share a value of colour, in the sources and in the result.
            band_deg: how wide the seams are.
            distance_m: where the lenses' pictures meet.
            near: matches what is nearer or farther; without it that stands twice at the seams.
            threads: that work on one picture; as many as there are processors where nothing is said.
            black: code values of luma and colour where no lens sees anything.
            moves: whether the view is turned from picture to picture; see `look`.
        """
        self._view = (rig, target, shared, band_deg, distance_m)
        self._turn = np.eye(3) if moves else None
        self._maps = self._made_maps()
        self._near = near if near is not None and near.has_seams else None
        # Where the patches at the seams lie in the fields of shifts, by the patches' own identity.
        self._shifted: dict[int, list[NDArray[np.float32]]] = {}
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
        return self._maps[0][0].unseen == 0

    def look(self, turn: NDArray[np.float64]) -> None:
        """Turns a view that moves: from now on, what the rig sees in a direction is shown in `turn @` it."""
        assert self._turn is not None
        if np.abs(turn - self._turn).max() > _LEAST_TURN:
            self._turn = turn
            self._maps = self._made_maps()
            self._shifted.clear()

    def _made_maps(self) -> tuple[tuple[StitchMap, tuple[int, ...]], ...]:
        """Each map with its planes. Those of colour are looked up one by one: as one of two channels is slower."""
        rig, target, shared, band_deg, distance_m = self._view
        luma = StitchMap(rig, target, LUMA, band_deg, distance_m, self._turn)
        colour = StitchMap(rig, target, chroma_sampling(*shared), band_deg, distance_m, self._turn)
        return (luma, (0,)), (colour, (1, 2))

    def stitch(self, pictures: Sequence[Planes], into: Planes) -> Shifts | None:
        """Writes the stitched picture into planes that are there.

        Args:
            pictures: of the rig's files or tracks, in their order; views of 8 or 16 bits.
            into: the result's planes, of the same kind.

        Returns:
            by how much the lenses were looked up elsewhere; None where nothing near is matched.
        """
        # What one lens gives alone does not wait for what is found out about the seams.
        finding = self._pool.submit(self._shifts, pictures)
        alone, seams = (self._work(pictures, into, at_seams=at_seams) for at_seams in (False, True))
        if self._threads > 1:
            self._share(alone)
        shifts = finding.result()
        work = [partial(each, shifts) for each in seams]
        if self._threads > 1:
            self._share(work)
        else:
            _do_all([*alone, *work])
        return shifts

    def _shifts(self, pictures: Sequence[Planes]) -> Shifts | None:
        return self._near.shifts([planes[0] for planes in pictures]) if self._near is not None else None

    def _work(self, pictures: Sequence[Planes], into: Planes, *, at_seams: bool) -> list[Callable[..., None]]:
        """What fills the patches; those at seams are given the shifts when they are known."""
        work: list[Callable[..., None]] = []
        for found, planes in self._maps:
            # For each plane: the lenses' pictures, and where it is written to.
            sources = [[pictures[number][plane] for number in self._pictures] for plane in planes]
            targets = [into[plane] for plane in planes]
            if found.unseen and not at_seams:
                for plane in planes:
                    into[plane][:] = self._black[plane]
            for patch in found.patches:
                if (len(patch.parts) > 1) == at_seams:
                    fill = self._fill_seam if at_seams else _fill_alone
                    work.append(partial(fill, patch, found.sampling, sources, targets, self._black[planes[0]]))
        return work

    def _share(self, work: Sequence[Callable[..., None]]) -> None:
        """Does work on all threads; neighbours together, so that each stays in its own part of every picture."""
        share = max(1, -(-len(work) // (4 * self._threads)))
        for done in self._pool.map(_do_all, [work[place : place + share] for place in range(0, len(work), share)]):
            assert done is None

    def _fill_seam(
        self,
        patch: Patch,
        sampling: Sampling,
        sources: Sequence[Sequence[Plane]],
        into: Sequence[Plane],
        black: int,
        shifts: Shifts | None,
    ) -> None:
        places = [self._places(patch, shifts, sampling, part) for part in patch.parts]
        for lenses, plane in zip(sources, into, strict=True):
            own = plane[patch.top : patch.top + patch.height, patch.left : patch.left + patch.width]
            own[:] = _blended(patch, places, lenses)
            if patch.unseen is not None:
                own[patch.unseen] = black

    def _places(self, patch: Patch, shifts: Shifts | None, sampling: Sampling, part: Part) -> tuple[Plane, Plane]:
        """Where a part of a patch is looked up in this picture, across and down."""
        if shifts is None or patch.grid_rays is None:
            return patch.filled(part.across), patch.filled(part.down)
        places = self._shifted.get(id(patch))
        if places is None:
            places = self._shifted[id(patch)] = shifts.places(patch.grid_rays)
        field = shifts.at(part.lens, places)
        if field is None:
            return patch.filled(part.across), patch.filled(part.down)
        # Each direction by itself: to take one of two that lie together costs more than all the rest.
        across, down = (
            each * np.float32(1 / shared)
            for each, shared in zip(cv2.split(field), (sampling.across, sampling.down), strict=True)
        )
        if patch.is_coarse:
            return patch.interpolated(part.across + across), patch.interpolated(part.down + down)
        return cv2.add(part.across, patch.interpolated(across)), cv2.add(part.down, patch.interpolated(down))


def _do_all(work: Sequence[Callable[..., None]]) -> None:
    for each in work:
        each()


def _fill_alone(
    patch: Patch, sampling: Sampling, sources: Sequence[Sequence[Plane]], into: Sequence[Plane], black: int
) -> None:
    """A patch that one lens gives alone."""
    del sampling
    (only,) = patch.parts
    where = patch.filled(only.across), patch.filled(only.down)
    for lenses, plane in zip(sources, into, strict=True):
        own = plane[patch.top : patch.top + patch.height, patch.left : patch.left + patch.width]
        cv2.remap(lenses[only.lens], *where, cv2.INTER_LINEAR, own, cv2.BORDER_REPLICATE)
        if patch.unseen is not None:
            own[patch.unseen] = black


def _blended(patch: Patch, places: Sequence[tuple[Plane, Plane]], sources: Sequence[Plane]) -> Plane:
    """A patch that several lenses make, each looked up at its places; exact where they agree."""
    found = [
        cv2.remap(sources[part.lens], *where, cv2.INTER_LINEAR, None, cv2.BORDER_REPLICATE)
        for part, where in zip(patch.parts, places, strict=True)
    ]
    kind = found[0].dtype
    if len(found) == 2 and kind == np.uint8:
        # In 16-bit integers, which is several times as fast: 255 times 128 just fits.
        one, other = (each.astype(np.int16) for each in found)
        one -= other
        one *= share_of(_weights(patch)[0]) if patch.share is None else patch.share
        one += _SHARE_HALF
        one >>= SHARE_BITS
        one += other
        return one.astype(np.uint8)
    last = found[-1].astype(np.float32)
    total = last.copy()
    for seen, weight in zip(found[:-1], _weights(patch), strict=True):
        total += (seen.astype(np.float32) - last) * weight
    return np.rint(total).astype(kind)


def _weights(patch: Patch) -> list[NDArray[np.float32]]:
    """Of all lenses but the last one."""
    return [patch.filled(part.weight) for part in patch.parts[:-1] if part.weight is not None]
