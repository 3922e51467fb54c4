"""What the pictures themselves show: how bright and colourful they are, and where they are black."""

from __future__ import annotations

from dataclasses import dataclass, field

import av
import numpy as np
from numpy.typing import NDArray

from diadoche.core.identify.scan import Luma
from diadoche.core.identify.sphere_looks import Laid, laid_out

# A log curve keeps black well above, and white well below, what the levels allow, and mutes colour. Common practice, no
# source for the limits; code values of 8 bits.
_LOG_DARKEST, _LOG_BRIGHTEST, _LOG_COLOUR = 21.0, 200.0, 22.0
_LOG_SPAN = 30.0
_STEP_PX = 4
# Outside the circle of a fisheye there is nothing but black.
_BLACK, _LIT = 24.0, 40.0
_OUTSIDE, _INSIDE, _BLACK_SHARE = 1.04, 0.9, 0.85
_LEAST_SAMPLES = 16


@dataclass(slots=True)
class Seen:
    """What was measured in a few pictures of a clip; brightness in 8-bit code values."""

    darkest: list[float] = field(default_factory=list)
    brightest: list[float] = field(default_factory=list)
    colour: list[float] = field(default_factory=list)
    circles: list[int] = field(default_factory=list)
    laid: list[Laid] = field(default_factory=list)

    def add(self, frame: av.VideoFrame, luma: NDArray[np.uint8] | NDArray[np.uint16], bits: int) -> None:
        """Measures one picture; `luma` as `luma_of` gives it."""
        few = (luma[::_STEP_PX, ::_STEP_PX] >> max(0, bits - 8)).astype(np.uint8)
        low, high = np.percentile(few, (0.5, 99.5))
        self.darkest.append(float(low))
        self.brightest.append(float(high))
        self.colour.append(_colour(frame))
        self.circles.append(_circles(few))
        self.laid.append(laid_out(luma, bits))

    def log_words(self, transfer: str) -> str:
        """Why it is likely a log curve, or nothing."""
        if not self.darkest:
            return ""
        low, high, colour = min(self.darkest), max(self.brightest), max(self.colour)
        if low < _LOG_DARKEST or high > _LOG_BRIGHTEST or high - low < _LOG_SPAN or not 0 < colour < _LOG_COLOUR:
            return ""
        told = "the file names no curve" if transfer == "unspecified" else f"the file says {transfer}"
        return (
            f"Likely a log curve: nothing is darker than {100 * (low - 16) / 219:.0f} % or brighter than "
            f"{100 * (high - 16) / 219:.0f} %, and colours are weak; {told}."
        )

    @property
    def laid_out(self) -> Laid:
        """As what the pictures look that tell anything: one that does not look like a sphere, and it is none."""
        told = {each for each in self.laid if each is not None}
        return told.pop() if len(told) == 1 else "flat" if told else None

    @property
    def lens_circles(self) -> int:
        """How many round pictures stand side by side in every picture that was looked at: 0, 1 or 2."""
        return min(self.circles, default=0)


def _colour(frame: av.VideoFrame) -> float:
    """How far colours lie from grey: the 98th percentile of either difference, in 8-bit code values."""
    parts = frame.format.components
    if frame.format.is_rgb or len(parts) < 3 or len(frame.planes) < 3 or "be" in frame.format.name:
        return 0.0
    shift = max(0, parts[0].bits - 8)
    found = []
    for plane in frame.planes[1:3]:
        values = plane_values(plane, parts[0].bits)[::_STEP_PX, ::_STEP_PX]
        found.append(float(np.percentile(np.abs((values >> shift).astype(np.int16) - 128), 98)))
    return max(found)


def plane_values(plane: av.video.plane.VideoPlane, bits: int) -> NDArray[np.uint8] | NDArray[np.uint16]:
    """The samples of a plane, shape (lines, columns), without padding."""
    kind = np.dtype(np.uint8 if bits <= 8 else np.uint16)
    data = np.frombuffer(plane, kind)  # type: ignore[call-overload]  # a buffer
    values: NDArray[np.uint8] = data.reshape(-1, plane.line_size // kind.itemsize)[: plane.height, : plane.width]
    return values


def luma_of(frame: av.VideoFrame) -> tuple[NDArray[np.uint8] | NDArray[np.uint16], int]:
    """The luma of a decoded picture and its depth: shape (lines, columns), standing in the frame itself."""
    if frame.format.is_rgb or (frame.format.components[0].bits > 8 and "le" not in frame.format.name):
        frame = frame.reformat(format="gray")
    bits = frame.format.components[0].bits
    return plane_values(frame.planes[0], bits), bits


def _circles(luma: Luma) -> int:
    height, width = luma.shape
    for count in (2, 1):
        if abs(width - count * height) <= height // 20 and all(
            _is_circle(part) for part in np.array_split(luma, count, axis=1)
        ):
            return count
    return 0


def _is_circle(square: Luma) -> bool:
    """Black outside the inscribed circle, but for what a camera may write into a corner, and lit inside."""
    height, width = square.shape
    if min(height, width) < _LEAST_SAMPLES:
        return False
    down, across = np.ogrid[:height, :width]
    radius = np.hypot((down + 0.5) / height * 2 - 1, (across + 0.5) / width * 2 - 1)
    outside = square[radius > _OUTSIDE]
    return float((outside < _BLACK).mean()) > _BLACK_SHARE and float(square[radius < _INSIDE].mean()) > _LIT
