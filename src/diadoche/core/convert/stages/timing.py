"""Timing: pictures that come when they come, put on the places of a constant rate, and a map of which is where.

A picture stands on the place nearest to its time. Where none came, the one before stands on; of two for one place the
first stays. Both are noted: nothing is repeated or left out unsaid.
"""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass, field, replace
from fractions import Fraction

import av

from diadoche.core.convert.formats import PictureFormat
from diadoche.core.run import Missing, Picture


@dataclass(frozen=True, slots=True)
class Placed:
    """A picture on its place in the output, counted from 0. `again`: it stood on the place before too."""

    number: int
    frame: av.VideoFrame
    again: bool = False


@dataclass(slots=True)
class PictureMap:
    """Which picture of the source stands where: its time for each place, and what is not there.

    Times are seconds from the first picture of the source.
    """

    times_s: list[Fraction] = field(default_factory=list)
    again: set[int] = field(default_factory=set)
    left_out_s: list[Fraction] = field(default_factory=list)
    missing_s: list[Fraction] = field(default_factory=list)
    damaged: set[int] = field(default_factory=set)


class ConstantRate:
    """Puts pictures on places."""

    def __init__(self, rate: Fraction, first: int = 0, end: int | None = None, *, even: bool = True) -> None:
        """
        Args:
            rate: places a second.
            even: whether pictures come at that rate; else the last one stands until it ends.
            first: the place in the source that becomes the output's first.
            end: the place after the last; None for all.
        """
        self._rate = rate
        self._first = first
        self._end = end
        self._held: Picture | None = None
        self._next = first
        self._begun = False
        self._even = even
        self._ends_s = Fraction(0)
        self.map = PictureMap()

    @property
    def begins(self) -> int | None:
        """The place in the source of the output's first picture; None before there was one."""
        return self._first if self._begun else None

    @property
    def done(self) -> bool:
        """Whether every place up to the end is taken."""
        return self._end is not None and self._next >= self._end

    def format_out(self, format_in: PictureFormat) -> PictureFormat:
        """The same pictures at a constant rate."""
        return replace(format_in, rate=self._rate, even=True)

    def push(self, unit: Picture | Missing) -> Iterator[Placed]:
        """What the next picture, or its absence, settles."""
        place = round(unit.time_s * self._rate)
        if isinstance(unit, Picture):
            self._ends_s = max(self._ends_s, unit.time_s + unit.length_s)
        if isinstance(unit, Missing):
            if place >= self._first and (self._end is None or place < self._end):
                self.map.missing_s.append(unit.time_s)
            return
        if place < self._first:
            # It may have to stand in for the first that is wanted, where that one is missing.
            self._held = unit
            return
        if not self._begun:
            yield from self._begin(place)
        yield from self._fill(place)
        if place < self._next:
            self.map.left_out_s.append(unit.time_s)
            return
        if not self.done:
            yield self._put(unit, again=False)
        self._held = unit

    def flush(self) -> Iterator[Placed]:
        """Lets the last picture stand until it ends, where the rate varies; in an even run it has its one place."""
        if not self._even:
            yield from self._fill(round(self._ends_s * self._rate))

    def _begin(self, place: int) -> Iterator[Placed]:
        """The output begins with the first picture that decodes; in a part, with the one that stands there."""
        self._begun = True
        if self._held is None:
            self._first = self._next = place
        elif place > self._first:
            yield self._put(self._held, again=False)

    def _fill(self, place: int) -> Iterator[Placed]:
        while self._held is not None and self._next < place and not self.done:
            yield self._put(self._held, again=True)

    def _put(self, unit: Picture, *, again: bool) -> Placed:
        number = self._next - self._first
        self._next += 1
        self.map.times_s.append(unit.time_s)
        if again:
            self.map.again.add(number)
        if unit.damaged:
            self.map.damaged.add(number)
        return Placed(number, unit.frame, again)
