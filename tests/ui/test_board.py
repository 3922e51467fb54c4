"""Ribbons lead from card to place, whatever else is said of a card."""

from __future__ import annotations

from collections.abc import Iterator
from pathlib import Path

import pytest
from PyQt6.QtCore import QEvent, QObject
from PyQt6.QtGui import QPaintEvent, QRegion
from PyQt6.QtWidgets import QApplication
from pytestqt.qtbot import QtBot

from diadoche.services.queue.states import State
from diadoche.ui.board import Board, CardPanel
from diadoche.ui.parts import scrolled
from diadoche.ui.theme import Theme
from tests.screens.scene import Scene


@pytest.fixture
def scene(tmp_path: Path) -> Iterator[Scene]:
    made = Scene(tmp_path)
    yield made
    made.close()


class Painted(QObject):
    """Where a widget was painted."""

    def __init__(self) -> None:
        super().__init__()
        self.region = QRegion()

    def eventFilter(self, watched: QObject | None, event: QEvent | None) -> bool:
        if isinstance(event, QPaintEvent):
            self.region += event.region()
        return False


def test_ribbons_follow_a_card_that_has_more_to_say(
    qapp: QApplication, qtbot: QtBot, scene: Scene, drone: Path, camcorder: Path
) -> None:
    first, second = scene.listed(drone, "r1"), scene.listed(camcorder, "r2")
    for key in (first, second):
        scene.desk.cards.offload(key)
        scene.tell(scene.runner.last("offload"), State.RUNNING)
    theme = Theme(qapp)
    theme.apply("light", 100)
    board = Board(theme, scene.desk.cards)
    around = scrolled(board)
    qtbot.addWidget(around)
    around.resize(1200, 900)
    around.show()
    board.refresh()

    def panel() -> CardPanel:
        return board._cards[second]

    def is_met() -> bool:
        begins = [each.ends[0].y() for each in board._placed if each.ribbon.key == second]
        middle = panel().geometry().center().y()
        return len(begins) == 2 and abs(sum(begins) / 2 - middle) < 1

    qtbot.waitUntil(is_met, timeout=20_000)
    before, painted = panel().y(), Painted()
    board.installEventFilter(painted)
    # Its reader is silent: nothing moves on the ribbons, and the card above says so in two more lines.
    scene.runner.silent_s[scene.station.cards[first].job] = 30.0
    board.refresh()
    qtbot.waitUntil(lambda: panel().y() > before, timeout=20_000)
    qtbot.waitUntil(is_met, timeout=20_000)
    # What lies between the panels is painted, not only where they were.
    middle = next(each for each in board._placed if each.ribbon.key == second).at(0.5)
    qtbot.waitUntil(lambda: painted.region.contains(middle.toPoint()), timeout=20_000)
