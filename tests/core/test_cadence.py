"""The frame rate from when pictures are shown, with stamps made by hand; and timecode that counts otherwise."""

from __future__ import annotations

from fractions import Fraction
from itertools import accumulate

import pytest

from diadoche.core.identify.cadence import cadence_of
from diadoche.core.timecode import PictureLabels, Timecode

NTSC = Fraction(30000, 1001)


def stamps(steps: list[int]) -> list[int]:
    return [0, *accumulate(steps)]


def test_lost_pictures_move_no_rate() -> None:
    # 600 pictures at 30000/1001, four of them missing: an average is 29.8.
    kept = [1001 * number for number in range(600) if number not in {50, 200, 201, 444}]
    found = cadence_of(kept, Fraction(1, 30_000), Fraction(29800, 1001))
    assert (found.rate, found.mode) == (NTSC, "constant")
    assert [gap.pictures for gap in found.gaps] == [1, 2, 1]
    assert found.gaps[0].at_s == pytest.approx(49 * 1001 / 30_000)


def test_a_hole_of_half_a_minute_is_a_gap() -> None:
    found = cadence_of(stamps([3000] * 100 + [3000 * 901] + [3000] * 100), Fraction(1, 90_000), Fraction(299, 40))
    assert (found.rate, found.mode) == (30, "constant")
    assert [(each.at_s, each.pictures) for each in found.gaps] == [(pytest.approx(100 / 30), 900)]


@pytest.mark.parametrize(
    ("rate", "tick_s", "count"),
    [
        (NTSC, Fraction(1, 1000), 300), (NTSC, Fraction(1, 1000), 20), (Fraction(24000, 1001), Fraction(1, 90_000), 5),
        (Fraction(60000, 1001), Fraction(1, 1000), 40), (Fraction(25), Fraction(1, 1000), 3),
        (Fraction(15, 2), Fraction(1, 90_000), 30), (Fraction(12), Fraction(1, 600), 30),
    ],
)  # fmt: skip
def test_clocks_that_round_keep_the_exact_rate(rate: Fraction, tick_s: Fraction, count: int) -> None:
    found = cadence_of([round(number / rate / tick_s) for number in range(count)], tick_s, rate)
    assert (found.rate, found.mode, found.gaps) == (rate, "constant", ())


@pytest.mark.parametrize("rate", [NTSC, Fraction(24000, 1001), Fraction(60000, 1001)])
@pytest.mark.parametrize("ticks", [600, 1000])
def test_an_average_of_rounded_stamps_is_no_rate(rate: Fraction, ticks: int) -> None:
    """Boxes with a coarse clock hold no rate: their header tells how many pictures there are in what time."""
    rounded = [round(number / rate * ticks) for number in range(60)]
    average = Fraction(60 * ticks, round(60 / rate * ticks))
    assert cadence_of(rounded, Fraction(1, ticks), average).rate == rate


def test_a_header_with_a_rate_of_its_own_is_believed() -> None:
    odd = Fraction(2925, 100)
    assert cadence_of([round(number / odd * 90_000) for number in range(60)], Fraction(1, 90_000), odd).rate == odd


def test_a_header_that_says_otherwise_is_not_believed() -> None:
    found = cadence_of([3600 * number for number in range(100)], Fraction(1, 90_000), Fraction(30))
    assert found.rate == 25


def test_sixty_then_fifteen_varies_and_the_fast_half_counts() -> None:
    for slow, fast in ((15, 60), (200, 60)):
        found = cadence_of(stamps([1500] * fast + [6000] * slow), Fraction(1, 90_000), Fraction(37))
        assert (found.rate, found.mode, found.range) == (60, "variable", (15, 60))


def test_film_on_a_video_clock_is_film() -> None:
    found = cadence_of(stamps([4504, 3003, 4505, 3003] * 20), Fraction(1, 90_000), Fraction(30000, 1001))
    assert found.mode == "constant"
    assert found.rate == Fraction(24000, 1001)


def test_timecode_of_half_the_rate_counts_every_other_picture() -> None:
    labels = PictureLabels(Timecode.parse("10:00:00:24", Fraction(25)), Fraction(50))
    assert [str(labels.at(picture)) for picture in (0, 1, 2, 3)] == [
        "10:00:00:24", "10:00:00:24", "10:00:01:00", "10:00:01:00",
    ]  # fmt: skip
    assert labels.picture_of("10:00:01:01") == 4
    assert labels.midnight == 2 * (36_000 * 25 + 24)
    drop = PictureLabels(Timecode.parse("00:00:59;29", NTSC), NTSC * 2)
    assert str(drop.at(2)) == "00:01:00;02"
