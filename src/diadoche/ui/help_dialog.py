"""Help: all keys, read from the actions themselves and from the views that have keys of their own; and the guide."""

from __future__ import annotations

from collections.abc import Sequence
from functools import partial
from typing import cast

from PyQt6.QtCore import Qt
from PyQt6.QtGui import QTextBlockFormat, QTextCursor
from PyQt6.QtWidgets import (
    QDialog,
    QGridLayout,
    QHBoxLayout,
    QPushButton,
    QScrollArea,
    QStackedWidget,
    QTextBrowser,
    QVBoxLayout,
    QWidget,
)

from diadoche.guide import guide_text
from diadoche.screens.actions import Action
from diadoche.ui.footage_table import TABLE_KEYS
from diadoche.ui.parts import button, label, show_chosen, tab_button, within_screen
from diadoche.ui.player import PLAYER_KEYS

_SIZE_PX = (900, 700)
_MARGIN_PX, _APART_PX, _LINE_PERCENT = 18, 18, 125


class HelpDialog(QDialog):
    """Keys of the window, of the table of clips, of the player and of the table of outputs; beside them, the guide."""

    def __init__(
        self, parent: QWidget, everywhere: Sequence[Action], clips: Sequence[Action], outputs: Sequence[Action]
    ) -> None:
        """
        Args:
            parent: the window.
            everywhere: what can be done wherever the focus is.
            clips: what can be done in the table of clips.
            outputs: what can be done in the table of outputs.
        """
        super().__init__(parent)
        self.setWindowTitle("Help")
        self.resize(*within_screen(self.screen(), _SIZE_PX))
        groups = (
            ("Everywhere", _told(everywhere)),
            ("In the table of clips", (*_told(clips), *TABLE_KEYS)),
            ("In the player", PLAYER_KEYS),
            ("In the table of outputs", _told(outputs)),
        )
        inside = QWidget()
        sides = QHBoxLayout(inside)
        sides.setSpacing(36)
        sides.addLayout(_column(groups[:1]), 1)
        sides.addLayout(_column(groups[1:]), 1)
        scroll = QScrollArea()
        scroll.setWidget(inside)
        scroll.setWidgetResizable(True)
        scroll.setAccessibleName("Keys and what they do")
        self.guide = _guide()
        self._pages = QStackedWidget()
        self._tabs: list[QPushButton] = []
        column = QVBoxLayout(self)
        tabs = QHBoxLayout()
        for number, (name, page) in enumerate((("Keys", scroll), ("Guide", self.guide))):
            tab = tab_button(name, partial(self.show_page, number))
            self._tabs.append(tab)
            self._pages.addWidget(page)
            tabs.addWidget(tab)
        tabs.addStretch(1)
        column.addLayout(tabs)
        column.addWidget(self._pages, 1)
        end = QHBoxLayout()
        end.addStretch(1)
        end.addWidget(button("Close", self.reject, tip="Back to the window (Esc)"))
        column.addLayout(end)
        self.show_page(0)

    def show_page(self, number: int) -> None:
        """The keys, or the guide."""
        self._pages.setCurrentIndex(number)
        for each, tab in enumerate(self._tabs):
            show_chosen(tab, each == number)
        shown = self._pages.currentWidget()
        assert shown is not None
        shown.setFocus()


def _guide() -> QTextBrowser:
    """The guide, set to be read: lines apart, and paragraphs more so."""
    made = QTextBrowser()
    made.setAccessibleName("Guide")
    made.setMarkdown(guide_text())
    document = made.document()
    assert document is not None
    document.setDocumentMargin(_MARGIN_PX)
    proportional = QTextBlockFormat.LineHeightTypes.ProportionalHeight.value
    block = document.begin()
    while block.isValid():
        cursor, form = QTextCursor(block), block.blockFormat()
        form.setLineHeight(_LINE_PERCENT, cast(int, proportional))
        in_table = cursor.currentTable() is not None
        form.setTopMargin(_APART_PX if form.headingLevel() else 0)
        form.setBottomMargin(2 if in_table else _APART_PX / 2)
        cursor.setBlockFormat(form)
        block = block.next()
    return made


def _told(actions: Sequence[Action]) -> list[tuple[str, str]]:
    return [(each.keys, each.title) for each in actions if each.keys]


def _column(groups: Sequence[tuple[str, Sequence[tuple[str, str]]]]) -> QGridLayout:
    grid = QGridLayout()
    grid.setHorizontalSpacing(24)
    grid.setVerticalSpacing(5)
    grid.setColumnStretch(1, 1)
    row = 0
    for title, keys in groups:
        grid.addWidget(label(title, "heading"), row, 0, 1, 2)
        row += 1
        for key, words in keys:
            grid.addWidget(label(key, "strong"), row, 0, Qt.AlignmentFlag.AlignTop)
            grid.addWidget(label(words, wrap=True), row, 1)
            row += 1
    grid.setRowStretch(row, 1)
    return grid
