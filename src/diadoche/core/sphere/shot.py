"""What kind of shot a take is: whether near things move at its seams, how noisy it is, what that asks of a stitch."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from typing import Any

import cv2
import numpy as np
from numpy.typing import NDArray

from diadoche.core.sphere.near_matching import NearMatching, NearQuality
from diadoche.core.sphere.rig import Rig
from diadoche.core.sphere.shape import Quality
from diadoche.core.sphere.shifts import ROUND
from diadoche.core.sphere.strips import looked_up, places_in

# Shifts stand for so many pictures where a camera and what is near it stand.
STANDING_EVERY = 5
# What is shifted by more than so many degrees between two lenses is near; of it, more than that share moves.
_NEAR_DEG, _MOVES_SHARE = 0.25, 0.01
# Something moves where a patch of so many places changes by more than noise would, and by so many 8-bit code values.
_PATCH, _ABOVE_NOISE, _LEAST_CHANGE = 5, 5.0, 4.0
# Noise in code values of 8 bits from which on pictures are averaged before they are matched.
_NOISY = 1.5
_MEAN_STANDING, _MEAN_MOVING = 8, 3


@dataclass(frozen=True, slots=True)
class Shot:
    """What was seen of a take at its seams.

    Args:
        moving: the share of what is near that changes within `STANDING_EVERY` pictures.
        noise: the standard deviation of samples, in code values of 8 bits.
    """

    moving: float
    noise: float

    @property
    def stands(self) -> bool:
        """Whether nothing moves that near matching would have to follow in every picture."""
        return self.moving < _MOVES_SHARE

    @property
    def is_noisy(self) -> bool:
        """Whether single pictures are too noisy to be matched by."""
        return self.noise > _NOISY

    def near_quality(self, quality: Quality) -> NearQuality | None:
        """How what is near is matched in such a shot; None where it is not."""
        if quality == "quick":
            return None
        mean_of = 1
        if self.is_noisy:
            mean_of = _MEAN_STANDING if self.stands else _MEAN_MOVING
        return NearQuality(STANDING_EVERY if quality == "standing" else 1, mean_of)

    @property
    def proposed(self) -> Quality:
        """The quality that is enough for it."""
        return "standing" if self.stands else "best"


def shot_of(rig: Rig, band_deg: float, moments: Sequence[Sequence[Sequence[NDArray[Any]]]], bits: int) -> Shot | None:
    """Looks at some moments; None where no two lenses meet, or nothing was given.

    Args:
        rig: the lenses, for pictures of this size.
        band_deg: how wide the seams are.
        moments: each with lumas of the rig's pictures: one, the next, and that `STANDING_EVERY` later.
        bits: a sample.
    """
    moving, noise = [], []
    scale = np.float32(1 / (1 << bits - 8))
    for now, following, later in moments:
        shifts = NearMatching(rig, band_deg).shifts(now)
        for strip, fields in zip(shifts.strips, shifts.fields, strict=True):
            places, own = places_in(rig, strip.one, strip), rig.lenses[strip.one]
            view, *others = (looked_up(each[own.picture], places) * scale for each in (now, following, later))
            after = np.abs(others[0] - view)
            # The median tells noise, however much some things move: 1.4826 times that of what is normally distributed
            # is its standard deviation, and that of a difference is √2 times as large as either's.
            spread = float(np.median(after[strip.seen])) * 1.4826 / np.sqrt(2)
            noise.append(spread)
            change = np.abs(cv2.blur(others[1] - view, (_PATCH, _PATCH)))
            # A patch's mean is off by noise as much less as the root of how many places it has.
            limit = max(_LEAST_CHANGE, _ABOVE_NOISE * spread * np.sqrt(2) / _PATCH)
            shifted = np.hypot(fields[0][:, ROUND:-ROUND, 0], fields[0][:, ROUND:-ROUND, 1])
            near = strip.seen & (shifted > _NEAR_DEG * np.radians(1) * own.lens.focal_px)
            moving.append(float((near & (change > limit)).sum() / max(1, near.sum())))
    return Shot(max(moving), float(np.median(noise))) if noise else None
