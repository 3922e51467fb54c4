"""The keys that the window tells of are the keys that it has, and what its tooltips promise is bound."""

from __future__ import annotations

import re
import threading
from pathlib import Path

import pytest
from PyQt6.QtCore import Qt
from PyQt6.QtGui import QAction
from PyQt6.QtWidgets import QApplication, QFileDialog, QMenu, QMessageBox, QPushButton
from pytestqt.qtbot import QtBot

from diadoche.guide import GUIDE, guide_text
from diadoche.services.background import BackgroundThreads
from diadoche.ui.failure_box import Failures
from diadoche.ui.help_dialog import HelpDialog
from tests.end_to_end.conftest import Opener
from tests.end_to_end.driving import click, click_at, first, press, texts, waits


def test_every_key_that_a_tooltip_promises_is_bound_and_told(open_window: Opener, qtbot: QtBot) -> None:
    window = open_window().window
    bound = {action.shortcut().toString() for action in window.actions()}
    promised = {
        key for part in window.findChildren(QPushButton) for key in re.findall(r"\((Ctrl\+\w+|F\d+)\)", part.toolTip())
    }
    assert promised <= bound
    assert "Ctrl+H" in promised
    press(window, Qt.Key.Key_F1)
    (dialog,) = window.findChildren(HelpDialog)
    waits(qtbot, dialog.isVisible)
    told = texts(dialog)
    actions = [*window.everywhere, *window.footage.actions_with_keys(), *window.outputs.actions_with_keys()]
    assert {each.keys for each in window.everywhere} == bound
    for action in actions:
        assert action.keys in told
        assert action.title in told
    click_at(next(part for part in dialog.findChildren(QPushButton) if part.text() == "Guide"))
    assert dialog.guide.isVisible()
    assert "Every offload leaves a waybill" in dialog.guide.toPlainText()
    dialog.reject()


def test_the_guide_shows_pictures_that_are_there_and_names_what_the_window_has(open_window: Opener) -> None:
    window = open_window().window
    text = GUIDE.read_text("utf-8")
    pictures = re.findall(r"^!\[[^\]]+\]\(([^)]+)\)$", text, re.MULTILINE)
    assert len(pictures) >= 8
    assert all((GUIDE.parent / picture).is_file() for picture in pictures)
    assert "![" not in guide_text()
    buttons = {part.text().rstrip(" ▾") for part in window.findChildren(QPushButton)}
    for name in ("Offload…", "Add a place…", "From elsewhere", "Hand off…", "Copy on to…", "Check the copies again"):
        assert f"*{name}*" in text.replace("\n", " ")
        assert name in buttons


def test_the_read_me_tells_every_key(open_window: Opener) -> None:
    window = open_window().window
    actions = [*window.everywhere, *window.footage.actions_with_keys(), *window.outputs.actions_with_keys()]
    read_me = (Path(__file__).parents[2] / "README.md").read_text("utf-8")
    table = read_me.partition("## Keys")[2].partition("\n[docs")[0]
    told = {key for row in re.findall(r"^\| (.+?) \|", table, re.MULTILINE) for key in re.split(r"[,;] |, | … ", row)}
    assert {each.keys for each in actions} <= told | {f"Ctrl+{number}" for number in range(1, 6)}
    assert "Ctrl+1" in told
    assert "Ctrl+5" in told


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


def test_work_begins_where_the_focus_is_and_nothing_is_taken_away_by_it(open_window: Opener, qtbot: QtBot) -> None:
    application = open_window()
    window = application.window
    click(application, qtbot, "Put in Drone")
    waits(qtbot, lambda: window.cards.offload_button.isEnabled())
    for number in (2, 1):
        press(window, Qt.Key(Qt.Key.Key_0 + number), Qt.KeyboardModifier.ControlModifier)
    assert window.focusWidget() is window.cards.offload_button
    press(window.focusWidget(), Qt.Key.Key_Return)
    assert window.focusWidget() is window.cards.glance.start_button
    press(window.focusWidget(), Qt.Key.Key_Return)
    waits(qtbot, lambda: first(application) == "The card can come out.")
    begin = window.focusWidget()
    assert isinstance(begin, QPushButton)
    assert begin.text().startswith("From elsewhere")


def test_what_has_a_key_for_the_whole_window_is_there_for_the_mouse_too(open_window: Opener, qtbot: QtBot) -> None:
    application = open_window()
    window = application.window
    foot = {part.text().partition(" ")[0]: part for part in window.findChildren(QPushButton, "foot")}

    def offered() -> tuple[QMenu, dict[str, QAction]]:
        click_at(foot["Menu"])
        menu = QApplication.activePopupWidget()
        assert isinstance(menu, QMenu)
        return menu, {each.text().partition("\t")[2]: each for each in menu.actions() if not each.isSeparator()}

    menu, actions = offered()
    assert set(actions) == {"F1", "Ctrl+Z", "Ctrl+D", "Ctrl++", "Ctrl+-", "Ctrl+0", "F11", "Ctrl+Q"}
    assert set(actions) < {action.keys for action in window.everywhere}
    click_at(menu, pos=menu.actionGeometry(actions["F1"]).center())
    (dialog,) = window.findChildren(HelpDialog)
    waits(qtbot, dialog.isVisible)
    dialog.reject()
    for _ in range(10):
        menu, actions = offered()
        click_at(menu, pos=menu.actionGeometry(actions["Ctrl++"]).center())
    assert application.theme.scale == 2.0
    # However large the text is, what stands at the foot of the rail is read whole.
    waits(qtbot, lambda: foot["Menu"].width() >= foot["Menu"].sizeHint().width())


def test_a_place_and_a_verdict_are_taken_back(open_window: Opener, qtbot: QtBot) -> None:
    application = open_window()
    window = application.window
    before = application.station.shoot.settings.places
    away = next(part for part in window.findChildren(QPushButton) if part.text() == "Not for this shoot")
    away.setFocus()
    press(away, Qt.Key.Key_Return)
    assert application.station.shoot.settings.places == before[1:]
    # What was added meanwhile stays.
    added = before[0].parent / "added later"
    application.desk.cards.add_place(added)
    press(window, Qt.Key.Key_Z, Qt.KeyboardModifier.ControlModifier)
    assert application.station.shoot.settings.places == (*before, added)
    assert window.watch_line.second.text().startswith(f"Taken back: {before[0].name}")
    press(window, Qt.Key.Key_Z, Qt.KeyboardModifier.ControlModifier)
    assert window.watch_line.second.text() == "There is nothing to take back."


def test_a_defect_is_shown_once_with_what_is_safe_and_its_report(qtbot: QtBot, own_state: Path) -> None:
    failures = Failures()

    def fail() -> None:
        raise KeyError("a defect")

    for _time in range(3):
        try:
            fail()
        except KeyError as error:
            failures.tell(type(error), error, error.__traceback__)

    waits(qtbot, lambda: bool(_boxes()))
    (box,) = _boxes()
    assert "Originals and copies are untouched" in box.informativeText()
    (report,) = own_state.rglob("reports/*.txt")
    copy = next(part for part in box.findChildren(QPushButton) if part.text() == "Copy the report")
    click_at(copy)
    clipboard = QApplication.clipboard()
    assert clipboard is not None
    assert clipboard.text() == report.read_text()
    assert box.isVisible()
    # Another defect takes nothing from the first.
    failures.tell(ValueError, ValueError("another"), None)
    waits(qtbot, lambda: len(_boxes()) == 2)
    for each in _boxes():
        each.close()


def test_a_defect_that_ends_a_thread_is_shown_too(
    qtbot: QtBot, own_state: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    """It would else be told on a terminal only, which nobody has open."""
    failures = Failures()
    monkeypatch.setattr(threading, "excepthook", failures.tell_of_thread)
    BackgroundThreads().do(lambda: [][1]).wait()
    waits(qtbot, lambda: bool(_boxes()))
    (box,) = _boxes()
    assert "list index out of range" in box.text()
    (report,) = own_state.rglob("reports/*.txt")
    assert box.detailedText() == report.read_text()
    box.close()


def _boxes() -> list[QMessageBox]:
    return [each for each in QApplication.topLevelWidgets() if isinstance(each, QMessageBox) and each.isVisible()]
