"""A picture in a few numbers: in 64, to tell whether an encoder gave back what it was given; in one, to the bit."""

from __future__ import annotations

from functools import lru_cache

import av
import numpy as np
import xxhash
from numpy.typing import NDArray

_BLOCKS = 8
# Packed pixels of four bytes of which one is not used, and which.
_PADDED = {"bgr0": 3, "rgb0": 3, "0bgr": 0, "0rgb": 0}
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
    if frame.format.name in _PADDED:
        lines = np.delete(lines, np.s_[_PADDED[frame.format.name] :: 4], axis=1)
    few = lines[_samples_of(lines.shape[0], lines.shape[1])].astype(np.float32)
    side = _SAMPLES // _BLOCKS
    means = few.reshape(_BLOCKS, side, _BLOCKS, side).mean(axis=(1, 3))
    signature: Signature = (means.reshape(-1) / (1 << max(0, component.bits - 8))).astype(np.uint8)
    return signature


@lru_cache(8)
def _samples_of(height: int, width: int) -> tuple[NDArray[np.int_], ...]:
    """Which samples of a picture are looked at, as an index."""
    rows, columns = (np.linspace(0, side - 1, _SAMPLES).astype(int) for side in (height, width))
    return np.ix_(rows, columns)


def picture_digest(frame: av.VideoFrame) -> int:
    """Digests the visible samples of a picture, all components of them, without the padding of its lines."""
    digest = xxhash.xxh3_64()
    for number, plane in enumerate(frame.planes):
        wide = line_bytes(frame, number)
        lines = np.frombuffer(plane, np.uint8)  # type: ignore[call-overload]  # a buffer
        if wide is None or lines.size < plane.line_size * plane.height:
            digest.update(lines.tobytes())
        else:
            visible = lines[: plane.line_size * plane.height].reshape(plane.height, plane.line_size)[:, :wide]
            if frame.format.name in _PADDED:
                # The fourth byte of a pixel holds nothing, and anything.
                visible = np.delete(visible.reshape(-1, 4), _PADDED[frame.format.name], axis=1)
            digest.update(np.ascontiguousarray(visible).data)
    return digest.intdigest()


def line_bytes(frame: av.VideoFrame, number: int) -> int | None:
    """How many bytes of each line of a plane are visible; None for a palette, which has no lines.

    Packed pictures hold all their components in one plane; semi-planar ones both colour differences in the second.
    """
    pixels, plane = frame.format, frame.planes[number]
    count, parts = len(frame.planes), len(pixels.components)
    if pixels.has_palette:
        return plane.width if number == 0 else None
    if count == 1:
        return (frame.width * pixels.padded_bits_per_pixel + 7) // 8
    each = (pixels.components[0].bits + 7) // 8
    shared = 2 if count == 2 and parts >= 3 and number == 1 else 1
    return plane.width * each * shared
