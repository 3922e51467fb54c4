"""Somebody at the window with a keyboard alone, or with a mouse alone: each does only what those can do."""

from __future__ import annotations

from collections.abc import Callable, Iterator
from contextlib import contextmanager
from typing import Any, cast

from PyQt6.QtCore import QPoint, QPointF, Qt, QTimer
from PyQt6.QtGui import QWheelEvent
from PyQt6.QtTest import QTest
from PyQt6.QtWidgets import (
    QAbstractButton,
    QAbstractScrollArea,
    QApplication,
    QFileDialog,
    QLineEdit,
    QMainWindow,
    QTableView,
    QWidget,
)
from pytestqt.qtbot import QtBot

from tests.end_to_end.driving import TIMEOUT_MS, rect_of

_TEST = cast(Any, QTest)
_CONTROL, _PLAIN = Qt.KeyboardModifier.ControlModifier, Qt.KeyboardModifier.NoModifier
# More stops than any view has.
_MOST_STOPS = 120


def _top() -> QWidget:
    """What is in front: a dialog, or the window."""
    windows = (each for each in QApplication.topLevelWidgets() if isinstance(each, QMainWindow) and each.isVisible())
    return QApplication.activeModalWidget() or next(windows)


def _buttons(words: str) -> list[QAbstractButton]:
    """Those that can be used and begin with words: what is written on them, or, where nothing is, their names."""
    parts = [part for part in _top().findChildren(QAbstractButton) if part.isVisible() and part.isEnabled()]
    written = [part for part in parts if part.text().startswith(words)]
    return written or [part for part in parts if not part.text() and part.accessibleName().startswith(words)]


class Keyboard:
    """Keys that go to whatever has the focus."""

    def __init__(self, qtbot: QtBot) -> None:
        self._qtbot = qtbot

    def _key(self, key: Qt.Key, modifier: Qt.KeyboardModifier = _PLAIN) -> None:
        self._activate(_top())
        _TEST.keyClick(QApplication.focusWidget() or _top(), key, modifier)

    def _activate(self, top: QWidget) -> None:
        """There is no window manager on a virtual screen to give a dialog the focus."""
        top.activateWindow()
        self._qtbot.waitUntil(top.isActiveWindow, timeout=TIMEOUT_MS)

    def _tab_to(self, wanted: Callable[[QWidget], bool]) -> None:
        for _ in range(_MOST_STOPS):
            focus = QApplication.focusWidget()
            if focus is not None and wanted(focus):
                return
            self._key(Qt.Key.Key_Tab)
            # A table goes from cell to cell, and leaves itself with the modifier.
            if QApplication.focusWidget() is focus:
                self._key(Qt.Key.Key_Tab, _CONTROL)
        raise AssertionError("no stop of the Tab key is that")

    def view(self, number: int) -> None:
        """By its key."""
        self._key(Qt.Key(Qt.Key.Key_1.value + number), _CONTROL)

    def button(self, words: str) -> None:
        """By Tab, and Space."""
        self._qtbot.waitUntil(lambda: bool(_buttons(words)), timeout=TIMEOUT_MS)
        wanted = _buttons(words)[0]
        self._tab_to(lambda part: part is wanted)
        self._key(Qt.Key.Key_Space)

    def row(self, table: QTableView, row: int) -> None:
        """By Tab, Home, and the arrows."""
        self._tab_to(lambda part: part is table)
        self._key(Qt.Key.Key_Home)
        for _ in range(row):
            self._key(Qt.Key.Key_Down)
        assert table.currentIndex().row() == row

    def verdict(self, words: str) -> None:
        """By its number."""
        self._key({"Keep": Qt.Key.Key_1, "Maybe": Qt.Key.Key_2, "No": Qt.Key.Key_3}[words])

    def play(self) -> None:
        """The table passes the player's keys on."""
        self._key(Qt.Key.Key_Space)

    def save(self, dialog: QFileDialog, path: str) -> None:
        """The field for the name has the focus."""
        field = dialog.findChild(QLineEdit)
        assert field is not None
        self._activate(dialog)
        assert field.hasFocus()
        field.selectAll()
        _TEST.keyClicks(field, path)
        self._key(Qt.Key.Key_Return)


def _is_hit(part: QWidget, place: QPoint) -> bool:
    """Whether a click there meets a part, and nothing that lies over it."""
    window = part.window()
    assert window is not None
    hit = window.childAt(part.mapTo(window, place))
    return hit is part or (hit is not None and part.isAncestorOf(hit))


class Mouse:
    """Clicks and the wheel, at places of the window: what lies under something else, or out of sight, is not hit."""

    def __init__(self, qtbot: QtBot) -> None:
        self._qtbot = qtbot

    def _click(self, part: QWidget, place: QPoint) -> None:
        window = part.window()
        assert window is not None
        at = part.mapTo(window, place)
        assert _is_hit(part, place), f"{window.childAt(at)} lies over {part}"
        _TEST.mouseClick(window.windowHandle(), Qt.MouseButton.LeftButton, _PLAIN, at)

    def _scroll_to(self, part: QWidget) -> None:
        """Turns the wheel until all of a part is in sight, where it lies in what is scrolled."""
        area = part.parentWidget()
        while area is not None and not isinstance(area, QAbstractScrollArea):
            area = area.parentWidget()
        if area is None:
            return
        viewport = area.viewport()
        assert viewport is not None
        for _ in range(_MOST_STOPS):
            top = part.mapTo(viewport, QPoint(0, 0)).y()
            low, high = top + part.height() > viewport.height(), top < 0
            if not (low or high):
                return
            self._turn(viewport, -1 if low else 1)

    @staticmethod
    def _turn(viewport: QWidget, way: int) -> None:
        """One step of the wheel: 1 turns it away from the hand, as to see what is above."""
        middle = QPointF(viewport.rect().center())
        turned = QWheelEvent(
            middle, QPointF(viewport.mapToGlobal(middle.toPoint())), QPoint(), QPoint(0, 120 * way),
            Qt.MouseButton.NoButton, _PLAIN, Qt.ScrollPhase.NoScrollPhase, False,
        )  # fmt: skip
        QApplication.sendEvent(viewport, turned)

    def view(self, number: int) -> None:
        """By the rail."""
        self.button(("Cards", "Footage", "Outputs", "Work", "Ledger")[number])

    def button(self, words: str) -> None:
        """By a click in its middle."""
        self._qtbot.waitUntil(lambda: bool(_buttons(words)), timeout=TIMEOUT_MS)
        part = _buttons(words)[0]
        self._scroll_to(part)
        self._click(part, part.rect().center())

    def row(self, table: QTableView, row: int) -> None:
        """By a click on its second cell."""
        viewport = table.viewport()
        assert viewport is not None

        def in_sight() -> bool:
            self._scroll_to(table)
            for _ in range(_MOST_STOPS):
                place = rect_of(table, row, 1)
                if place.top() >= 0 and place.bottom() < viewport.height():
                    break
                self._turn(viewport, -1 if place.top() >= 0 else 1)
            return _is_hit(viewport, rect_of(table, row, 1).center())

        # A dialog finds its size after it is shown: until then its list may reach below it.
        self._qtbot.waitUntil(in_sight, timeout=TIMEOUT_MS)
        self._click(viewport, rect_of(table, row, 1).center())

    def verdict(self, words: str) -> None:
        """By its button."""
        self.button(words)

    def play(self) -> None:
        """By the control at the beginning of the player's bar."""
        player = next(part for part in _top().findChildren(QWidget) if part.accessibleName().startswith("Player: "))
        self._click(player, QPoint(10, player.height() - 10))

    def save(self, dialog: QFileDialog, path: str) -> None:
        """What is proposed is taken."""
        del path
        self.button("&Save")


@contextmanager
def answering(answer: Callable[[QFileDialog], None]) -> Iterator[None]:
    """Answers a question for a file that opens meanwhile; such a dialog holds up whoever asks."""
    answered: list[bool] = []

    def look() -> None:
        dialog = QApplication.activeModalWidget()
        if isinstance(dialog, QFileDialog) and dialog.isVisible() and not answered:
            answered.append(True)
            answer(dialog)

    timer = QTimer()
    timer.timeout.connect(look)
    timer.start(20)
    try:
        yield
    finally:
        timer.stop()
        timer.timeout.disconnect()
    assert answered
