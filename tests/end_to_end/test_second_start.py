"""The program started a second time while it runs: the window that is there comes to the front, and no second one opens."""

from __future__ import annotations

import os
import subprocess
import sys
from collections.abc import Callable, Iterator
from pathlib import Path
from typing import Any, cast

import pytest
from PyQt6.QtCore import QPoint
from PyQt6.QtGui import QColor, QGuiApplication
from PyQt6.QtWidgets import QWidget
from pytestqt.qtbot import QtBot

Start = Callable[[], "subprocess.Popen[str]"]
_COVER = QColor(255, 0, 200)


@pytest.fixture
def start(own_state: Path) -> Iterator[Start]:
    """Starts the program as from a terminal."""
    begun: list[subprocess.Popen[str]] = []

    def started() -> subprocess.Popen[str]:
        words = [sys.executable, "-m", "diadoche.main"]
        begun.append(subprocess.Popen(words, stderr=subprocess.PIPE, text=True))
        return begun[-1]

    yield started
    for process in begun:
        process.kill()
        process.communicate()


def middle_of_the_screen() -> QColor:
    screen = QGuiApplication.primaryScreen()
    assert screen is not None
    picture = screen.grabWindow(cast(Any, 0)).toImage()  # 0 is the whole screen
    return picture.pixelColor(QPoint(picture.width() // 2, picture.height() // 2))


@pytest.mark.skipif("DISPLAY" not in os.environ, reason="what is in front is seen on a screen only")
def test_the_first_window_comes_to_the_front(start: Start, qtbot: QtBot) -> None:
    before = middle_of_the_screen()
    first = start()
    qtbot.waitUntil(lambda: middle_of_the_screen() != before, timeout=60_000)
    cover = QWidget()
    qtbot.addWidget(cover)
    cover.setStyleSheet(f"background: {_COVER.name()}")
    screen = QGuiApplication.primaryScreen()
    assert screen is not None
    cover.setGeometry(screen.geometry())
    cover.show()
    qtbot.waitUntil(lambda: middle_of_the_screen() == _COVER, timeout=10_000)
    second = start()
    qtbot.waitUntil(lambda: middle_of_the_screen() != _COVER, timeout=60_000)
    assert second.wait(timeout=60) == 0
    assert first.poll() is None


def test_of_two_starts_at_once_one_stays(start: Start, qtbot: QtBot) -> None:
    both = [start(), start()]
    qtbot.waitUntil(lambda: any(each.poll() is not None for each in both), timeout=60_000)
    ended = [each for each in both if each.poll() is not None]
    assert [each.returncode for each in ended] == [0]
