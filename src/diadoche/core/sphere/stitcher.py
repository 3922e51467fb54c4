"""Lens pictures into one picture, plane by plane, at their own depth, sampled once."""

from __future__ import annotations

import os
from collections import deque
from collections.abc import Sequence
from concurrent.futures import Future, ThreadPoolExecutor, wait
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
        # Whoever asks for a picture is one of them.
        self._pool = ThreadPoolExecutor(max(1, self._threads - 1), "stitch")

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
        # Shifts are found beside what one lens gives alone; the seams wait for them. Whoever is done takes the next
        # patch: they are of very different sizes, the smallest the last.
        finding: Future[Shifts | None] = Future()
        waiting = deque([partial(self._find_shifts, pictures, finding)])
        waiting += self._work(pictures, into, finding, at_seams=False)
        helpers = [self._pool.submit(_do_all, waiting) for _ in range(self._threads - 1)]
        try:
            waiting += self._work(pictures, into, finding, at_seams=True)
            _do_all(waiting)
        finally:
            # Nobody writes into the planes any more, whatever went wrong.
            waiting.clear()
            wait(helpers)
        for each in helpers:
            each.result()
        return finding.result()

    def _find_shifts(self, pictures: Sequence[Planes], finding: Future[Shifts | None]) -> None:
        try:
            lumas = [planes[0] for planes in pictures]
            finding.set_result(self._near.shifts(lumas) if self._near is not None else None)
        except BaseException as error:
            # Whoever waits for it would wait for ever.
            finding.set_exception(error)
            raise

    def _work(
        self, pictures: Sequence[Planes], into: Planes, finding: Future[Shifts | None], *, at_seams: bool
    ) -> list[partial[None]]:
        """What fills the patches; those at seams wait for the shifts."""
        work: list[partial[None]] = []
        for found, planes in self._maps:
            # For each plane: the lenses' pictures, and where it is written to.
            sources = [[pictures[number][plane] for number in self._pictures] for plane in planes]
            targets = [into[plane] for plane in planes]
            if found.unseen and not at_seams:
                for plane in planes:
                    into[plane][:] = self._black[plane]
            given = (sources, targets, self._black[planes[0]])
            if at_seams:
                work += [partial(self._fill_seam, patch, *given, found.sampling, finding) for patch in found.seams]
            else:
                work += [partial(_fill_alone, patch, *given) for patch in found.alone]
        return work

    def _fill_seam(
        self,
        patch: Patch,
        sources: Sequence[Sequence[Plane]],
        into: Sequence[Plane],
        black: int,
        sampling: Sampling,
        finding: Future[Shifts | None],
    ) -> None:
        shifts = finding.result()
        places = [self._places(patch, shifts, sampling, part) for part in patch.parts]
        for lenses, plane in zip(sources, into, strict=True):
            own = plane[patch.top : patch.top + patch.height, patch.left : patch.left + patch.width]
            _blend(patch, places, lenses, own)
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


def _do_all(waiting: deque[partial[None]]) -> None:
    """Does what is waiting, one after another, until nothing is; several threads may take from it."""
    while True:
        try:
            each = waiting.popleft()
        except IndexError:
            return
        each()


def _fill_alone(patch: Patch, sources: Sequence[Sequence[Plane]], into: Sequence[Plane], black: int) -> None:
    """A patch that one lens gives alone."""
    (only,) = patch.parts
    where = patch.filled(only.across), patch.filled(only.down)
    for lenses, plane in zip(sources, into, strict=True):
        own = plane[patch.top : patch.top + patch.height, patch.left : patch.left + patch.width]
        cv2.remap(lenses[only.lens], *where, cv2.INTER_LINEAR, own, cv2.BORDER_REPLICATE)
        if patch.unseen is not None:
            own[patch.unseen] = black


def _blend(patch: Patch, places: Sequence[tuple[Plane, Plane]], sources: Sequence[Plane], into: Plane) -> None:
    """A patch that several lenses make, each looked up at its places; exact where they agree."""
    found = [
        cv2.remap(sources[part.lens], *where, cv2.INTER_LINEAR, None, cv2.BORDER_REPLICATE)
        for part, where in zip(patch.parts, places, strict=True)
    ]
    if len(found) == 2 and found[0].dtype == np.uint8:
        # In 16-bit integers, which is twice as fast as OpenCV's own blending: 255 times 128 just fits.
        one, other = (each.astype(np.int16) for each in found)
        one -= other
        one *= share_of(_weights(patch)[0]) if patch.share is None else patch.share
        one += _SHARE_HALF
        one >>= SHARE_BITS
        one += other
        np.copyto(into, one, casting="unsafe")
        return
    last = found[-1].astype(np.float32)
    total = last.copy()
    for seen, weight in zip(found[:-1], _weights(patch), strict=True):
        total += (seen.astype(np.float32) - last) * weight
    into[:] = np.rint(total)


def _weights(patch: Patch) -> list[NDArray[np.float32]]:
    """Of all lenses but the last one."""
    return [patch.filled(part.weight) for part in patch.parts[:-1] if part.weight is not None]
