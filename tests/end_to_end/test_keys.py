"""The keys that the window tells of are the keys that it has, and what its tooltips promise is bound."""

from __future__ import annotations

import re

import pytest
from PyQt6.QtCore import Qt
from PyQt6.QtWidgets import QFileDialog, QPushButton
from pytestqt.qtbot import QtBot

from diadoche.ui.keys_dialog import KeysDialog
from tests.end_to_end.conftest import Opener
from tests.end_to_end.driving import press, texts, waits


def test_every_key_that_a_tooltip_promises_is_bound_and_told(open_window: Opener, qtbot: QtBot) -> None:
    window = open_window().window
    bound = {action.shortcut().toString() for action in window.actions()}
    promised = {
        key for part in window.findChildren(QPushButton) for key in re.findall(r"\((Ctrl\+\w+|F\d+)\)", part.toolTip())
    }
    assert promised <= bound
    assert "Ctrl+H" in promised
    press(window, Qt.Key.Key_F1)
    (dialog,) = window.findChildren(KeysDialog)
    waits(qtbot, dialog.isVisible)
    told = texts(dialog)
    for action in window.actions():
        assert action.shortcut().toString() in told
        assert action.text() in told
    dialog.reject()


def test_hand_off_by_its_key_only_where_there_is_something(
    open_window: Opener, monkeypatch: pytest.MonkeyPatch
) -> None:
    asked: list[object] = []

    def ask(*words: object, **_named: object) -> tuple[str, str]:
        asked.append(words)
        return "", ""

    monkeypatch.setattr(QFileDialog, "getSaveFileName", ask)
    application = open_window()
    window = application.window
    press(window, Qt.Key.Key_H, Qt.KeyboardModifier.ControlModifier)
    assert asked == []
    monkeypatch.setattr(type(application.desk.outputs), "can_hand_off", property(lambda _screen: True))
    press(window, Qt.Key.Key_H, Qt.KeyboardModifier.ControlModifier)
    assert len(asked) == 1
