"""What is near, matched between lenses: each sees it from a place of its own, so that it would stand twice at a seam.

In the unrolled band that two lenses both see, it is found how far everything is shifted from the one to the other. Each
lens is then looked up shifted by as much as the other counts: where one counts wholly it is not shifted at all, and in
the middle of the seam both are by half. The picture so goes over from what the one pupil sees to what the other does,
as if seen from a place that moves from the one to the other.

The shifts are found by dense inverse search [DIS2016], from the one to the other and back. Where the two ways disagree,
as where only one lens can see behind something, those of the surroundings stand.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from typing import Any, TypeVar

import cv2
import numpy as np
from numpy.typing import NDArray

from diadoche.core.sphere.rig import Rig
from diadoche.core.sphere.ring_stereo import RING_BAND_DEG
from diadoche.core.sphere.shifts import ROUND, Field, Shifts, gone_round
from diadoche.core.sphere.strips import Strip, alike, looked_up, places_in, seam_strips

Sample = TypeVar("Sample", bound=np.generic)
# How far beyond the band's edges things may be shifted, in degrees across the seam.
_REACH_DEG = 6.0
# A strip is no longer than that: what is found on it to a tenth of a place is fine enough for the finest lenses.
_MOST_COLUMNS = 864
# Of a ring, all that two neighbours see is matched, and not a band.
_MOST_RING_COLUMNS = 576
# The finest scale at which is searched: 1 is half the strip's size. Finer ones take four times as long for nothing.
_FINEST = 1
_STEPS = 2
# Views are softened by so many places first: noise and what is finer than a place would be followed.
_BLUR_PX = 1.0
# The two ways agree within so many places of a strip, and how far around something stands in for what does not.
_AGREES_PX = 1.0
_AROUND_PX = 15
# How far beside a place something that fits better is looked for, around which patches are compared, and by how many
# code values of the evened views it must fit better.
_BESIDE_PX, _PATCH_PX, _CLEARLY = 8, 5, 1.5
# From one picture to the next shifts keep this share of what they were, where they changed by less than so many places.
_KEPT, _JUMP_PX = 0.6, 1.5


@dataclass(frozen=True, slots=True)
class NearQuality:
    """How what is near is matched: a choice by the shot.

    Args:
        every: shifts are found anew for every so many-th picture.
        mean_of: what lenses see is matched by the mean of so many pictures: noise is not followed, and what moves is
            followed late.
    """

    every: int = 1
    mean_of: int = 1


class NearMatching:
    """Finds the shifts of one picture after another."""

    def __init__(self, rig: Rig, band_deg: float, quality: NearQuality | None = None) -> None:
        """
        Args:
            rig: as the stitch uses it.
            band_deg: how wide the seams are.
            quality: for each picture anew where nothing is said.
        """
        self._rig = rig
        self._quality = quality or NearQuality()
        self._strips, self._ways = [], []
        columns = _MOST_RING_COLUMNS if rig.viewing_eye else _MOST_COLUMNS
        wide_deg = RING_BAND_DEG if rig.viewing_eye else band_deg + 2 * _REACH_DEG
        for strip, weights in seam_strips(rig, band_deg, wide_deg, columns):
            self._strips.append(strip)
            self._ways.append(_Way(rig, strip, weights))
        self._found: Shifts | None = None
        self._age = 0

    @property
    def strips(self) -> tuple[Strip, ...]:
        """The bands of all seams."""
        return tuple(self._strips)

    @property
    def has_seams(self) -> bool:
        """Whether any two lenses meet at a seam."""
        return bool(self._strips)

    def shifts(self, lumas: Sequence[NDArray[Any]]) -> Shifts:
        """Those of the next picture.

        Args:
            lumas: of the rig's pictures.
        """
        if self._found is None or self._age + 1 >= self._quality.every:
            fields = []
            for strip, way in zip(self._strips, self._ways, strict=True):
                one, other = (lumas[self._rig.lenses[number].picture] for number in (strip.one, strip.other))
                fields.append(way.fields(one, other, self._quality.mean_of))
            self._found, self._age = Shifts(tuple(self._strips), tuple(fields)), 0
        else:
            self._age += 1
        return self._found


class _Way:
    """From one lens's view of a strip to the other's, steady over time."""

    def __init__(self, rig: Rig, strip: Strip, weights: NDArray[np.float32]) -> None:
        self._strip = strip
        rows, columns = strip.seen.shape
        grid = np.meshgrid(np.arange(columns + 2 * ROUND), np.arange(rows))
        self._grid = np.stack(grid, axis=-1).astype(np.float32)
        # How much of the way to the other lens each place is, and back.
        self._share, self._other_share = (_twice(gone_round(weights[number])) for number in (strip.other, strip.one))
        self._views = [places_in(rig, number, strip) for number in (strip.one, strip.other)]
        self._places = [gone_round(view) for view in self._views]
        self._search = cv2.DISOpticalFlow.create(cv2.DISOPTICAL_FLOW_PRESET_ULTRAFAST)
        self._search.setFinestScale(_FINEST)
        self._seen = gone_round(strip.seen.astype(np.float32))
        self._before: Field | None = None
        self._means: list[NDArray[np.float32]] = []
        self._averaged = 0

    def fields(self, one: NDArray[Any], other: NDArray[Any], mean_of: int) -> tuple[Field, Field]:
        """The shifts of the one and of the other lens, in pixels of their pictures, whose lumas are given."""
        seen = [looked_up(luma, places) for luma, places in zip((one, other), self._views, strict=True)]
        if mean_of > 1:
            self._averaged = min(self._averaged + 1, mean_of)
            before = self._means or seen
            seen = [mean + (view - mean) / np.float32(self._averaged) for mean, view in zip(before, seen, strict=True)]
            self._means = seen
        views = [cv2.GaussianBlur(gone_round(view), (0, 0), _BLUR_PX) for view in alike(self._strip, seen[0], seen[1])]
        there: Field = self._search.calc(views[0], views[1], np.empty(0)).astype(np.float32, copy=False)
        back: Field = self._search.calc(views[1], views[0], np.empty(0)).astype(np.float32, copy=False)
        flow = self._steady(self._fitting(self._between(there, back), views))
        one_at, other_at = self._grid - self._share * flow, self._grid + self._other_share * flow
        return (
            looked_up(self._places[0], one_at) - self._places[0],
            looked_up(self._places[1], other_at) - self._places[1],
        )

    def _between(self, there: Field, back: Field) -> Field:
        """The flow at places as they are between the two lenses' views, where the share says."""
        # A place there shows what lies a share of the flow before it in the one's view: the flow is found by a few
        # steps, for it decides itself where it is to be read.
        forth, again = there.copy(), -back
        for _ in range(_STEPS):
            forth = looked_up(there, self._grid - self._share * forth)
            again = -looked_up(back, self._grid + self._other_share * again)
        apart = cv2.split(forth - again)
        off = apart[0] * apart[0] + apart[1] * apart[1]
        trust = _twice(np.exp(off * np.float32(-0.5 / _AGREES_PX**2)) * self._seen)
        flow = self._other_share * forth + self._share * again
        around = (2 * _AROUND_PX + 1, 2 * _AROUND_PX + 1)
        filled = cv2.blur(flow * trust, around) / np.maximum(cv2.blur(trust, around), 1e-3)
        return np.asarray(filled + trust * (flow - filled), np.float32)

    def _fitting(self, flow: Field, views: Sequence[NDArray[Any]]) -> Field:
        """Where something else fits better, that: the flow of what lies beside it, or none at all.

        Beside what is near, what is far behind it is carried along for some places: there the two views differ.
        """
        beside = [np.roll(flow, _BESIDE_PX * step, axis) for axis in (0, 1) for step in (-1, 1)]
        best = self._unlike(flow, views) - _CLEARLY
        for other in (*beside, np.zeros_like(flow)):
            unlike = self._unlike(other, views)
            better = unlike < best
            best = np.where(better, unlike, best)
            flow = np.where(_twice(better), other, flow)
        return np.asarray(cv2.blur(flow, (3, 3)), np.float32)

    def _unlike(self, flow: Field, views: Sequence[NDArray[Any]]) -> NDArray[np.float32]:
        """How much the two views differ around each place, where a flow brings them together, in code values."""
        one = looked_up(views[0], self._grid - self._share * flow)
        other = looked_up(views[1], self._grid + self._other_share * flow)
        return np.asarray(cv2.blur(cv2.absdiff(one, other), (_PATCH_PX, _PATCH_PX)), np.float32)

    def _steady(self, flow: Field) -> Field:
        """Not restless from picture to picture; but what moved is where it is now."""
        if self._before is not None:
            change = self._before - flow
            kept = np.float32(_KEPT) * np.clip(1 - np.abs(change) * np.float32(1 / _JUMP_PX), 0, 1)
            flow = np.asarray(flow + kept * change, np.float32)
        self._before = flow
        return flow


def _twice(values: NDArray[Sample]) -> NDArray[Sample]:
    """The same for both directions: arrays of one shape are multiplied several times as fast as others."""
    return np.repeat(values[..., None], 2, axis=-1)
