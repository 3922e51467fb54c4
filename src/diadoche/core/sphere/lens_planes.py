"""Lens pictures as planes, at their own depth, and the names of such pictures."""

from __future__ import annotations

from typing import Any

import av
import numpy as np
from numpy.typing import NDArray

from diadoche.core.convert.formats import PictureFormat
from diadoche.core.sphere.stitcher import Plane, Planes

_PLANAR = {"4:2:0": "yuv420p", "4:2:2": "yuv422p", "4:4:4": "yuv444p"}


def planar_name(picture: PictureFormat) -> str:
    """The media library's name of a picture's samples in planes."""
    return _PLANAR[picture.chroma] + ("" if picture.bit_depth == 8 else f"{picture.bit_depth}le")


def in_planes(frame: av.VideoFrame, pixels: str) -> av.VideoFrame:
    """The same samples in planes: packed and half-packed ones are laid out anew."""
    if frame.format.name in {pixels, pixels.replace("yuv4", "yuvj4")}:
        return frame
    return frame.reformat(format=pixels)


def copied(planes: Planes) -> Planes:
    """The same samples in memory of their own."""
    luma, blue, red = (plane.copy() for plane in planes)
    return luma, blue, red


def planes_of(frame: av.VideoFrame) -> Planes:
    """The three planes of a planar frame, as views that may be written to."""
    found: list[Plane] = []
    kind: type[np.uint8] | type[np.uint16] = np.uint8 if frame.format.components[0].bits == 8 else np.uint16
    size = np.dtype(kind).itemsize
    for plane in frame.planes:
        lines: NDArray[Any] = np.frombuffer(plane, kind).reshape(-1, plane.line_size // size)  # type: ignore[call-overload]  # a buffer
        found.append(lines[: plane.height, : plane.width])
    return found[0], found[1], found[2]
