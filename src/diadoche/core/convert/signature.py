"""A picture in 64 numbers: enough to tell whether an encoder gave back what it was given, at its place."""

from __future__ import annotations

import av
import numpy as np
from numpy.typing import NDArray

_BLOCKS = 8
_SAMPLES = 64
Signature = NDArray[np.uint8]


def signature_of(frame: av.VideoFrame) -> Signature:
    """The mean brightness of 8 × 8 parts of a picture, in 8-bit code values of its own levels; shape (64,).

    Few samples are looked at, and all of them again in the output: the same ones.
    """
    plane, component = frame.planes[0], frame.format.components[0]
    kind = np.dtype(np.uint8) if component.bits <= 8 else np.dtype(">u2" if "be" in frame.format.name else "<u2")
    data = np.frombuffer(plane, kind)  # type: ignore[call-overload]  # a buffer
    # Packed pictures count all their components: what they are does not matter, only that they come back.
    lines = data.reshape(-1, plane.line_size // kind.itemsize)[: plane.height, : plane.width]
    rows = np.linspace(0, lines.shape[0] - 1, _SAMPLES).astype(int)
    columns = np.linspace(0, lines.shape[1] - 1, _SAMPLES).astype(int)
    few = lines[np.ix_(rows, columns)].astype(np.float32)
    side = _SAMPLES // _BLOCKS
    means = few.reshape(_BLOCKS, side, _BLOCKS, side).mean(axis=(1, 3))
    signature: Signature = (means.reshape(-1) / (1 << max(0, component.bits - 8))).astype(np.uint8)
    return signature
