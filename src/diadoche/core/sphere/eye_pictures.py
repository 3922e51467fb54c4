"""A stitcher for each eye, and the picture that they write into."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any

import av
import numpy as np
from numpy.typing import NDArray

from diadoche.core.convert.formats import PictureFormat
from diadoche.core.sphere.cover import Cap, Cover
from diadoche.core.sphere.lens_planes import planar_name, planes_of
from diadoche.core.sphere.near_matching import NearMatching, NearQuality
from diadoche.core.sphere.projection import Equirectangular
from diadoche.core.sphere.rig import Eye, Rig
from diadoche.core.sphere.shape import SHARED, SphereShape
from diadoche.core.sphere.shifts import Shifts
from diadoche.core.sphere.stitch_map import LUMA, chroma_sampling
from diadoche.core.sphere.stitcher import Planes, Stitcher


class EyePictures:
    """A stitcher for each eye, and the frames they write into."""

    def __init__(
        self,
        rig: Rig,
        shape: SphereShape,
        picture: PictureFormat,
        eyes: Sequence[Eye],
        band_deg: float,
        near: NearQuality | None,
        caps: Sequence[Cap] = (),
        *,
        moves: bool = False,
    ) -> None:
        self._shape = shape
        self._pixels = planar_name(picture)
        wide, high = shape.eye_px
        target = Equirectangular(wide, high, shape.bounds)
        scale = 1 << picture.bit_depth - 8
        black = (0 if picture.color.range == "full" else 16 * scale, 128 * scale)
        self._stitchers = []
        for eye in eyes:
            own = rig.for_eye(eye)
            matching = None if near is None else NearMatching(own, band_deg, near)
            stitcher = Stitcher(
                own, target, SHARED[picture.chroma], band_deg=band_deg, near=matching, black=black, moves=moves
            )
            self._stitchers.append(stitcher)
        samplings = (LUMA, *(chroma_sampling(*SHARED[picture.chroma]),) * 2)
        self._covers = [[Cover(cap, target, sampling) for cap in caps] for sampling in samplings]

    def __enter__(self) -> EyePictures:
        return self

    def __exit__(self, *error: Any) -> None:
        for each in self._stitchers:
            each.close()

    def stitch(
        self, pictures: Sequence[Planes], turn: NDArray[np.float64] | None = None
    ) -> tuple[av.VideoFrame, list[Shifts | None]]:
        """The stitched picture, and the shifts of each eye.

        Args:
            pictures: of the lenses.
            turn: of a view that moves; see `Stitcher.look`.
        """
        made = av.VideoFrame(self._shape.width, self._shape.height, self._pixels)
        into = planes_of(made)
        shifts = []
        for number, stitcher in enumerate(self._stitchers):
            if turn is not None:
                stitcher.look(turn)
            own = self._part(into, number)
            shifts.append(stitcher.stitch(pictures, own))
            for plane, covers in zip(own, self._covers, strict=True):
                for cover in covers:
                    cover.fill(plane)
        return made, shifts

    def _part(self, planes: Planes, number: int) -> Planes:
        if self._shape.layout == "mono":
            return planes
        parts = []
        for plane in planes:
            height, width = plane.shape
            if self._shape.layout == "top-bottom":
                parts.append(plane[number * height // 2 : (number + 1) * height // 2])
            else:
                parts.append(plane[:, number * width // 2 : (number + 1) * width // 2])
        return parts[0], parts[1], parts[2]
