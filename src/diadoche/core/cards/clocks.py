"""Clocks that must be wrong: dates in the future, before cameras of this kind were, or at odds with the rest."""

from __future__ import annotations

import re
from collections.abc import Sequence
from datetime import UTC, datetime, timedelta
from itertools import pairwise

from diadoche.core.cards.card import Card
from diadoche.core.cards.clips import Clip
from diadoche.core.names import shown
from diadoche.core.sizes import count_text

Times = tuple[datetime, datetime]

# Common practice, no source: cameras whose clock was never set begin in 1970, 1980, 2000 or with their firmware's year.
_NEVER_SET = {1970, 1980, 2000}
_FIRST_YEAR = 1996
_AHEAD = timedelta(days=1)
# Cameras of one shoot may rest for days; their zones and summer times differ by hours.
_APART = timedelta(days=2)
_BACK = timedelta(hours=1)
_FEWEST_OTHERS = 2
_COUNTED = re.compile(r"^(.*?)(\d+)(\D*)$")


def clock_remark(card: Card, now: datetime, others: Sequence[Times] = ()) -> str:
    """What is odd about the dates of a card's recordings, in one sentence, or nothing.

    Args:
        card: the card.
        now: this moment, with its zone.
        others: when the first and the last recording of every other card of the shoot began.
    """
    if card.times is None:
        return ""
    first, last = (_zoned(each) for each in card.times)
    if last > now + _AHEAD:
        return f"Its clock is wrong: it says {_day(last)}, which is yet to come."
    if first.year in _NEVER_SET or first.year < _FIRST_YEAR:
        return f"Its clock was not set: it says {_day(first)}."
    return _went_back(card.clips) or _at_odds((first, last), others)


def _went_back(clips: Sequence[Clip]) -> str:
    """Two recordings that the camera counted one after the other, of which the later says that it is the earlier."""
    counted = [
        ((clip.spans[0].rpartition("/")[0], found[1]), int(found[2]), clip)
        for clip in clips
        if clip.start is not None and (found := _COUNTED.match(clip.name)) is not None
    ]
    counted.sort(key=lambda each: each[:2])
    for (counter, number, before), (same_counter, following, after) in pairwise(counted):
        assert before.start is not None
        assert after.start is not None
        # Each folder may have a counter of its own.
        consecutive = counter == same_counter and following == number + 1
        if consecutive and _zoned(before.start) - _zoned(after.start) > _BACK:
            then, now = (f"{each:%H:%M} on {_day(each)}" for each in (before.start, after.start))
            return f"Its clock went back: {shown(after.name)}, counted after {shown(before.name)} ({then}), says {now}."
    return ""


def _at_odds(times: Times, others: Sequence[Times]) -> str:
    """Whether a card lies farther from all the others than those lie from each other."""
    if len(others) < _FEWEST_OTHERS:
        return ""
    begun, ended = min(_zoned(each[0]) for each in others), max(_zoned(each[1]) for each in others)
    apart = max(begun - times[1], times[0] - ended)
    if apart <= max(_APART, ended - begun):
        return ""
    days = _day(begun) if begun.date() == ended.date() else f"{_day(begun)} to {_day(ended)}"
    rest = f"the {count_text(len(others), 'other card')} of this shoot {days}"
    return f"Its clock may be wrong: it says {_day(times[0])}, {rest}."


def _day(moment: datetime) -> str:
    return f"{moment.day} {moment:%B %Y}"


def _zoned(moment: datetime) -> datetime:
    return moment if moment.tzinfo else moment.replace(tzinfo=UTC)
