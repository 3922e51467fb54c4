"""How footage plays here: measured by decoding, remembered by make, and asked for once."""

from __future__ import annotations

import itertools
import platform
from fractions import Fraction
from pathlib import Path

import pytest

from diadoche.core.errors import MediaError
from diadoche.core.footage.pace import Pace, measure_pace
from diadoche.core.identify.probe import identify
from diadoche.core.watch import Cancelled, Watch
from diadoche.services.jobs.measure_playback import (
    MeasuredPlayback,
    PlaybackRequest,
    PlaybackSubject,
    gain_words,
    perform_measure_playback,
    playback_words,
)
from diadoche.services.ledger.job_results import record_playback
from diadoche.services.ledger.ledger import Ledger
from diadoche.services.station.playback_survey import PlaybackSurvey
from tests.screens.scene import NotingRunner


@pytest.mark.parametrize(
    ("card", "pattern", "moments_a_picture"), [("Quay", "MOV001.MOD", 2), ("Pier", "C0001.MP4", 1)]
)
def test_pictures_are_counted_by_the_clock(
    demo_cards: dict[str, Path], card: str, pattern: str, moments_a_picture: int
) -> None:
    path = next(demo_cards[card].rglob(pattern))
    facts = identify([path], "counted")
    ticks = itertools.count()
    # Every look at this clock is an eighth of a second later, and it is looked at once a moment.
    pace = measure_pace([path], facts, (320, 180), Watch(), 2.0, lambda: next(ticks) / 8)
    assert pace.pictures_a_second == 8 / moments_a_picture
    assert (pace.rate, next(ticks)) == (25, 2 * 8 + 1)
    # To the end of the clip where it may go on for longer.
    ticks = itertools.count()
    measure_pace([path], facts, (320, 180), Watch(), 1000.0, lambda: next(ticks) / 8)
    assert facts.frames is not None
    assert next(ticks) == facts.frames * moments_a_picture


def test_what_plays_is_told_in_words() -> None:
    slow = MeasuredPlayback("slow", Pace(14.0, Fraction(25)))
    quick = MeasuredPlayback("quick", Pace(75.0, Fraction(25)))
    assert not slow.pace.in_real_time
    assert playback_words(slow) == "does not play in real time here: 14 of 25 pictures a second"
    assert playback_words(quick) == "plays in real time here, 3.0 times its rate"
    disturbed = MeasuredPlayback("slow", slow.pace, disturbed=True)
    assert playback_words(disturbed).endswith("pictures a second, while other work ran")
    assert gain_words(slow, quick) == "plays here at 3.0 times its rate, the original 0.6"
    assert gain_words(slow, None) == ""
    # What was disturbed is held against nothing.
    assert gain_words(disturbed, quick) == "plays here at 3.0 times its rate"
    assert gain_words(quick, disturbed) == "plays here at 0.6 times its rate, while other work ran"


def test_what_does_not_play_is_left_out(demo_cards: dict[str, Path], tmp_path: Path) -> None:
    raw = next(demo_cards["Lamp raw reel"].rglob("*_001.R3D"))
    still = next(demo_cards["Lamp"].rglob("*.DNG"))
    (tmp_path / "text.mp4").write_text("no video")
    paths = (raw, still, tmp_path / "text.mp4", next(demo_cards["Quay"].rglob("*.MOD")))
    found = perform_measure_playback(
        PlaybackRequest(tuple(PlaybackSubject(path.name, (path,)) for path in paths)), Watch()
    )
    assert [each.key for each in found] == [paths[3].name]
    with pytest.raises(MediaError, match="too short"):
        measure_pace([still], identify([still], "looked"), (1280, 720), Watch())


def test_measuring_can_be_stopped(demo_cards: dict[str, Path]) -> None:
    path = next(demo_cards["Quay"].rglob("*.MOD"))
    watch = Watch()
    watch.stop()
    with pytest.raises(Cancelled):
        measure_pace([path], identify([path], "headers"), (1280, 720), watch)


def test_a_disturbed_figure_never_takes_the_place_of_a_sure_one(tmp_path: Path) -> None:
    ledger = Ledger(tmp_path / "ledger.sqlite")
    kept = []
    for reached, disturbed in [(10.0, True), (12.0, True), (30.0, False), (11.0, True), (31.0, False)]:
        key = f"{platform.node()} > make"
        record_playback(ledger, [MeasuredPlayback(key, Pace(reached, Fraction(25)), disturbed)])
        found = PlaybackSurvey(ledger, NotingRunner()).of_clip("make")  # type: ignore[arg-type]  # it only notes
        assert found is not None
        kept.append(found.pace.pictures_a_second)
    ledger.close()
    assert kept == [10.0, 12.0, 30.0, 30.0, 31.0]
