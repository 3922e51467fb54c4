"""Help: all keys, read from the actions themselves and from the views that have keys of their own; and the guide."""

from __future__ import annotations

from collections.abc import Sequence

from PyQt6.QtCore import Qt
from PyQt6.QtWidgets import (
    QDialog,
    QGridLayout,
    QHBoxLayout,
    QScrollArea,
    QTabWidget,
    QTextBrowser,
    QVBoxLayout,
    QWidget,
)

from diadoche.guide import guide_text
from diadoche.screens.actions import Action
from diadoche.ui.footage_table import TABLE_KEYS
from diadoche.ui.parts import button, label
from diadoche.ui.player import PLAYER_KEYS

_SIZE_PX = (900, 620)


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
        self.resize(*_SIZE_PX)
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
        self.guide = QTextBrowser()
        self.guide.setAccessibleName("Guide")
        self.guide.setOpenExternalLinks(True)
        self.guide.setMarkdown(guide_text())
        self.pages = QTabWidget()
        self.pages.addTab(scroll, "Keys")
        self.pages.addTab(self.guide, "Guide")
        column = QVBoxLayout(self)
        column.addWidget(self.pages)
        end = QHBoxLayout()
        end.addStretch(1)
        end.addWidget(button("Close", self.reject, tip="Back to the window (Esc)"))
        column.addLayout(end)
        scroll.setFocus()


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
