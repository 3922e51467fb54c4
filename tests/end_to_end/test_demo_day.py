"""The demo opens in the middle of a day: every view holds something, all of it done by the real engine."""

from __future__ import annotations

import shutil
from pathlib import Path

import pytest
from PyQt6.QtWidgets import QApplication
from pytestqt.qtbot import QtBot

from diadoche.core.errors import RequestError
from diadoche.demo.make import demo_cards as all_demo_cards
from diadoche.demo.make import fresh_cards_folder, make_demo
from diadoche.demo.opening import DAY
from diadoche.services.ledger.shoots import ShootSettings
from diadoche.services.station.card_in import Stage
from tests.end_to_end.conftest import Opener
from tests.end_to_end.driving import texts, waits


@pytest.fixture
def shoot_folder(tmp_path: Path, demo_cards: dict[str, Path]) -> Path:
    """A folder with the cards of the morning; those of noon are drawn later."""
    folder = tmp_path / "shoot"
    for name in DAY.morning:
        shutil.copytree(demo_cards[name], folder / "cards" / name)
    return folder


def test_cards_that_something_else_drew_are_gone_before_anybody_can_put_them_in(tmp_path: Path) -> None:
    old = tmp_path / "cards" / "Drone"
    old.mkdir(parents=True)
    (tmp_path / ".demo-version").write_text("8")
    mine = tmp_path / "cards" / "Mine"
    mine.mkdir()
    assert list(fresh_cards_folder(tmp_path).iterdir()) == [mine]
    old.mkdir()
    assert set(fresh_cards_folder(tmp_path).iterdir()) == {mine, old}


def test_a_folder_that_is_not_the_demos_own_is_left_alone(tmp_path: Path) -> None:
    footage = tmp_path / "cards" / "Drone" / "DRON0001.MP4"
    footage.parent.mkdir(parents=True)
    footage.write_bytes(b"a shooting day")
    with pytest.raises(RequestError, match="did not make"):
        make_demo(tmp_path)
    assert footage.read_bytes() == b"a shooting day"
    assert sorted(tmp_path.rglob("*")) == [tmp_path / "cards", footage.parent, footage]


def test_the_day_waits_for_no_card_that_is_drawn_late() -> None:
    drawn = [card.name for card in all_demo_cards()]
    assert sorted((*DAY.morning, *DAY.noon[:2]), key=drawn.index) == drawn[:4]


def test_a_visitor_comes_in_the_middle_of_the_day(
    open_window: Opener, qtbot: QtBot, qapp: QApplication, shoot_folder: Path, demo_cards: dict[str, Path]
) -> None:
    application = open_window(pace_bytes_s=0, day=DAY)
    desk, cards = application.desk, application.station.cards
    waits(qtbot, lambda: any("runs by itself" in words for words in texts(application.window)))
    waits(qtbot, lambda: len(desk.ledger.entries) == 2 and bool(desk.outputs.made()) and not cards)
    assert {entry.card for entry in desk.ledger.entries} == set(DAY.morning)
    assert all(copy.proven for entry in desk.ledger.entries for copy in entry.copies)
    assert all(Path(row.path).is_file() for row in desk.outputs.made())
    # Something is left for the visitor to make.
    assert any(row.to_make for row in desk.outputs.groups())
    for name in DAY.noon[:2]:
        shutil.copytree(demo_cards[name], shoot_folder / "cards" / f".{name}")
        (shoot_folder / "cards" / f".{name}").rename(shoot_folder / "cards" / name)
    waits(qtbot, lambda: len(cards) == 2 and all(card.stage is Stage.LISTED for card in cards.values()))
    assert {card.name for card in cards.values()} == set(DAY.noon[:2])
    # The day is over by itself, and the window closes all the same.
    hands = application.demo_hands
    assert hands is not None
    waits(qtbot, lambda: hands.is_done)
    assert not any("runs by itself" in words for words in texts(application.window))


def test_hands_off_as_soon_as_somebody_does_otherwise(open_window: Opener, qtbot: QtBot) -> None:
    application = open_window(pace_bytes_s=200_000, day=DAY)
    bench, cards = application.bench, application.station.cards
    assert bench is not None
    waits(qtbot, lambda: any(card.stage is Stage.CROSSING for card in cards.values()))
    bench.pull_out(1)
    waits(qtbot, lambda: not any("runs by itself" in words for words in texts(application.window)))
    assert application.desk.outputs.made() == []


def test_a_morning_that_cannot_be_copied_is_not_waited_for(open_window: Opener, qtbot: QtBot, tmp_path: Path) -> None:
    place = tmp_path / "no folder"
    place.write_text("a file stands where copies should go")
    application = open_window(settings=ShootSettings(places=(place,)), pace_bytes_s=0, day=DAY)
    waits(qtbot, lambda: any(card.stage is Stage.PROBLEM for card in application.station.cards.values()))
    waits(qtbot, lambda: not any("runs by itself" in words for words in texts(application.window)))
    assert application.desk.outputs.made() == []
