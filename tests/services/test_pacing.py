"""How footage plays here: measured by decoding, remembered by make, and asked for once."""

from __future__ import annotations

import platform
from fractions import Fraction
from pathlib import Path

import pytest

from diadoche.core.errors import MediaError
from diadoche.core.footage.pace import Pace, measure_pace
from diadoche.core.identify.probe import identify
from diadoche.core.watch import Cancelled, Watch
from diadoche.services.ledger.ledger import Ledger
from diadoche.services.paces import Paces
from diadoche.services.pacing import MeasuredPace, PaceRequest, PaceSubject, gain_words, pace_words, perform_pace
from diadoche.services.recording import record_paces
from tests.screens.scene import NotingRunner


def test_a_small_picture_is_faster_than_a_large_one(demo_cards: dict[str, Path]) -> None:
    small = next(demo_cards["Quay"].rglob("*.MOD"))
    large = next(demo_cards["Drone"].rglob("DRON0001.MP4"))
    paces = [measure_pace([path], identify([path], "looked"), (1280, 720), Watch(), 0.4) for path in (small, large)]
    assert paces[0].pictures_a_second > paces[1].pictures_a_second > 0
    # Fields are counted as the pictures they belong to.
    assert paces[0].rate == 25


def test_what_plays_is_told_in_words() -> None:
    slow = MeasuredPace("slow", Pace(14.0, Fraction(25)))
    quick = MeasuredPace("quick", Pace(75.0, Fraction(25)))
    assert not slow.pace.in_real_time
    assert pace_words(slow) == "does not play in real time here: 14 of 25 pictures a second"
    assert pace_words(quick) == "plays in real time here, 3.0 times its rate"
    disturbed = MeasuredPace("slow", slow.pace, disturbed=True)
    assert pace_words(disturbed).endswith("pictures a second, while other work ran")
    assert gain_words(slow, quick) == "plays here at 3.0 times its rate, the original 0.6"
    assert gain_words(slow, None) == ""


def test_what_does_not_play_is_left_out(demo_cards: dict[str, Path], tmp_path: Path) -> None:
    raw = next(demo_cards["Lamp raw reel"].rglob("*_001.R3D"))
    still = next(demo_cards["Lamp"].rglob("*.DNG"))
    (tmp_path / "text.mp4").write_text("no video")
    paths = (raw, still, tmp_path / "text.mp4", next(demo_cards["Quay"].rglob("*.MOD")))
    found = perform_pace(PaceRequest(tuple(PaceSubject(path.name, (path,)) for path in paths)), Watch())
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
        record_paces(ledger, [MeasuredPace(key, Pace(reached, Fraction(25)), disturbed)])
        found = Paces(ledger, NotingRunner()).of_clip("make")  # type: ignore[arg-type]  # it only notes
        assert found is not None
        kept.append(found.pace.pictures_a_second)
    ledger.close()
    assert kept == [10.0, 12.0, 30.0, 30.0, 31.0]
