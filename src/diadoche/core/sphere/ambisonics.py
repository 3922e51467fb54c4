"""Ambisonic sound of the first order, turned with the picture.

Four channels in the order W, Y, Z, X (ACN): all around, to the left, up and ahead. The last three turn as a vector
does, whatever their common weight [SPHERE, spatial audio].
"""

from __future__ import annotations

import struct

import av
import numpy as np
from numpy.typing import NDArray

from diadoche.core.media import frame_like, layout_of, samples_of

# What takes a direction in the frame of `rotation` (right, down, ahead) to Y, Z and X.
_AXES = np.array([[-1.0, 0, 0], [0, -1, 0], [0, 0, 1]])
_FIRST = 1
_CHANNELS = 4


def is_first_order(box: bytes) -> bool:
    """Whether the payload of a sound's `SA3D` box says four channels of the first order, in their usual order."""
    if len(box) < 12 + 4 * _CHANNELS or box[:2] != b"\0\0":
        return False
    order, ordering, _normal, channels = struct.unpack(">IBBI", box[2:12])
    places = struct.unpack(f">{_CHANNELS}I", box[12 : 12 + 4 * _CHANNELS])
    return (order, ordering, channels, places) == (_FIRST, 0, _CHANNELS, (0, 1, 2, 3))


def turned(frame: av.AudioFrame, matrix: NDArray[np.float64], ends: NDArray[np.float64] | None = None) -> av.AudioFrame:
    """The same sound where what came from a direction comes from `matrix @` it.

    Args:
        frame: of four channels; whole numbers are rounded.
        matrix: 3×3, in the frame of `rotation`; of the first sample where it turns on.
        ends: how far it has turned behind the last one.
    """
    samples = samples_of(frame)
    packed = samples.shape[0] == 1
    channels = samples.reshape(-1, _CHANNELS).T if packed else samples
    found = _of_channels(matrix) @ channels.astype(np.float64)
    if ends is not None:
        later = _of_channels(ends) @ channels.astype(np.float64)
        found += (later - found) * np.linspace(0, 1, found.shape[1], endpoint=False)
    if samples.dtype.kind == "i":
        limit = 2.0 ** (8 * samples.dtype.itemsize - 1)
        found = np.clip(np.rint(found), -limit, limit - 1)
    found = found.astype(samples.dtype)
    laid_out = np.ascontiguousarray(found.T.reshape(1, -1) if packed else found)
    return frame_like(frame, laid_out, layout_of(frame)[0])


def _of_channels(matrix: NDArray[np.float64]) -> NDArray[np.float64]:
    turn = np.eye(_CHANNELS)
    turn[1:, 1:] = _AXES @ matrix @ _AXES.T
    return turn
