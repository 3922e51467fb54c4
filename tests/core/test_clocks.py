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


def test_a_clock_that_went_back_between_two_recordings(drone: Path) -> None:
    card = look(drone, load_layouts(None), Watch())
    first, second, third = card.clips
    assert first.start is not None
    assert second.start is not None
    back = replace(card, clips=(first, replace(second, start=first.start - timedelta(days=365)), third))
    remark = clock_remark(back, NOW)
    assert remark.startswith("Its clock went back: DRON0002, counted after DRON0001")
    assert "14 June 2025" in remark
    # Within an hour it may be summer time; a counter that starts again is no clock.
    summer = replace(card, clips=(first, replace(second, start=first.start - timedelta(minutes=50)), third))
    assert clock_remark(summer, NOW) == ""
    assert clock_remark(replace(card, clips=(first, first, second)), NOW) == ""
    # Nor is a folder that counts by itself.
    elsewhere = replace(second, start=first.start - timedelta(days=3), spans=("DCIM/101DRONE/DRON0002.MP4",))
    assert clock_remark(replace(card, clips=(first, elsewhere)), NOW) == ""
    again = replace(second, name="DRON9998", start=first.start - timedelta(days=3))
    assert clock_remark(replace(card, clips=(first, again)), NOW) == ""


def day(number: int, hour: int = 9, month: int = 6, year: int = 2026) -> datetime:
    return datetime(year, month, number, hour, tzinfo=UTC)


@pytest.mark.parametrize(
    ("others", "words"),
    [
        ([], ""),
        # One other card is no majority.
        ([(day(14, year=2024), day(14, 18, year=2024))], ""),
        ([(day(14, year=2024), day(14, 18, year=2024))] * 2, "the 2 other cards of this shoot 14 June 2024"),
        ([(day(14), day(14, 18)), (day(13), day(13, 18))], ""),
        ([(day(11), day(11, 18)), (day(12), day(12, 18))], ""),
        ([(day(10), day(10, 18)), (day(11), day(11, 18))], "it says 14 June 2026"),
        ([(day(18), day(18)), (day(19), day(19, 18))], "18 June 2026 to 19 June 2026"),
        # A shoot over months: a week more is no wonder.
        ([(day(1, month=3), day(1, month=3)), (day(1), day(1))], ""),
    ],
)
def test_a_clock_at_odds_with_the_rest(drone: Path, others: list[tuple[datetime, datetime]], words: str) -> None:
    remark = clock_remark(look(drone, load_layouts(None), Watch()), NOW, others)
    assert words in remark
    assert bool(words) == bool(remark)


def test_a_card_that_tells_no_time_is_not_blamed(drone: Path) -> None:
    card = look(drone, load_layouts(None), Watch())
    assert clock_remark(replace(card, clips=()), NOW) == ""
