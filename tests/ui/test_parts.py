"""Tables, marks, colours and the bridge: what views are built of."""

from __future__ import annotations

import threading
from pathlib import Path
from typing import cast

import pytest
from PyQt6.QtCore import QRectF, Qt, QThread
from PyQt6.QtGui import QImage, QPainter, QTextDocument
from PyQt6.QtTest import QAbstractItemModelTester
from PyQt6.QtWidgets import QApplication, QLabel
from pytestqt.qtbot import QtBot

from diadoche.screens.marks import Mark
from diadoche.services.machine.one_window import OneWindow
from diadoche.ui.bridge import Bridge
from diadoche.ui.marks import paint_mark
from diadoche.ui.parts import TickBox
from diadoche.ui.plain_text import plain
from diadoche.ui.rows_table import RowsModel, RowsTable
from diadoche.ui.second_start import SecondStarts, bring_first_to_front
from diadoche.ui.theme import DARK, FAMILY, LIGHT, Colours, Theme


@pytest.fixture
def theme(qapp: QApplication) -> Theme:
    made = Theme(qapp)
    made.apply("light", 100)
    return made


def test_a_table_model_passes_qts_own_tester(theme: Theme, qtbot: QtBot) -> None:
    rows = [("a", "1"), ("b", "2")]
    model = RowsModel(
        theme, ("Name", "Count"), lambda: len(rows), lambda row: rows[row], lambda row: Mark.PROBLEM if row else None
    )
    QAbstractItemModelTester(model, QAbstractItemModelTester.FailureReportingMode.Fatal)
    model.changed()
    assert (model.rowCount(), model.columnCount()) == (2, 2)
    assert model.data(model.index(1, 1)) == "2"
    assert model.data(model.index(1, 0), Qt.ItemDataRole.AccessibleTextRole) == "b, needs a person"
    rows.append(("c", "3"))
    model.changed()
    assert model.rowCount() == 3
    view = RowsTable(model, "Rows", 0, (100, 50))
    qtbot.addWidget(view)
    assert view.accessibleName() == "Rows"


def test_the_shipped_typeface_is_used(theme: Theme, qapp: QApplication) -> None:
    assert qapp.font().family() == FAMILY


def _luminance(colour: str) -> float:
    """Relative luminance [WCAG 2.2, definition of relative luminance]."""
    channels = [int(colour[place : place + 2], 16) / 255 for place in (1, 3, 5)]
    linear = [value / 12.92 if value <= 0.04045 else ((value + 0.055) / 1.055) ** 2.4 for value in channels]
    return 0.2126 * linear[0] + 0.7152 * linear[1] + 0.0722 * linear[2]


def _contrast(one: str, other: str) -> float:
    high, low = sorted((_luminance(one), _luminance(other)), reverse=True)
    return (high + 0.05) / (low + 0.05)


@pytest.mark.parametrize("colours", [LIGHT, DARK], ids=["light", "dark"])
def test_text_stands_out_everywhere(colours: Colours) -> None:
    # WCAG 2.2, success criterion 1.4.3: at least 4.5 to 1.
    for text in (colours.ink, colours.soft, colours.proven, colours.way, colours.problem):
        for ground in (colours.panel, colours.paper):
            assert _contrast(text, ground) >= 4.5, (text, ground)
    assert _contrast(colours.on_picture_ground, colours.picture_ground) >= 4.5
    assert _contrast(colours.ink, colours.rail) >= 4.5
    assert _contrast(colours.soft, colours.rail) >= 4.5


def test_states_differ_in_shape_and_not_only_in_colour(theme: Theme) -> None:
    shapes = set()
    for mark in Mark:
        image = QImage(24, 24, QImage.Format.Format_ARGB32)
        image.fill(Qt.GlobalColor.transparent)
        painter = QPainter(image)
        paint_mark(painter, QRectF(2, 2, 20, 20), mark, theme.colours)
        painter.end()
        # Coverage alone: colour is taken away.
        covered = tuple(image.pixelColor(x, y).alpha() > 127 for x in range(24) for y in range(24))
        shapes.add(covered)
    assert len(shapes) == len(Mark)


def test_what_fails_while_it_is_painted_is_told_and_painted_again(theme: Theme, qtbot: QtBot) -> None:
    """An error keeps what it came through, the painter with it: one that still paints brings the window down later."""
    box = TickBox(theme, "All of it")
    qtbot.addWidget(box)
    with qtbot.waitExposed(box):
        box.show()
    box._theme = cast(Theme, None)
    with qtbot.captureExceptions() as told:
        box.repaint()
    assert [kind for kind, _error, _trace in told] == [AttributeError]
    box._theme = theme
    before = box.grab().toImage()
    box.setChecked(True)
    box.repaint()
    assert box.grab().toImage() != before


def test_the_bridge_delivers_on_qts_thread_in_order(qtbot: QtBot) -> None:
    taken: list[tuple[object, bool]] = []
    here = QThread.currentThread()
    bridge = Bridge(lambda value: taken.append((value, QThread.currentThread() is here)))

    def post() -> None:
        for number in range(50):
            bridge.post(number)

    worker = threading.Thread(target=post)
    worker.start()
    worker.join()
    assert taken == []
    qtbot.waitUntil(lambda: len(taken) == 50)
    assert taken == [(number, True) for number in range(50)]


def test_a_second_start_is_heard_only_by_a_window_that_answers(qtbot: QtBot, tmp_path: Path) -> None:
    first, second = OneWindow(tmp_path / "ledger.sqlite"), OneWindow(tmp_path / "ledger.sqlite")
    assert first.take()
    came: list[Path | None] = []
    later = SecondStarts(first.name, came.append)
    folder = tmp_path / "Karte Nº 1\n"
    assert not second.take()
    # Nothing turns this window's event loop meanwhile: the connection stands, the answer does not come.
    assert not bring_first_to_front(second.name)
    heard: list[bool] = []

    def ask() -> None:
        # As a start does: again, where the window is slow to answer.
        heard.append(any(bring_first_to_front(second.name, folder) for _attempt in range(8)))

    asking = threading.Thread(target=ask)
    asking.start()
    qtbot.waitUntil(lambda: bool(heard), timeout=60_000)
    asking.join()
    assert heard == [True]
    # The one that was not answered is taken up when the window lives again.
    assert came[0] is None
    assert set(came) == {None, folder}
    later.close()
    # One that holds the ledger and does not answer is told of, not waited for.
    assert not bring_first_to_front(second.name)
    first.let_go()


@pytest.mark.parametrize("name", ["<b>A001</b>", "<img src='file:///x'>", "A & B", "&lt;b&gt;", "two\n<lines>"])
def test_names_that_look_like_markup_are_shown_as_they_are(qtbot: QtBot, name: str) -> None:
    """Tooltips guess whether they are markup: a card may be called anything. A label that guesses shows the same."""
    label = QLabel(plain(name))
    qtbot.addWidget(label)
    told = QTextDocument()
    told.setHtml(label.text()) if label.text().startswith("<qt>") else told.setPlainText(label.text())
    assert told.toPlainText() == name
