"""Cells of the table of clips, painted from texts that were shaped once.

The usual delegate asks the model for eight things of each cell, cuts and shapes its text anew, twice, and does so for
every cell at every painting: a screenful of clips takes longer than a step of the window may beside other programs.
"""

from __future__ import annotations

from collections.abc import Callable
from typing import NamedTuple, cast

from PyQt6.QtCore import QModelIndex, QPointF, QRect, Qt
from PyQt6.QtGui import QColor, QFont, QFontMetrics, QIcon, QPainter, QStaticText
from PyQt6.QtWidgets import QStyle, QStyledItemDelegate, QStyleOptionViewItem

from diadoche.ui.theme import Colours, Theme

# From a cell's edge to what is in it, and from a picture to the text beside it.
_EDGE_PX, _BESIDE_PX = 11, 6
# More than a few screenfuls; then all are shaped anew.
_MOST_TEXTS = 5_000
_SELECTED = cast(int, QStyle.StateFlag.State_Selected.value)


class Cell(NamedTuple):
    """What a cell shows. Thousands are made in a second."""

    text: str
    icon: QIcon | None = None
    bold: bool = False


class ClipCells(QStyledItemDelegate):
    """Paints cells as the style sheet has them."""

    def __init__(self, theme: Theme, cell: Callable[[int, int], Cell | None]) -> None:
        """`cell` tells what a cell shows, by its row and column; None where there is none."""
        super().__init__()
        self._theme = theme
        self._cell = cell
        # Cut to a width, by the text, the width and whether it is bold; all of one font.
        self._shaped: dict[tuple[str, int, bool], QStaticText] = {}
        self._take_font(QFont())
        self._colours: Colours | None = None
        self._ink, self._rail = QColor(), QColor()

    def paint(self, painter: QPainter | None, option: QStyleOptionViewItem, index: QModelIndex) -> None:  # Qt's name
        assert painter is not None
        cell = self._cell(index.row(), index.column())
        if cell is None:
            return
        rect, colours = option.rect, self._theme.colours
        if colours is not self._colours:
            self._colours, self._ink, self._rail = colours, QColor(colours.ink), QColor(colours.rail)
        # By its number: to make one of Python's flags of it takes longer than to paint a text.
        is_selected = bool(cast(int, option.state.value) & _SELECTED)
        if is_selected:
            painter.fillRect(rect, self._rail)
        left = rect.left() + _EDGE_PX
        if cell.icon is not None:
            room = option.decorationSize
            mode = QIcon.Mode.Selected if is_selected else QIcon.Mode.Normal
            place = QRect(left, rect.top() + (rect.height() - room.height() + 1) // 2, room.width(), room.height())
            cell.icon.paint(painter, place, Qt.AlignmentFlag.AlignCenter, mode)
            left += room.width() + _BESIDE_PX
        if not cell.text:
            return
        font = painter.font()
        if font != self._font:
            self._take_font(font)
        shaped = self._text(cell.text, rect.right() + 1 - _EDGE_PX - left, cell.bold)
        painter.setPen(self._ink)
        if cell.bold:
            painter.setFont(self._bold)
        painter.drawStaticText(QPointF(left, rect.top() + (rect.height() - self._high) // 2), shaped)
        if cell.bold:
            painter.setFont(font)

    def _take_font(self, font: QFont) -> None:
        self._shaped.clear()
        self._font, self._bold = QFont(font), QFont(font)
        self._bold.setBold(True)
        self._high = QFontMetrics(font).height()

    def _text(self, text: str, width: int, bold: bool) -> QStaticText:
        key = (text, width, bold)
        found = self._shaped.get(key)
        if found is None:
            if len(self._shaped) >= _MOST_TEXTS:
                self._shaped.clear()
            font = self._bold if bold else self._font
            found = _shaped(text, font)
            # Most fit: to cut one is to shape it twice.
            if found.size().width() > width:
                found = _shaped(QFontMetrics(font).elidedText(text, Qt.TextElideMode.ElideRight, width), font)
            self._shaped[key] = found
        return found


def _shaped(text: str, font: QFont) -> QStaticText:
    shaped = QStaticText(text)
    shaped.setTextFormat(Qt.TextFormat.PlainText)
    shaped.prepare(font=font)
    return shaped
