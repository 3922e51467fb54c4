"""Clicks, menus and waiting, for tests that drive the real window."""

from __future__ import annotations

import time
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from typing import Any, cast

from PyQt6.QtCore import QPoint, QRect, Qt, QTimer
from PyQt6.QtGui import QAction, QContextMenuEvent
from PyQt6.QtTest import QTest
from PyQt6.QtWidgets import QApplication, QMenu, QPushButton, QTableView, QWidget
from pytestqt.qtbot import QtBot

from diadoche.ui.application import Application
from diadoche.ui.parts import label

TIMEOUT_MS = 400_000
# A window that waits for a disk would stand still for half a minute; a busy machine holds it up for moments.
_LONGEST_GAP_S = 2.0

# What Qt's stubs say of these does not hold: optional arguments are said to be needed, static methods to be methods.
_TEST = cast(Any, QTest)


def press(widget: QWidget | None, key: Qt.Key, modifier: Qt.KeyboardModifier = Qt.KeyboardModifier.NoModifier) -> None:
    """Presses a key and lets it go."""
    _TEST.keyClick(widget, key, modifier)


def write(widget: QWidget | None, text: str) -> None:
    """Presses the keys of a text."""
    _TEST.keyClicks(widget, text)


def click_at(
    widget: QWidget | None,
    button: Qt.MouseButton = Qt.MouseButton.LeftButton,
    modifier: Qt.KeyboardModifier = Qt.KeyboardModifier.NoModifier,
    pos: QPoint | None = None,
) -> None:
    """Clicks a widget: in its middle, or at a place in its own coordinates."""
    _TEST.mouseClick(widget, button, modifier, pos or QPoint())


@contextmanager
def dragging(widget: QWidget | None, begin: QPoint, end: QPoint) -> Iterator[None]:
    """Presses the mouse at a place and moves it to another; lets it go at the end."""
    _TEST.mousePress(widget, Qt.MouseButton.LeftButton, Qt.KeyboardModifier.NoModifier, begin)
    _TEST.mouseMove(widget, end)
    yield
    _TEST.mouseRelease(widget, Qt.MouseButton.LeftButton, Qt.KeyboardModifier.NoModifier, end)


def rect_of(table: QTableView, row: int, column: int) -> QRect:
    """Where a cell is, in the coordinates of the table's viewport."""
    model = table.model()
    assert model is not None
    return table.visualRect(model.index(row, column))


def pause_ms(length: int) -> None:
    """Lets the window live for so long."""
    _TEST.qWait(length)


def texts(widget: QWidget) -> list[str]:
    """Every text that is visible below a widget."""
    return [part.text() for part in widget.findChildren(type(label())) if part.isVisible() and part.text()]


def waits(qtbot: QtBot, shown: Callable[[], bool]) -> None:
    """Lets the window live until something is true."""
    qtbot.waitUntil(shown, timeout=TIMEOUT_MS)


def click(application: Application, qtbot: QtBot, text: str) -> None:
    """Clicks the button that begins with a text, as soon as it is there and can be used."""

    def found() -> QPushButton | None:
        buttons = application.window.findChildren(QPushButton)
        usable = (part for part in buttons if part.isVisible() and part.isEnabled() and part.text().startswith(text))
        return next(usable, None)

    waits(qtbot, lambda: found() is not None)
    button = found()
    assert button is not None
    click_at(button, Qt.MouseButton.LeftButton)


def ask_for_menu(view: QTableView) -> QMenu:
    """Opens the context menu of a table as the menu key does: for the row that is at hand."""
    viewport = view.viewport()
    assert viewport is not None
    place = QPoint(-1, -1)
    asked = QContextMenuEvent(QContextMenuEvent.Reason.Keyboard, place, view.mapToGlobal(place))
    QApplication.sendEvent(viewport, asked)
    menu = QApplication.activePopupWidget()
    assert isinstance(menu, QMenu)
    return menu


def choose(application: Application, qtbot: QtBot, text: str) -> None:
    """Opens the menu of whichever button offers what begins with a text, and clicks that."""

    def wanted(menu: QMenu) -> QAction | None:
        return next((each for each in menu.actions() if each.isEnabled() and each.text().startswith(text)), None)

    def found() -> QPushButton | None:
        for button in application.window.findChildren(QPushButton):
            if button.isVisible() and button.isEnabled() and any(map(wanted, button.findChildren(QMenu))):
                return button
        return None

    def attempt() -> bool:
        """Clicks the button, and in its menu; false where either was made anew just then."""
        button = found()
        if button is None:
            return False
        click_at(button)
        # Only now: a menu may be filled as it opens.
        menu = QApplication.activePopupWidget()
        if not isinstance(menu, QMenu):
            return False
        action = wanted(menu)
        if action is None:
            menu.close()
            return False
        click_at(menu, pos=menu.actionGeometry(action).center())
        return True

    waits(qtbot, attempt)


def offload(application: Application, qtbot: QtBot) -> None:
    """The one button, and the glance after it."""
    click(application, qtbot, "Offload")
    click(application, qtbot, "Start")


def first(application: Application) -> str:
    """The watch line's sentence."""
    return application.window.watch_line.first.text()


class Pulse:
    """A timer of 10 ms, and the longest time between two of its beats."""

    def __init__(self) -> None:
        self._last_s = time.monotonic()
        self.worst_s = 0.0
        self._timer = QTimer()
        self._timer.timeout.connect(self._beat)
        self._timer.start(10)

    def _beat(self) -> None:
        now_s = time.monotonic()
        self.worst_s, self._last_s = max(self.worst_s, now_s - self._last_s), now_s

    def stop(self) -> None:
        """Fails where the window stood still."""
        self._timer.stop()
        self._beat()
        assert self.worst_s < _LONGEST_GAP_S, f"the window stood still for {self.worst_s:.1f} s"
