"""Cells of the table of clips, as they are painted."""

from __future__ import annotations

import numpy as np
import pytest
from PyQt6.QtCore import QPoint, QRect, QSize
from PyQt6.QtGui import QColor, QIcon, QImage, QPainter, QPixmap, QStandardItemModel
from PyQt6.QtWidgets import QApplication, QStyle, QStyleOptionViewItem

from diadoche.ui.clip_cells import Cell, ClipCells
from diadoche.ui.theme import Theme

_WIDE, _HIGH = 300, 60


def painted(
    cells: ClipCells, rect: QRect, *, selected: bool = False
) -> np.ndarray[tuple[int, int], np.dtype[np.uint8]]:
    """The green of a white ground on which the cell was painted."""
    image = QImage(_WIDE, _HIGH, QImage.Format.Format_RGB32)
    image.fill(QColor("white"))
    model = QStandardItemModel(1, 1)
    option = QStyleOptionViewItem()
    option.rect = rect
    option.decorationSize = QSize(20, 20)
    option.state = QStyle.StateFlag.State_Enabled
    if selected:
        option.state |= QStyle.StateFlag.State_Selected
    with QPainter(image) as painter:
        cells.paint(painter, option, model.index(0, 0))
    bits = image.constBits()
    assert bits is not None
    bits.setsize(image.sizeInBytes())
    return np.frombuffer(bits, np.uint8).reshape(_HIGH, _WIDE, 4)[..., 1].copy()  # type: ignore[call-overload]  # a buffer


@pytest.fixture
def theme(qapp: QApplication) -> Theme:
    made = Theme(qapp)
    made.apply("light", 100)
    return made


def test_a_text_that_does_not_fit_is_cut_and_stays_within_its_cell(theme: Theme) -> None:
    rect = QRect(QPoint(50, 10), QSize(120, 34))
    cells = ClipCells(theme, lambda _row, _column: Cell("A name that is much longer than its column is wide"))
    rows, columns = np.nonzero(painted(cells, rect) < 200)
    assert (columns.min(), rows.min()) > (rect.left(), rect.top())
    assert columns.max() <= rect.right()
    assert rows.max() <= rect.bottom()
    # One that fits is the shorter for it.
    short = ClipCells(theme, lambda _row, _column: Cell("A name"))
    assert np.nonzero(painted(short, rect) < 200)[1].max() < columns.max()


def test_a_picture_stands_before_the_text_and_a_selected_row_has_a_ground(theme: Theme) -> None:
    rect = QRect(0, 10, 200, 34)
    picture = QPixmap(20, 20)
    picture.fill(QColor(255, 0, 255))
    bare = ClipCells(theme, lambda _row, _column: Cell("Name"))
    pictured = ClipCells(theme, lambda _row, _column: Cell("Name", QIcon(picture)))
    text = np.nonzero(painted(bare, rect) < 100)[1]
    shown = painted(pictured, rect)
    place = np.nonzero(shown == 0)
    assert (np.ptp(place[0]), np.ptp(place[1])) == (19, 19)
    behind = np.nonzero((shown < 100) & (shown > 0))[1]
    assert behind.min() > place[1].max()
    assert np.ptp(behind) == pytest.approx(np.ptp(text), abs=1)
    assert painted(bare, rect, selected=True)[11, 1] == QColor(theme.colours.rail).green()


def test_a_larger_text_is_shaped_anew(theme: Theme) -> None:
    rect = QRect(0, 0, 300, 60)
    cells = ClipCells(theme, lambda _row, _column: Cell("Name"))

    def wide() -> int:
        image = QImage(_WIDE, _HIGH, QImage.Format.Format_RGB32)
        image.fill(QColor("white"))
        option = QStyleOptionViewItem()
        option.rect = rect
        with QPainter(image) as painter:
            painter.setFont(theme.font(1.0))
            cells.paint(painter, option, QStandardItemModel(1, 1).index(0, 0))
        return max(x for x in range(_WIDE) for y in range(_HIGH) if image.pixelColor(x, y).green() < 200)

    before = wide()
    theme.apply("light", 200)
    assert wide() > 1.7 * before
    theme.apply("light", 100)
    assert wide() == before
