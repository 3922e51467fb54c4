"""SMPTE timecode as frame counts and labels, drop-frame included.

Source: [ST12-1] SMPTE ST 12-1:2014, clause 5 (drop-frame compensation).
"""

from __future__ import annotations

import re
from dataclasses import dataclass
from fractions import Fraction

_LABEL = re.compile(r"^(\d\d):(\d\d):(\d\d)([:;.])(\d\d\d?)$")


def counting_base(rate: Fraction) -> int:
    """Labels a second: 30 for 30000/1001."""
    return round(rate)


def may_drop(rate: Fraction) -> bool:
    """Whether drop-frame counting is defined: only for multiples of 30000/1001."""
    return rate.denominator == 1001 and counting_base(rate) % 30 == 0


@dataclass(frozen=True, slots=True)
class Timecode:
    """A label, counted in frames since midnight, at an exact rate."""

    frame: int
    rate: Fraction
    drop: bool = False

    def __post_init__(self) -> None:
        if self.drop and not may_drop(self.rate):
            raise ValueError(f"drop-frame is not defined at {self.rate}")

    @classmethod
    def parse(cls, label: str, rate: Fraction) -> Timecode:
        """Reads hh:mm:ss:ff, or hh:mm:ss;ff for drop-frame.

        Raises:
            ValueError: no timecode, out of range, or a label that drop-frame skips.
        """
        match = _LABEL.match(label)
        if match is None:
            raise ValueError(f"{label} is no timecode")
        hours, minutes, seconds, frames = (int(match[i]) for i in (1, 2, 3, 5))
        base, drop = counting_base(rate), match[4] != ":"
        if hours > 23 or minutes > 59 or seconds > 59 or frames >= base:
            raise ValueError(f"{label} is out of range at {base} frames")
        skipped = base // 15
        if drop and seconds == 0 and minutes % 10 and frames < skipped:
            raise ValueError(f"{label} does not exist in drop-frame")
        count = ((hours * 60 + minutes) * 60 + seconds) * base + frames
        if drop:
            total_minutes = hours * 60 + minutes
            count -= skipped * (total_minutes - total_minutes // 10)
        return cls(count, rate, drop)

    def plus(self, frames: int) -> Timecode:
        """The label `frames` later, wrapping at midnight."""
        return Timecode((self.frame + frames) % frames_a_day(self.rate, self.drop), self.rate, self.drop)

    def __str__(self) -> str:
        base = counting_base(self.rate)
        count = self.frame % frames_a_day(self.rate, self.drop)
        if self.drop:
            skipped = base // 15
            ten_minutes, rest = divmod(count, base * 600 - 9 * skipped)
            past_first = max(0, rest - skipped) // (base * 60 - skipped)
            count += skipped * (9 * ten_minutes + past_first)
        seconds, frames = divmod(count, base)
        minutes, seconds = divmod(seconds, 60)
        hours, minutes = divmod(minutes, 60)
        return f"{hours:02}:{minutes:02}:{seconds:02}{';' if self.drop else ':'}{frames:02}"


@dataclass(frozen=True, slots=True)
class PictureLabels:
    """The label of each picture of a clip; its timecode may count at half the rate of its pictures, or another."""

    first: Timecode
    picture_rate: Fraction

    def at(self, picture: int) -> Timecode:
        """The label that a picture carries, counted from the first."""
        return self.first.plus(picture * self._labels_a_picture.numerator // self._labels_a_picture.denominator)

    def picture_of(self, label: str) -> int:
        """The first picture that carries a label, counted from the first of the clip.

        Raises:
            ValueError: it is no label at this rate.
        """
        labels = Timecode.parse(label, self.first.rate).frame - self.first.frame
        return -(-labels * self._labels_a_picture.denominator // self._labels_a_picture.numerator)

    @property
    def midnight(self) -> int:
        """How many pictures lie between midnight and the first one."""
        return int(self.first.frame / self._labels_a_picture)

    @property
    def _labels_a_picture(self) -> Fraction:
        return Fraction(counting_base(self.first.rate), 1) / counting_base(self.picture_rate)


def frames_a_day(rate: Fraction, drop: bool) -> int:
    """How many labels 24 hours have."""
    base = counting_base(rate)
    return base * 86_400 - (144 * 9 * (base // 15) if drop else 0)
