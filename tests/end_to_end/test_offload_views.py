"""The views around the offload, by clicks and keys: the glance, pause, the ledger, shoots, addresses, the tray."""

from __future__ import annotations

from pathlib import Path
from typing import Any

import pytest
from PyQt6.QtCore import Qt, QUrl
from PyQt6.QtGui import QDesktopServices
from PyQt6.QtWidgets import QFileDialog, QInputDialog, QLineEdit, QMessageBox
from pytestqt.qtbot import QtBot
from sqlalchemy import text

from diadoche.screens.marks import Mark
from diadoche.services.devices.devices import CameIn, NoticeWanted, Said
from diadoche.services.devices.disk_watch import Medium
from diadoche.services.queue.runner import LIMITS
from diadoche.services.station.card_in import Stage
from diadoche.ui.application import Application
from diadoche.ui.parts import TickBox
from tests.end_to_end.conftest import Opener
from tests.end_to_end.driving import choose, click, first, offload, press, texts, waits, write


def key(application: Application, code: Qt.Key, *, control: bool = False) -> None:
    held = Qt.KeyboardModifier.ControlModifier if control else Qt.KeyboardModifier.NoModifier
    press(application.window.focusWidget() or application.window, code, held)


def drone_in(application: Application, qtbot: QtBot) -> None:
    click(application, qtbot, "Put in Drone")
    waits(qtbot, lambda: first(application) == "The card is not copied yet.")


def test_the_glance_by_keys_alone(open_window: Opener, qtbot: QtBot, shoot_folder: Path) -> None:
    application = open_window()
    drone_in(application, qtbot)
    glance = application.window.cards.glance
    # The sentence says so, a moment before the board is drawn: the keys work already.
    key(application, Qt.Key.Key_Return, control=True)
    waits(qtbot, glance.isVisible)

    def edits() -> dict[str, QLineEdit]:
        return {part.accessibleName(): part for part in glance.findChildren(QLineEdit) if part.isVisible()}

    waits(qtbot, lambda: len(edits()) == 2)
    assert {part.text() for part in edits().values()} == {"Drone", "{shoot}/Originals/{day}/{camera}"}
    key(application, Qt.Key.Key_Escape)
    waits(qtbot, lambda: not glance.isVisible())
    assert not [job for job in application.runner.jobs() if job.kind == "offload"]
    key(application, Qt.Key.Key_Return, control=True)
    waits(qtbot, lambda: len(edits()) == 2)
    name, pattern = edits()["Name of the card Drone"], edits()["Pattern of the folders"]
    pattern.setFocus()
    pattern.clear()
    write(pattern, "{day} {nonsense}")
    assert not glance.start_button.isEnabled()
    assert any("nonsense" in text for text in texts(glance))
    pattern.clear()
    write(pattern, "{shoot}/{card}")
    name.setFocus()
    name.clear()
    write(name, "North tower")
    press(name, Qt.Key.Key_Tab)
    waits(qtbot, lambda: application.station.cards["reader-1"].name == "North tower")
    glance.start_button.setFocus()
    key(application, Qt.Key.Key_Return)
    waits(qtbot, lambda: first(application) == "The card can come out.")
    assert (shoot_folder / "Shuttle A/Rock/North tower/card-001/DCIM").is_dir()
    row = application.desk.cards.rows()[0]
    assert row.numbers.startswith("3 clips, 10 files, 4.3 MB")
    waits(qtbot, lambda: any("The camera may format it" in text for text in texts(application.window.cards)))


def test_pause_and_go_on_and_stop(open_window: Opener, qtbot: QtBot) -> None:
    application = open_window(pace_bytes_s=1_500_000)
    drone_in(application, qtbot)
    offload(application, qtbot)
    waits(qtbot, lambda: any(ribbon.copied > 0.1 for ribbon in application.desk.cards.ribbons()))
    click(application, qtbot, "Pause")
    waits(qtbot, lambda: any(text.startswith("Paused.") for text in texts(application.window.cards)))
    qtbot.wait(300)
    before = [ribbon.copied for ribbon in application.desk.cards.ribbons()]
    qtbot.wait(700)
    assert [ribbon.copied for ribbon in application.desk.cards.ribbons()] == before
    assert first(application) == "Leave the card in."
    click(application, qtbot, "Go on")
    waits(qtbot, lambda: [ribbon.copied for ribbon in application.desk.cards.ribbons()] > before)
    click(application, qtbot, "Stop")
    waits(qtbot, lambda: first(application).startswith("Look at Drone"))
    assert all(ribbon.mark is not Mark.PROVEN for ribbon in application.desk.cards.ribbons())


def test_a_hanging_reader_is_killed_when_it_is_stopped(open_window: Opener, qtbot: QtBot) -> None:
    application = open_window(pace_bytes_s=1_500_000)
    bench = application.bench
    assert bench is not None
    if bench.without_faults:
        pytest.skip(bench.without_faults)
    drone_in(application, qtbot)
    offload(application, qtbot)
    waits(qtbot, lambda: any(ribbon.copied > 0.1 for ribbon in application.desk.cards.ribbons()))
    choose(application, qtbot, "Let it hang")
    qtbot.wait(300)
    click(application, qtbot, "Stop")
    waits(qtbot, lambda: first(application).startswith("Look at Drone"))
    # It stops at once, though the reading itself never returns.
    waits(qtbot, lambda: any("was stopped" in text for text in texts(application.window.cards)))
    choose(application, qtbot, "Mend it")
    offload(application, qtbot)
    waits(qtbot, lambda: first(application) == "The card can come out.")


def test_the_ledger_by_its_lists_search_and_menu(
    open_window: Opener, qtbot: QtBot, shoot_folder: Path, monkeypatch: pytest.MonkeyPatch, tmp_path: Path
) -> None:
    application = open_window(pace_bytes_s=0)
    drone_in(application, qtbot)
    offload(application, qtbot)
    waits(qtbot, lambda: first(application) == "The card can come out.")
    window, ledger = application.window, application.window.ledger
    key(application, Qt.Key.Key_F, control=True)
    waits(qtbot, ledger.search.hasFocus)
    write(ledger.search, "nobody's clip")
    waits(qtbot, lambda: "Nothing matches." in texts(ledger))
    ledger.search.clear()
    write(ledger.search, "DRON0001")
    waits(qtbot, lambda: not application.desk.ledger.is_looking)
    model = ledger.table.model()
    assert model is not None
    assert model.rowCount() == 1
    assert ledger.table.currentIndex().row() == 0
    folders = iter([str(tmp_path / "third disk"), str(tmp_path / "desk")])
    (tmp_path / "third disk").mkdir()
    monkeypatch.setattr(QFileDialog, "getExistingDirectory", lambda *_: next(folders))
    click(application, qtbot, "Copy on to")
    waits(qtbot, lambda: "1 of 1 copy proven" in application.desk.ledger.message)
    assert any("third disk" in text for text in texts(ledger))
    monkeypatch.setattr(QInputDialog, "getText", lambda *_: ("DRON0002.MP4", True))
    choose(application, qtbot, "Fetch a clip")
    waits(qtbot, lambda: "read back and matched" in application.desk.ledger.message)
    assert (tmp_path / "desk/DCIM/100DRONE/DRON0002.MP4").exists()
    opened: list[QUrl] = []
    monkeypatch.setattr(QDesktopServices, "openUrl", opened.append)
    click(application, qtbot, "Open the waybill")
    assert Path(opened[0].toLocalFile()).suffix == ".html"
    assert {path.suffix for path in Path(opened[0].toLocalFile()).parent.iterdir()} == {
        ".html",
        ".pdf",
        ".csv",
        ".json",
    }
    click(application, qtbot, "Disks")
    assert any("Shuttle A" in row.name for row in application.desk.ledger.disks)
    assert application.desk.ledger.unread() > 0
    click(application, qtbot, "What happened")
    assert application.desk.ledger.unread() == 0
    assert window.stack.currentWidget() is ledger


def test_shoots_are_changed_begun_and_renamed(
    open_window: Opener, qtbot: QtBot, monkeypatch: pytest.MonkeyPatch
) -> None:
    application = open_window()
    answers = iter([("Day 2", True), ("Day two", True), ("", False)])
    monkeypatch.setattr(QInputDialog, "getText", lambda *_: next(answers))
    menu = application.window._shoot._menu
    menu.aboutToShow.emit()
    choose(application, qtbot, "New shoot")
    assert application.desk.cards.shoots.name == "Day 2"
    assert len(application.desk.cards.places()) == 2
    menu.aboutToShow.emit()
    choose(application, qtbot, "Rename this shoot")
    assert application.desk.cards.shoots.name == "Day two"
    waits(qtbot, lambda: application.window._shoot.text().startswith("Day two"))
    menu.aboutToShow.emit()
    choose(application, qtbot, "Rock")
    assert application.desk.cards.shoots.name == "Rock"


def test_an_address_that_does_not_answer_is_said_in_the_dialog(open_window: Opener, qtbot: QtBot) -> None:
    application = open_window()
    key(application, Qt.Key.Key_L, control=True)
    dialog = application.window.cards.address_dialog
    assert dialog is not None
    waits(qtbot, dialog.isVisible)
    dialog.address.setText("no share")
    press(dialog.address, Qt.Key.Key_Return)
    waits(qtbot, lambda: "is not the address of a share" in dialog.message.text())
    assert dialog.isVisible()
    application._bridge.post(Said("x", "x is connected."))
    waits(qtbot, lambda: not dialog.isVisible())


def test_unattended_is_switched_by_key_and_said_on_the_board(open_window: Opener, qtbot: QtBot) -> None:
    application = open_window(pace_bytes_s=0)
    box = next(part for part in application.window.cards.findChildren(TickBox) if part.text() == "Unattended")
    assert not box.isChecked()
    key(application, Qt.Key.Key_U, control=True)
    waits(qtbot, box.isChecked)
    click(application, qtbot, "Put in Drone")
    waits(qtbot, lambda: first(application) == "The card can come out.")
    assert application.station.cards["reader-1"].stage is Stage.PROVEN
    click(application, qtbot, "Eject")
    waits(qtbot, lambda: first(application) == "No card is in.")


def test_a_waiting_job_is_done_first(open_window: Opener, qtbot: QtBot, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setitem(LIMITS, "encode", 1)
    application = open_window(pace_bytes_s=0)
    for name in ("Put in Drone", "Put in Keeper"):
        click(application, qtbot, name)
    waits(qtbot, lambda: first(application) == "Two cards are not copied yet.")
    offload(application, qtbot)
    waits(qtbot, lambda: first(application) == "All cards can come out.")
    waits(qtbot, lambda: len(application.desk.outputs.groups()) == 4 and not application.desk.work.running())
    chooser = application.desk.outputs.recipe_chooser()
    chooser.choose_named("vc3-hq")
    application.desk.outputs.take(chooser)
    application.desk.outputs.include("rewrap", included=False)
    assert application.desk.outputs.make() == 3
    key(application, Qt.Key.Key_4, control=True)
    work = application.window.work
    rows = application.desk.work.rows
    waits(qtbot, lambda: sum(row.can_be_first for row in rows()) == 2)
    model = work.table.model()
    assert model is not None
    waits(qtbot, lambda: model.rowCount() == len(rows()))
    waiting = [number for number, row in enumerate(rows()) if row.can_be_first]
    wanted = rows()[waiting[0]].title
    work.table.selectRow(waiting[0])
    # What is asked for later comes above it: what was chosen stays chosen, or another job would be stopped.
    application.desk.outputs.include("rewrap", included=True)
    count = application.desk.outputs.make()
    assert count > 0
    waits(qtbot, lambda: model.rowCount() == len(rows()) >= waiting[0] + count + 1)
    chosen = work.table.currentIndex()
    assert model.index(chosen.row(), 0).data() == wanted
    click(application, qtbot, "Do it first")
    waits(qtbot, lambda: any(row.title == wanted and row.state != "waiting" for row in rows()))
    others = [row for row in rows() if row.can_be_first]
    assert wanted not in [row.title for row in others]


def test_closing_while_cards_are_read_asks_first(
    open_window: Opener, qtbot: QtBot, monkeypatch: pytest.MonkeyPatch
) -> None:
    application = open_window(pace_bytes_s=500_000)
    drone_in(application, qtbot)
    offload(application, qtbot)
    waits(qtbot, lambda: first(application) == "Leave the card in.")
    asked: list[Any] = []

    def answer(*words: Any) -> QMessageBox.StandardButton:
        asked.append(words[2])
        return QMessageBox.StandardButton.No

    monkeypatch.setattr(QMessageBox, "question", answer)
    if not application.window.tray.works:
        application.window.close()
        assert application.window.isVisible()
        assert "goes on at the next start" in asked[0]
    application._bridge.post(NoticeWanted("title", "text"))
    qtbot.wait(50)
    assert application.window.tray.line.text().startswith("Leave the card in.")


def test_an_address_that_was_connected_is_at_hand_again(open_window: Opener, qtbot: QtBot, drone: Path) -> None:
    application = open_window()
    application._bridge.post(CameIn(Medium("network://nas/card", drone, "card", "nas")))
    waits(qtbot, lambda: first(application) == "The card is not copied yet.")
    application.window.cards._sources.aboutToShow.emit()
    choose(application, qtbot, "Again: //nas/card")
    dialog = application.window.cards.address_dialog
    assert dialog is not None
    assert dialog.address.text() == "//nas/card"
    dialog.reject()


@pytest.mark.filterwarnings("ignore::pytest.PytestUnhandledThreadExceptionWarning")
def test_a_ledger_with_nonsense_in_it_is_read_again_when_it_is_mended(open_window: Opener, qtbot: QtBot) -> None:
    application = open_window(pace_bytes_s=0)
    drone_in(application, qtbot)
    offload(application, qtbot)
    ledger = application.desk.ledger
    waits(qtbot, lambda: len(ledger.entries) == 1)
    with application.ledger.session() as session:
        kept = session.execute(text("SELECT started FROM waybills")).scalar_one()
        session.execute(text("UPDATE waybills SET started = 'nonsense'"))
    ledger.refresh()
    waits(qtbot, lambda: ledger.message.startswith("The ledger could not be read anew"))
    assert len(ledger.entries) == 1
    with application.ledger.session() as session:
        session.execute(text("UPDATE waybills SET started = :kept"), {"kept": kept})
    ledger.refresh()
    waits(qtbot, lambda: not ledger.message)
