"""The real window, from *card in* to *output there*, by clicks and keys, waiting on what is shown."""

from __future__ import annotations

import itertools
from pathlib import Path

import numpy as np
import pytest
from PyQt6.QtCore import QMimeData, QPoint, QPointF, QSize, Qt, QUrl
from PyQt6.QtGui import QDropEvent, QImage
from PyQt6.QtWidgets import QLabel, QPushButton
from pytestqt.qtbot import QtBot

from diadoche.demo.opening import demo_places
from diadoche.demo.scene import read_number
from diadoche.screens.cards import NEVER
from diadoche.screens.marks import Mark
from diadoche.services.ledger.shoots import ShootSettings
from diadoche.services.machine.settings import Settings, save_settings
from diadoche.ui.application import Application
from tests.end_to_end.conftest import Opener
from tests.end_to_end.driving import choose, click, dragging, first, offload, press, texts, waits
from tests.outside.public_tools import ffprobe
from tests.snapshots import snapshot


def put_both_in(application: Application, qtbot: QtBot) -> None:
    click(application, qtbot, "Put in Drone")
    waits(qtbot, lambda: first(application) == "Leave the card in.")
    click(application, qtbot, "Put in Keeper")
    waits(qtbot, lambda: len(application.station.cards) == 2)
    waits(qtbot, lambda: first(application) == "Two cards are not copied yet.")


def test_from_card_in_to_output_there(open_window: Opener, qtbot: QtBot, shoot_folder: Path) -> None:
    application = open_window()
    window = application.window
    before = snapshot(shoot_folder / "cards")
    assert first(application) == "No card is in."
    put_both_in(application, qtbot)
    told = {"Stills and video · structure complete", "AVCHD camcorder · structure complete", "Nothing copied yet"}
    # The board is drawn a moment after the card was listed.
    waits(qtbot, lambda: told <= set(texts(window.cards)))
    offload(application, qtbot)
    waits(qtbot, lambda: first(application) == "Leave two cards in.")
    waits(qtbot, lambda: first(application) == "All cards can come out.")
    assert all(ribbon.mark is Mark.PROVEN for ribbon in application.desk.cards.ribbons())
    assert snapshot(shoot_folder / "cards") == before
    choose(application, qtbot, "Pull out Drone")
    choose(application, qtbot, "Pull out Keeper")
    waits(qtbot, lambda: first(application) == "No card is in.")
    press(window, Qt.Key.Key_2, Qt.KeyboardModifier.ControlModifier)
    table = window.footage.table
    model = table.model()
    assert model is not None
    waits(
        qtbot,
        lambda: model.rowCount() == 6 and all(model.index(row, 6).data() != "not looked at yet" for row in range(6)),
    )
    assert [model.index(row, 6).data() for row in range(6)].count("rewrap") == 2
    press(window, Qt.Key.Key_3, Qt.KeyboardModifier.ControlModifier)
    outputs = window.outputs
    waits(qtbot, lambda: outputs.make_button.text() == "Make 5")
    group = outputs.group("convert")
    waits(qtbot, group.isVisible)
    assert group.clips.isHidden()
    press(group.unfold, Qt.Key.Key_Space)
    assert group.clips.isVisible()
    unfolded = group.clips.model()
    assert unfolded is not None
    assert unfolded.rowCount() == 2
    press(group.unfold, Qt.Key.Key_Space)
    assert group.clips.isHidden()
    # Another recipe is chosen, and only the join is made here: the whole job by hand converts.
    dialog = group.choose_recipe()
    waits(qtbot, dialog.isVisible)
    row = next(n for n, each in enumerate(dialog.chooser.rows()) if each.name == "vc3-hq")
    dialog.recipes.selectRow(row)
    press(dialog.recipes, Qt.Key.Key_Return)
    waits(qtbot, lambda: group.recipe.text().startswith("VC-3 (DNxHR HQ)"))
    for route in ("rewrap", "convert"):
        application.desk.outputs.include(route, included=False)
    click(application, qtbot, "Make 1")
    waits(qtbot, lambda: (outputs.made_table.model() or model).rowCount() == 1 and not application.desk.work.running())
    made = application.desk.outputs.made()
    assert all(row.mark is Mark.DONE and Path(row.path).is_file() for row in made)
    joined = next(Path(row.path) for row in made if row.name.startswith("Keeper"))
    assert ffprobe(joined)["streams"][0]["nb_frames"] == "150"
    outputs.hand_off_to(shoot_folder / "rock.otio")
    waits(qtbot, lambda: "6 clips" in outputs._where.text())
    press(window, Qt.Key.Key_5, Qt.KeyboardModifier.ControlModifier)
    waits(
        qtbot,
        lambda: any("10 files, read back" in text or "11 files, read back" in text for text in texts(window.ledger)),
    )
    click(application, qtbot, "Check the copies again")
    waits(qtbot, lambda: sum("today, as it was" in text for text in texts(window.ledger)) == 2)


def number_in(image: QImage | None) -> int | None:
    if image is None:
        return None
    bits = image.constBits()
    assert bits is not None
    bits.setsize(image.sizeInBytes())
    data = np.frombuffer(bits, np.uint8).reshape(image.height(), image.bytesPerLine())  # type: ignore[call-overload]  # a buffer
    luma = data[:, : image.width() * 3].reshape(image.height(), image.width(), 3)[..., 1]
    return read_number(luma, scale=image.width() / 1920)


def test_the_player_obeys_the_keys_and_shows_fields_right(open_window: Opener, qtbot: QtBot) -> None:
    application = open_window(pace_bytes_s=0)
    click(application, qtbot, "Put in Keeper")
    waits(qtbot, lambda: first(application) == "The card is not copied yet.")
    press(application.window, Qt.Key.Key_Return, Qt.KeyboardModifier.ControlModifier)
    press(application.window.focusWidget() or application.window, Qt.Key.Key_Return)
    window, player = application.window, application.window.footage.player
    press(window, Qt.Key.Key_2, Qt.KeyboardModifier.ControlModifier)
    waits(qtbot, lambda: number_in(player.image) == 0)
    # The proof of interlace is shown: 64 pixels, three times enlarged, with neighbouring lines that differ.
    waits(qtbot, lambda: window.footage.combing.pixmap().width() == 192)
    proof = window.footage.combing.pixmap().toImage()
    columns = (
        [proof.pixelColor(3 * across + 1, 3 * line + 1).lightness() for line in range(64)] for across in range(64)
    )
    combed = [sum(abs(below - above) > 30 for above, below in itertools.pairwise(lines)) for lines in columns]
    assert max(combed) > 8
    press(window.footage.table, Qt.Key.Key_Return)
    assert player.hasFocus()
    # The arrows step whole pictures, which are two fields here, each with a number of its own.
    for key, number in (
        (Qt.Key.Key_Right, 2),
        (Qt.Key.Key_Right, 4),
        (Qt.Key.Key_Left, 2),
        (Qt.Key.Key_End, 299),
        (Qt.Key.Key_Home, 0),
    ):
        press(player, key)
        waits(qtbot, lambda number=number: number_in(player.image) == number)  # type: ignore[misc]  # bound now
    seen: set[int | None] = set()
    player.shown.connect(lambda _moment: seen.add(number_in(player.image)))
    press(player, Qt.Key.Key_L)
    waits(qtbot, lambda: player.moment > 30)
    # Both fields of pictures are shown while it runs, not only every other.
    assert any(number is not None and number % 2 for number in seen)
    press(player, Qt.Key.Key_K)
    assert not player.playing
    press(player, Qt.Key.Key_J)
    assert player.speed == -1
    waits(qtbot, lambda: not player.playing and player.moment == 0)
    press(player, Qt.Key.Key_Space)
    assert player.playing
    press(player, Qt.Key.Key_Space)
    assert not player.playing
    assert "Player: 00000" in player.accessibleName()


def test_a_card_pulled_half_way_is_taken_up_again(open_window: Opener, qtbot: QtBot, shoot_folder: Path) -> None:
    application = open_window(pace_bytes_s=3_000_000)
    click(application, qtbot, "Put in Keeper")
    waits(qtbot, lambda: first(application) == "The card is not copied yet.")
    offload(application, qtbot)
    waits(qtbot, lambda: any(ribbon.copied > 0.2 for ribbon in application.desk.cards.ribbons()))
    choose(application, qtbot, "Pull out Keeper")
    waits(qtbot, lambda: first(application).startswith("Look at Keeper"))
    waits(qtbot, lambda: not application.desk.work.running())
    waits(qtbot, lambda: "Pulled out" in texts(application.window.cards))
    assert not list(shoot_folder.rglob("*.part-diadoche"))
    click(application, qtbot, "Put in Keeper")
    waits(qtbot, lambda: first(application) == "The card is not copied yet.")
    offload(application, qtbot)
    waits(qtbot, lambda: first(application) == "The card can come out.")
    waits(qtbot, lambda: 2 in [entry.proven for entry in application.desk.ledger.entries])
    (copied,) = (entry for entry in application.desk.ledger.entries if entry.proven == 2)
    assert Path(copied.copies[0].root).name == "card-001"


def test_the_first_start_leads_to_a_place_and_a_dropped_folder_is_a_card(
    open_window: Opener, qtbot: QtBot, shoot_folder: Path, tmp_path: Path
) -> None:
    application = open_window(ShootSettings())
    window = application.window
    assert NEVER in texts(window.cards)
    assert "1. The shoot has a name" in texts(window.cards)
    application.desk.cards.add_place(tmp_path / "copies")
    window.cards.refresh()
    assert "No card is in." in texts(window.cards)
    mime = QMimeData()
    mime.setUrls([QUrl.fromLocalFile(str(shoot_folder / "cards" / "Drone" / "DCIM"))])
    event = QDropEvent(
        QPointF(400, 300), Qt.DropAction.CopyAction, mime, Qt.MouseButton.LeftButton, Qt.KeyboardModifier.NoModifier
    )
    window.dropEvent(event)
    waits(qtbot, lambda: first(application) == "The card is not copied yet.")
    offload(application, qtbot)
    waits(qtbot, lambda: first(application) == "The card can come out.")
    assert list((tmp_path / "copies").rglob("DRON0001.MP4"))


def test_everything_has_a_name_and_is_reached_by_tab(open_window: Opener, qtbot: QtBot) -> None:
    application = open_window()
    put_both_in(application, qtbot)
    window = application.window
    for number in range(5):
        window.go_to(number)
        reached = set()
        for _ in range(60):
            press(window.focusWidget() or window, Qt.Key.Key_Tab)
            focused = window.focusWidget()
            if focused is not None:
                reached.add(focused)
        shown = window.stack.currentWidget()
        assert shown is not None
        wanted = {
            part for part in shown.findChildren(QPushButton) if part.isVisible() and part.isEnabled()
        }  # fmt: skip
        assert wanted <= reached, [part.text() for part in wanted - reached]
    unnamed = [part for part in window.findChildren(QPushButton) if not (part.text() or part.accessibleName())]
    assert unnamed == []


def test_both_schemes_and_large_text_fit(open_window: Opener, qtbot: QtBot) -> None:
    application = open_window()
    put_both_in(application, qtbot)
    assert not application.theme.colours.dark
    press(application.window, Qt.Key.Key_D, Qt.KeyboardModifier.ControlModifier)
    assert application.theme.colours.dark
    window = application.window
    window.resize(1024, 700)
    waits(qtbot, lambda: (window.width(), window.height()) == (1024, 700))
    for _ in range(10):
        press(window, Qt.Key.Key_Plus, Qt.KeyboardModifier.ControlModifier)
    assert application.theme.scale == 2.0
    # Twice as large, and the window is no wider for it.
    assert window.minimumSizeHint().width() <= 1024
    assert window.minimumSizeHint().height() <= 700
    for number, view in enumerate((window.cards, window.footage, window.outputs, window.work, window.ledger)):
        window.go_to(number)
        buttons = [part for part in view.findChildren(QPushButton) if part.isVisible()]
        assert buttons
        waits(qtbot, lambda buttons=buttons: all(part.width() >= part.minimumSizeHint().width() for part in buttons))
        assert window.width() == 1024, view
        # None hangs over the edge of what it stands in.
        for part in buttons:
            left = part.mapTo(window, QPoint(0, 0)).x()
            assert 0 <= left <= left + part.width() <= window.width(), part.text()
    assert window.watch_line.first.width() >= window.watch_line.first.sizeHint().width()


def test_cards_tell_all_again_where_there_is_room_again(open_window: Opener, qtbot: QtBot) -> None:
    application = open_window()
    put_both_in(application, qtbot)
    window = application.window

    def told() -> list[str]:
        return [
            part.text() for part in window.cards.findChildren(QLabel) if part.isVisible() and "structure" in part.text()
        ]

    waits(qtbot, lambda: len(told()) == 2)
    window.resize(1024, 700)
    application.theme.apply("dark", 200)
    window.look_again()
    waits(qtbot, lambda: not told())
    application.theme.apply("light", 100)
    window.resize(1280, 900)
    window.look_again()
    waits(qtbot, lambda: len(told()) == 2)


def test_the_window_comes_back_as_large_as_it_was(open_window: Opener) -> None:
    first = open_window()
    first.window.resize(1111, 712)
    first.window.go_to(4)
    header = first.window.ledger.disk_table.horizontalHeader()
    assert header is not None
    first.window.ledger.show_page(1)
    edge = QPoint(header.sectionViewportPosition(1) - 1, header.height() // 2)
    with dragging(header.viewport(), edge, edge + QPoint(57, 0)):
        pass
    made = first.window.ledger.disk_table.columnWidth(0)
    assert made > header.minimumSectionSize()
    first.close()
    again = open_window()
    assert again.window.size() == QSize(1111, 712)
    again.window.go_to(4)
    again.window.ledger.show_page(1)
    assert again.window.ledger.disk_table.columnWidth(0) == made
    assert again.window.column_widths() == first.window.column_widths() != {}


@pytest.mark.parametrize("kept", [(0, 0), (-5, 700), (10**9, 10**9), (1, 1)])
def test_a_size_that_makes_no_sense_leaves_a_window_that_can_be_used(
    open_window: Opener, shoot_folder: Path, kept: tuple[int, int]
) -> None:
    save_settings(demo_places(shoot_folder).config, Settings(window_px=kept))
    window = open_window().window
    screen = window.screen()
    assert screen is not None
    least, room = window.minimumSizeHint(), screen.availableSize()
    assert least.width() <= window.width() <= room.width()
    assert least.height() <= window.height() <= room.height()
