"""Clocks that must be wrong: dates of recordings that lie in the future, or before cameras of this kind were."""

from __future__ import annotations

from datetime import UTC, datetime, timedelta

from diadoche.core.cards.card import Card

# Common practice, no source: cameras whose clock was never set begin in 1970, 1980, 2000 or with their firmware's year.
_NEVER_SET = {1970, 1980, 2000}
_FIRST_YEAR = 1996
_AHEAD = timedelta(days=1)


def clock_remark(card: Card, now: datetime) -> str:
    """What is odd about the dates of a card's recordings, in one sentence, or nothing.

    Args:
        card: the card.
        now: this moment, with its zone.
    """
    if card.times is None:
        return ""
    first, last = (each if each.tzinfo else each.replace(tzinfo=UTC) for each in card.times)
    if last > now + _AHEAD:
        return f"Its clock is wrong: it says {last.day} {last:%B %Y}, which is yet to come."
    if first.year in _NEVER_SET or first.year < _FIRST_YEAR:
        return f"Its clock was not set: it says {first.day} {first:%B %Y}."
    return ""
