"""A decoded picture as an eye should see it: its own matrix, square pixels, upright, one field at its own lines."""

from __future__ import annotations

from fractions import Fraction
from typing import Any, cast

import av
import numpy as np
from numpy.typing import NDArray

from diadoche.core.colortags import MATRICES, PRIMARIES, code_of, matrix_for, name_of
from diadoche.core.orientation import Orientation

Rgb = NDArray[np.uint8]


def name_colours(frame: av.VideoFrame) -> None:
    """Writes into a frame by which matrix it is to be read, where it does not say: scalers take another one then."""
    if frame.format.is_rgb:
        return
    matrix = name_of(MATRICES, int(frame.colorspace))
    primaries = name_of(PRIMARIES, int(frame.color_primaries))
    frame.colorspace = code_of(MATRICES, matrix_for(matrix, primaries, frame.height, rgb=False))


def as_rgb(frame: av.VideoFrame, width: int, height: int) -> Rgb:
    """The picture in a size, shape (height, width, 3)."""
    name_colours(frame)
    return cast(Rgb, frame.reformat(width=width, height=height, format="rgb24").to_ndarray())


def upright(picture: Rgb, orientation: Orientation) -> Rgb:
    """A picture as it is to be shown."""
    turns = -orientation.rotation_deg // 90 % 4
    if not turns and not orientation.mirrored:
        return picture
    return np.ascontiguousarray(np.rot90(picture[:, ::-1] if orientation.mirrored else picture, turns))


def seen_size(width: int, height: int, pixel_aspect: Fraction, rotation_deg: int) -> tuple[int, int]:
    """Width and height with square pixels, upright."""
    wide = max(1, round(width * float(pixel_aspect or 1)))
    return (height, wide) if rotation_deg % 180 else (wide, height)


def field_of(frame: av.VideoFrame, parity: int) -> av.VideoFrame:
    """One field at full height: its own lines where they are, the others halfway between their neighbours.

    Args:
        frame: both fields woven.
        parity: 0 for the field of the upper lines, 1 for that of the lower.
    """
    if "be" in frame.format.name:
        frame = frame.reformat(format=frame.format.name.replace("be", "le"))
    field = av.VideoFrame(frame.width, frame.height, frame.format.name)
    kind: np.dtype[Any] = np.dtype(np.uint8 if frame.format.components[0].bits <= 8 else np.uint16)
    for source, target in zip(frame.planes, field.planes, strict=True):
        lines, into = (_lines(plane, kind) for plane in (source, target))
        wide = min(lines.shape[1], into.shape[1])
        own = lines[parity : target.height : 2, :wide]
        into[parity : target.height : 2, :wide] = own
        between = into[1 - parity : target.height : 2, :wide]
        # Above and below it in this field; at an edge there is only one of them.
        places = np.arange(between.shape[0]) - parity
        above, below = (own[np.clip(places + step, 0, own.shape[0] - 1)] for step in (0, 1))
        between[:] = (above >> 1) + (below >> 1) + (above & below & 1)
    field.colorspace, field.color_range = frame.colorspace, frame.color_range
    field.color_primaries = frame.color_primaries
    return field


def _lines(plane: av.video.plane.VideoPlane, kind: np.dtype[Any]) -> NDArray[np.uint16]:
    data = np.frombuffer(plane, kind)  # type: ignore[call-overload]  # a buffer
    lines: NDArray[np.uint16] = data.reshape(-1, plane.line_size // kind.itemsize)
    return lines
