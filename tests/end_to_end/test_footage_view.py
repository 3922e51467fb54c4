"""The footage view by keys and clicks: sorting, finding, groups, verdicts, tags, and clips compared."""

from __future__ import annotations

import sqlite3
from contextlib import closing
from dataclasses import replace
from pathlib import Path

import av
import pytest
from PyQt6.QtCore import QPoint, Qt
from PyQt6.QtGui import QColor, QFont, QIcon
from PyQt6.QtWidgets import QApplication, QLabel
from pytestqt.qtbot import QtBot

from diadoche.demo.opening import demo_places
from diadoche.screens.selection import MarkedPart
from diadoche.screens.shelf import ClipsChanged
from diadoche.services.ledger.kept_clips import kept_clips
from diadoche.services.ledger.ledger import Ledger
from diadoche.services.ledger.opinions import Opinion
from diadoche.services.ledger.shoots import all_shoots
from diadoche.services.machine.settings import Settings, save_settings
from diadoche.ui.application import Application
from diadoche.ui.footage_view import FootageView
from diadoche.ui.player import PlayerView
from tests.end_to_end.conftest import Opener
from tests.end_to_end.driving import Pulse, ask_for_menu, click_at, dragging, press, rect_of, texts, waits, write


@pytest.fixture
def shoot_folder(offloaded_shoot: Path) -> Path:
    return offloaded_shoot


@pytest.fixture
def shown(open_window: Opener, qtbot: QtBot) -> tuple[Application, FootageView]:
    """The footage of the shoot on show."""
    application = open_window(pace_bytes_s=0)
    waits(qtbot, lambda: len(application.desk.shelf.lines) == 6)
    press(application.window, Qt.Key.Key_2, Qt.KeyboardModifier.ControlModifier)
    return application, application.window.footage


def names(view: FootageView) -> list[str]:
    model = view.table.model()
    assert model is not None
    return [model.index(row, 1).data() for row in range(model.rowCount())]


def header_click(view: FootageView, column: str) -> None:
    header, model = view.table.horizontalHeader(), view.table.model()
    assert header is not None
    assert model is not None
    section = next(
        each for each in range(model.columnCount()) if model.headerData(each, Qt.Orientation.Horizontal) == column
    )
    place = QPoint(header.sectionViewportPosition(section) + 12, header.height() // 2)
    click_at(header.viewport(), Qt.MouseButton.LeftButton, pos=place)


def test_footage_by_keys_and_clicks(shown: tuple[Application, FootageView], qtbot: QtBot) -> None:
    application, view = shown
    assert names(view) == ["00000", "00002", "DRON0001", "DRON0002", "DRON0003", "00003"]
    # Everything fits: no scroll bar, and no text is cut but by the two that may be.
    bar = view.table.horizontalScrollBar()
    assert bar is not None
    assert bar.maximum() == 0
    header_click(view, "Length")
    header_click(view, "Length")
    assert names(view)[0] == "00000"
    header_click(view, "Began")
    press(application.window, Qt.Key.Key_F, Qt.KeyboardModifier.ControlModifier)
    assert view.search_field.hasFocus()
    write(view.search_field, "drone 1520")
    assert names(view) == ["DRON0001", "DRON0002"]
    view.search_field.clear()
    assert len(names(view)) == 6


def test_verdicts_tags_and_notes_are_kept_over_a_restart(
    shown: tuple[Application, FootageView], qtbot: QtBot, shoot_folder: Path
) -> None:
    application, view = shown
    view.table.setFocus()
    view.table.choose_row(2)
    press(view.table, Qt.Key.Key_1)
    press(view.table, Qt.Key.Key_Down)
    press(view.table, Qt.Key.Key_3)
    click_at(view.tags, Qt.MouseButton.LeftButton)
    write(view.tags, "tower, low sun")
    press(view.tags, Qt.Key.Key_Return)
    click_at(view.note, Qt.MouseButton.LeftButton)
    write(view.note, "lens flare")
    press(view.note, Qt.Key.Key_Return)
    by_name = {clip.clip.name: clip.opinion for clip in application.desk.footage.clips}
    assert by_name["DRON0001"].verdict == "keep"
    assert (by_name["DRON0002"].verdict, by_name["DRON0002"].tags) == ("no", ("tower", "low sun"))
    assert by_name["DRON0002"].note == "lens flare"
    press(application.window, Qt.Key.Key_Z, Qt.KeyboardModifier.ControlModifier)
    assert next(each for each in application.desk.footage.clips if each.clip.name == "DRON0002").opinion.note == ""
    by_name = {clip.clip.name: clip.opinion for clip in application.desk.footage.clips}
    # Another start of the application reads them from the same ledger.
    assert application.ledger.writer.write_out(10)
    with closing(Ledger(demo_places(shoot_folder).ledger)) as ledger:
        again = kept_clips(ledger, application.station.shoot.id)
    assert {clip.clip.name: clip.opinion for clip in again} == by_name


def test_a_ledger_that_another_program_holds_keeps_no_verdict_waiting(
    shown: tuple[Application, FootageView], shoot_folder: Path, qtbot: QtBot
) -> None:
    application, view = shown
    shelf, screen = application.desk.shelf, application.desk.footage
    path = demo_places(shoot_folder).ledger

    def written() -> list[str]:
        with closing(sqlite3.connect(f"file:{path}?mode=ro", uri=True)) as reader:
            return [verdict for (verdict,) in reader.execute("select verdict from clips where verdict != ''")]

    readings: list[ClipsChanged] = []
    waits(qtbot, lambda: shelf.loaded)
    with closing(sqlite3.connect(path, isolation_level=None)) as other:
        other.execute("begin immediate")
        view.table.setFocus()
        view.table.choose_row(2)
        pulse = Pulse()
        press(view.table, Qt.Key.Key_1)
        application.desk.cards.shoots.want_copies(3)
        screen.sort_by("Clip")
        screen.sort_by("Began")
        shelf.listeners.append(lambda change: readings.append(change) if change.clip_ids is None else None)
        shelf.refresh()
        waits(qtbot, lambda: bool(readings))
        pulse.stop()
        # Read anew from a ledger that does not have it yet, it stands as it was said.
        assert [line.clip.opinion.verdict for line in shelf.lines].count("keep") == 1
        assert written() == []
        assert application.desk.cards.shoots.copies_wanted == 3
        other.execute("rollback")
    waits(qtbot, lambda: written() == ["keep"])
    assert application.ledger.writer.write_out(10)
    with closing(Ledger(path)) as ledger:
        assert next(each for each in all_shoots(ledger)).settings.copies_wanted == 3
    shelf.refresh()
    waits(qtbot, lambda: len(readings) > 1)
    assert [line.clip.opinion.verdict for line in shelf.lines].count("keep") == 1


def test_clips_are_compared_and_groups_have_headings(shown: tuple[Application, FootageView], qtbot: QtBot) -> None:
    application, view = shown
    view.table.setFocus()
    view.table.choose_row(0)
    first, second = rect_of(view.table, 0, 1), rect_of(view.table, 2, 1)
    click_at(view.table.viewport(), Qt.MouseButton.LeftButton, pos=first.center())
    click_at(view.table.viewport(), Qt.MouseButton.LeftButton, Qt.KeyboardModifier.ControlModifier, second.center())
    assert view.compare.isVisible()
    said = texts(view.compare)
    assert any(text.startswith("2 clips side by side") for text in said)
    assert {"25/1", "30000/1001", "≠"} <= set(said)
    assert "Pixel shape" in said
    # What changes is told to the labels that stand there; they look like it, too.
    judged = [each for each in view.compare.findChildren(QLabel) if each.text() == "not decided"]
    ids = application.desk.footage.selection.clip_ids
    application.desk.shelf.judge({ids[0]: Opinion("keep")}, "keep")
    assert [(each.text(), each.objectName()) for each in judged] == [("keep", "strong"), ("not decided", "strong")]
    assert judged[0].font().weight() > QFont.Weight.Normal
    application.desk.shelf.judge({ids[1]: Opinion("keep")}, "keep")
    assert [(each.text(), each.objectName()) for each in judged] == [("keep", ""), ("keep", "")]
    assert judged[0].font().weight() == QFont.Weight.Normal
    view.table.choose_rows([1, 2])
    names = [clip.clip.name for clip in application.desk.footage.clips]
    assert set(names[1:3]) <= set(texts(view.compare))
    assert names[0] not in texts(view.compare)
    view.compare.only_differing.click()
    assert "Pixel shape" not in texts(view.compare)
    view.table.choose_row(0)
    assert not view.compare.isVisible()
    application.desk.footage.group_by("Make")
    waits(qtbot, lambda: application.desk.footage.is_heading(0))
    assert view.table.columnSpan(0, 0) == len(application.desk.footage.columns)
    # What is chosen first of a group is not cut off from its heading.
    view.table.setFixedHeight(200)
    view.table.choose_row(view.table.model().rowCount() - 1)  # type: ignore[union-attr]  # it has one
    waits(qtbot, lambda: rect_of(view.table, 0, 0).top() < 0)
    view.table.choose_row(1)
    waits(qtbot, lambda: rect_of(view.table, 0, 0).top() >= 0)
    click_at(view.table.viewport(), pos=rect_of(view.table, 0, 0).center())
    assert all(not application.desk.footage.is_heading(row) for row in application.desk.footage.selected_rows())


def test_a_part_is_marked_and_converted_by_keys(shown: tuple[Application, FootageView], qtbot: QtBot) -> None:
    application, view = shown
    view.table.setFocus()
    view.table.choose_row(names(view).index("DRON0002"))
    player = view.player
    waits(qtbot, lambda: player.image is not None)
    for _step in range(3):
        press(view.table, Qt.Key.Key_Right)
    press(view.table, Qt.Key.Key_I)
    # The player takes the same keys when it has the focus.
    press(view.table, Qt.Key.Key_Return)
    for _step in range(4):
        press(player, Qt.Key.Key_Right)
    press(player, Qt.Key.Key_O)
    assert application.desk.footage.part == MarkedPart(3, 8)
    assert "5 pictures" in player.accessibleName()
    colour = QColor(application.window.theme.colours.way)
    clip = application.desk.footage.current
    assert clip is not None
    assert clip.facts is not None
    last = clip.facts.pictures - 1
    waits(qtbot, lambda: colour_above_bar(player, 5 / last) == colour)
    assert colour_above_bar(player, 12 / last) != colour
    press(player, Qt.Key.Key_X)
    assert application.desk.footage.part is None
    assert "pictures" not in player.accessibleName()
    press(player, Qt.Key.Key_Home)
    press(player, Qt.Key.Key_O)
    menu = ask_for_menu(view.table)
    wanted = next(action for action in menu.actions() if action.text().startswith("Convert the marked parts"))
    assert wanted.isEnabled()
    menu.close()
    press(view.table, Qt.Key.Key_C)
    waits(qtbot, lambda: [row.name for row in application.desk.outputs.made()] != [])
    (row,) = application.desk.outputs.made()
    assert row.name.endswith("DRON0002_0-1.mov")
    with av.open(row.path) as media:
        assert sum(packet.size > 0 for packet in media.demux(media.streams.video[0])) == 1


def colour_above_bar(player: PlayerView, share: float) -> QColor:
    """What the bar shows at its upper edge, at a share of its length behind the play control."""
    return player.grab().toImage().pixelColor(round(30 + (player.width() - 30) * share), player.height() - 24)


def test_a_menu_judges_the_selected_clips_and_tells_where_they_lie(
    shown: tuple[Application, FootageView], qtbot: QtBot
) -> None:
    application, view = shown
    view.table.choose_rows([1, 2])
    menu = ask_for_menu(view.table)
    titles = {action.text().partition("\t")[0]: action for action in menu.actions() if action.text()}
    assert list(titles)[:4] == ["Keep", "Maybe", "No", "No verdict"]
    assert titles["No verdict"].isChecked()
    click_at(menu, pos=menu.actionGeometry(titles["Keep"]).center())
    screen = application.desk.footage
    waits(
        qtbot,
        lambda: all(
            line.clip.opinion.verdict == "keep" for line in application.desk.shelf.chosen(screen.selection.clip_ids)
        ),
    )
    assert len(screen.selection.clip_ids) == 2
    menu = ask_for_menu(view.table)
    wanted = next(action for action in menu.actions() if action.text() == "Copy where it lies")
    click_at(menu, pos=menu.actionGeometry(wanted).center())
    clipboard = QApplication.clipboard()
    assert clipboard is not None
    lines = clipboard.text().splitlines()
    assert len(lines) >= 2
    assert all(Path(line).is_file() for line in lines)


def test_clips_are_dragged_out_as_files_to_be_copied(shown: tuple[Application, FootageView]) -> None:
    _application, view = shown
    model = view.table.model()
    assert model is not None
    data = model.mimeData([model.index(row, column) for row in (0, 1) for column in (0, 1)])
    assert data is not None
    files = [Path(url.toLocalFile()) for url in data.urls()]
    assert len(files) >= 2
    assert all(file.is_file() for file in files)
    assert model.supportedDragActions() == Qt.DropAction.CopyAction
    assert model.flags(model.index(0, 0)) & Qt.ItemFlag.ItemIsDragEnabled


def test_the_bar_of_the_player_is_dragged_along_and_its_control_plays(
    shown: tuple[Application, FootageView], qtbot: QtBot
) -> None:
    _application, view = shown
    player = view.player
    waits(qtbot, lambda: player.image is not None)
    y = player.height() - 8
    seen: list[int] = []
    player.shown.connect(seen.append)
    with dragging(player, QPoint(60, y), QPoint(player.width() - 1, y)):
        waits(qtbot, lambda: bool(seen) and seen[-1] == player.moment and player.moment > 10)
    assert not player.playing
    press(player, Qt.Key.Key_Home)
    click_at(player, pos=QPoint(12, y))
    waits(qtbot, lambda: player.playing)
    click_at(player, pos=QPoint(12, y))
    assert not player.playing


def test_columns_of_groups_that_come_later_are_as_wide_as_they_were_made(
    open_window: Opener, qtbot: QtBot, shoot_folder: Path
) -> None:
    kept = {"Clips of the group convert": {"Clip": 333}, "Of another day": {"Name": 99}}
    save_settings(demo_places(shoot_folder).config, Settings(columns=kept))
    application = open_window(pace_bytes_s=0)
    window = application.window
    waits(qtbot, lambda: any(row.route == "convert" for row in application.desk.outputs.groups()))
    window.go_to(2)
    window.outputs.refresh()
    group = window.outputs.group("convert")
    press(group.unfold, Qt.Key.Key_Space)
    waits(qtbot, lambda: group.clips.columnWidth(0) == 333)
    # What was not on show is not forgotten.
    assert window.column_widths() == kept


def test_the_table_shows_the_first_picture_of_each_clip(open_window: Opener, qtbot: QtBot) -> None:
    application = open_window(pace_bytes_s=0)
    window = application.window
    window.go_to(1)
    waits(qtbot, lambda: len(application.desk.footage.clips) == 6)
    table = window.footage.table
    model = table.model()
    assert model is not None
    column = [each.name for each in application.desk.footage.columns].index("Clip")

    def colours(row: int) -> set[int]:
        icon = model.data(model.index(row, column), Qt.ItemDataRole.DecorationRole)
        assert isinstance(icon, QIcon)
        image = icon.pixmap(table.iconSize()).toImage()
        across = range(0, image.width(), 2)
        return {image.pixelColor(x, image.height() // 2).rgb() for x in across}

    # Nothing has one colour; a picture of the sea has many.
    waits(qtbot, lambda: all(len(colours(row)) > 5 for row in range(6)))


def test_what_becomes_known_of_a_clip_stops_nothing_that_plays(
    shown: tuple[Application, FootageView], qtbot: QtBot
) -> None:
    _application, view = shown
    view.table.choose_row(0)
    clip = view._screen.current
    assert clip is not None
    assert clip.facts is not None
    waits(qtbot, lambda: view.player.image is not None)
    view.player.play(1.0)
    view.player.open(replace(clip, facts=replace(clip.facts, route=replace(clip.facts.route, name="join"))))
    assert view.player.playing
    waits(qtbot, lambda: view.player.moment > 3)
    # Other pictures are another matter.
    video = replace(clip.facts.video[0], rotation=90)
    view.player.open(replace(clip, facts=replace(clip.facts, video=(video,))))
    assert (view.player.playing, view.player.moment) == (False, 0)
