"""The keys that the window tells of are the keys that it has, and what its tooltips promise is bound."""

from __future__ import annotations

import re

import pytest
from PyQt6.QtCore import Qt
from PyQt6.QtTest import QTest
from PyQt6.QtWidgets import QFileDialog, QPushButton
from pytestqt.qtbot import QtBot

from tests.end_to_end.conftest import Opener
from tests.end_to_end.driving import texts, waits


def test_every_key_that_a_tooltip_promises_is_bound_and_told(open_window: Opener, qtbot: QtBot) -> None:
    window = open_window().window
    bound = {action.shortcut().toString() for action in window.actions()}
    promised = {
        key for part in window.findChildren(QPushButton) for key in re.findall(r"\((Ctrl\+\w+|F\d+)\)", part.toolTip())
    }
    assert promised <= bound
    assert "Ctrl+H" in promised
    QTest.keyClick(window, Qt.Key.Key_F1)
    dialog = next(child for child in window.findChildren(object) if type(child).__name__ == "KeysDialog")
    waits(qtbot, dialog.isVisible)  # type: ignore[attr-defined]  # a dialog
    told = texts(dialog)  # type: ignore[arg-type]  # a dialog
    for action in window.actions():
        assert action.shortcut().toString() in told
        assert action.text() in told
    dialog.reject()  # type: ignore[attr-defined]  # a dialog


def test_hand_off_by_its_key_only_where_there_is_something(
    open_window: Opener, monkeypatch: pytest.MonkeyPatch
) -> None:
    asked: list[object] = []
    monkeypatch.setattr(QFileDialog, "getSaveFileName", lambda *words, **_: asked.append(words) or ("", ""))
    application = open_window()
    window = application.window
    QTest.keyClick(window, Qt.Key.Key_H, Qt.KeyboardModifier.ControlModifier)
    assert asked == []
    monkeypatch.setattr(type(application.desk.outputs), "can_hand_off", property(lambda _screen: True))
    QTest.keyClick(window, Qt.Key.Key_H, Qt.KeyboardModifier.ControlModifier)
    assert len(asked) == 1
