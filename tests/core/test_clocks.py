"""Clocks that must be wrong are pointed out."""

from __future__ import annotations

from dataclasses import replace
from datetime import UTC, datetime, timedelta
from pathlib import Path

import pytest

from diadoche.core.cards.card import look
from diadoche.core.cards.clocks import clock_remark
from diadoche.core.cards.layout import load_layouts
from diadoche.core.watch import Watch

NOW = datetime(2026, 6, 20, tzinfo=UTC)


@pytest.mark.parametrize(
    ("start", "words"),
    [
        (datetime(2026, 6, 14, 9, tzinfo=UTC), ""),
        (NOW + timedelta(hours=13), ""),
        (datetime(2031, 1, 2, tzinfo=UTC), "it says 2 January 2031, which is yet to come"),
        (datetime(1980, 1, 1, tzinfo=UTC), "was not set: it says 1 January 1980"),
        (datetime(1970, 1, 1, 3, tzinfo=UTC), "was not set"),
    ],
)
def test_a_clock_that_must_be_wrong(drone: Path, start: datetime, words: str) -> None:
    card = look(drone, load_layouts(None), Watch())
    clips = tuple(replace(clip, start=start) for clip in card.clips)
    remark = clock_remark(replace(card, clips=clips), NOW)
    assert words in remark
    assert bool(words) == bool(remark)


def test_a_card_that_tells_no_time_is_not_blamed(drone: Path) -> None:
    card = look(drone, load_layouts(None), Watch())
    assert clock_remark(replace(card, clips=()), NOW) == ""
