"""Clicks, menus and waiting, for tests that drive the real window."""

from __future__ import annotations

from collections.abc import Callable

from PyQt6.QtCore import Qt
from PyQt6.QtGui import QAction
from PyQt6.QtTest import QTest
from PyQt6.QtWidgets import QMenu, QPushButton, QWidget
from pytestqt.qtbot import QtBot

from diadoche.ui.application import Application
from diadoche.ui.parts import label

TIMEOUT_MS = 180_000


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
    QTest.mouseClick(button, Qt.MouseButton.LeftButton)


def choose(application: Application, qtbot: QtBot, text: str) -> None:
    """Chooses what begins with a text from whichever menu has it."""

    def found() -> QAction | None:
        actions = (action for menu in application.window.findChildren(QMenu) for action in menu.actions())
        return next((each for each in actions if each.isEnabled() and each.text().startswith(text)), None)

    waits(qtbot, lambda: found() is not None)
    action = found()
    assert action is not None
    action.trigger()


def offload(application: Application, qtbot: QtBot) -> None:
    """The one button, and the glance after it."""
    click(application, qtbot, "Offload")
    click(application, qtbot, "Start")


def first(application: Application) -> str:
    """The watch line's sentence."""
    return application.window.watch_line.first.text()
