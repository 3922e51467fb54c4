"""The frame rate of a clip from when its pictures are shown: what is usual is the rate, what is missing is a gap.

An average over all pictures is no rate: one hole, or a few lost pictures, would move it.
"""

from __future__ import annotations

import statistics
from collections.abc import Sequence
from dataclasses import dataclass
from fractions import Fraction
from itertools import pairwise
from typing import Literal

from diadoche.core.identify.facts import Gap
from diadoche.core.rates import STANDARD_RATES, nearest_standard

PLAUSIBLE_RATES = (Fraction(1, 60), Fraction(1000))
# Clocks round to whole ticks, and some are rounded twice.
_ROUNDING_TICKS = 2
# The jitter of a camera's clock; phones are the worst.
_JITTER = Fraction(1, 50)
# So few odd steps are gaps in an even run; more of them are a rate that changes.
_ODD_SHARE = Fraction(1, 50)
_FEWEST_STEPS = 2
_AGREES, _SNAPS = Fraction(1, 5000), Fraction(4, 10_000)
# The fastest pace counts where so many steps keep it.
_FAST_SHARE = Fraction(1, 50)
_LOOSE = Fraction(3, 20)


@dataclass(frozen=True, slots=True)
class Cadence:
    """A frame rate. `told`: whether anything in the file tells it. `range`: slowest and fastest where it varies."""

    rate: Fraction
    mode: Literal["constant", "variable"] = "constant"
    told: bool = True
    range: tuple[Fraction, Fraction] | None = None
    gaps: tuple[Gap, ...] = ()


def cadence_of(stamps: Sequence[int], tick_s: Fraction, header: Fraction | None) -> Cadence:
    """The cadence of pictures.

    Args:
        stamps: when each is shown, in ticks, in order; none where they are not known.
        tick_s: the length of a tick.
        header: the rate that the file's header tells; None where it tells none, or nonsense.
    """
    steps = [later - earlier for earlier, later in pairwise(stamps) if later > earlier]
    if len(steps) < _FEWEST_STEPS:
        return Cadence(nearest_standard(header or Fraction(25)), told=header is not None)
    usual = statistics.median_low(steps)
    # Where a tick is nearly a picture long, the clock is exact.
    slack = max(min(_ROUNDING_TICKS, usual // 4), int(usual * _JITTER))
    even = [step for step in steps if abs(step - usual) <= slack]
    if (film := _pulldown_period(steps, usual, slack)) is not None:
        return Cadence(_exact(film * tick_s, len(steps), tick_s, header))
    if len(steps) - len(even) <= max(1, int(len(steps) * _ODD_SHARE)):
        period = Fraction(sum(even), len(even))
        rate = _exact(period * tick_s, len(even), tick_s, header)
        return Cadence(rate, gaps=_gaps(stamps, period, tick_s))
    return _varying(sorted(steps), tick_s)


def _exact(period_s: Fraction, steps: int, tick_s: Fraction, header: Fraction | None) -> Fraction:
    """The rate of a measured period: what the header tells where both agree, else the standard rate beside it."""
    # What whole ticks leave open: a coarse clock over a few pictures tells little.
    open_share = tick_s / (period_s * steps)
    best = min(STANDARD_RATES, key=lambda rate: abs(rate * period_s - 1))
    if header is not None and abs(header * period_s - 1) <= max(_AGREES, open_share):
        told = nearest_standard(header)
        # Where boxes hold no rate, the header's is an average of these very stamps, as they were rounded.
        is_average = told not in STANDARD_RATES and abs(best * period_s - 1) <= open_share
        return best if is_average else told
    return best if abs(best * period_s - 1) <= max(_SNAPS, open_share) else 1 / period_s


def _pulldown_period(steps: Sequence[int], usual: int, slack: int) -> Fraction | None:
    """The period of film on a video clock, whose steps of two and of three fields take turns [13818-2, 6.3.10].

    Half of a step of each kind, for there may be one more of one of them. None where they do not take turns.
    """
    for other in (usual * 3 // 2, usual * 2 // 3):
        near, far = ([step for step in steps if abs(step - each) <= slack] for each in (usual, other))
        alike, others = len(near), len(far)
        turns = sum((abs(a - usual) <= slack) != (abs(b - usual) <= slack) for a, b in pairwise(steps))
        if min(alike, others) * 3 >= len(steps) and alike + others >= len(steps) - 1 and turns >= len(steps) - 2:
            return (Fraction(sum(near), alike) + Fraction(sum(far), others)) / 2
    return None


def _gaps(stamps: Sequence[int], period: Fraction, tick_s: Fraction) -> tuple[Gap, ...]:
    found = []
    for earlier, later in pairwise(stamps):
        missing = round((later - earlier) / period) - 1
        if missing > 0:
            found.append(Gap(float((earlier - stamps[0]) * tick_s), missing))
    return tuple(found)


def _varying(steps: Sequence[int], tick_s: Fraction) -> Cadence:
    """A rate that changes: the fastest pace that is kept for a while is what holds every picture."""
    fast = steps[int(len(steps) * _FAST_SHARE)]
    around = [step for step in steps if abs(step - fast) <= max(_ROUNDING_TICKS, int(fast * _LOOSE))]
    rate = 1 / (Fraction(sum(around), len(around)) * tick_s)
    best = min(STANDARD_RATES, key=lambda standard: abs(standard - rate))
    rate = best if abs(best - rate) / best < _JITTER else Fraction(round(rate)) or rate
    slowest, fastest = (nearest_standard(1 / (step * tick_s)) for step in (steps[-1], steps[0]))
    return Cadence(rate, "variable", range=(slowest, fastest))
