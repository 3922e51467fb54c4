"""Clips side by side, a fact a line; lines that differ are marked by a shape and by weight."""

from __future__ import annotations

from collections.abc import Sequence

from PyQt6.QtCore import Qt
from PyQt6.QtWidgets import QGridLayout, QLabel, QScrollArea, QVBoxLayout, QWidget

from diadoche.screens.comparing import ComparedLine
from diadoche.screens.footage import FootageScreen
from diadoche.ui.parts import TickBox, emptied, label, panel, take_look
from diadoche.ui.theme import Theme

_DIFFERS = "≠"


class CompareView(QWidget):
    """What two or more selected clips have in common, and what not."""

    def __init__(self, theme: Theme, screen: FootageScreen) -> None:
        super().__init__()
        self._screen = screen
        self._shown: tuple[tuple[str, ...], list[ComparedLine]] = (), []
        self._titles: list[QLabel] = []
        # Of each line its mark, and what it says of each clip.
        self._cells: list[tuple[QLabel, list[QLabel]]] = []
        column = QVBoxLayout(self)
        column.setContentsMargins(0, 0, 0, 0)
        column.setSpacing(8)
        self._words = label(name="title", wrap=True)
        self.only_differing = TickBox(theme, "Only what differs")
        self.only_differing.setToolTip("Leaves out the lines in which all clips agree")
        self.only_differing.toggled.connect(lambda _on: self.refresh())
        column.addWidget(self._words)
        column.addWidget(self.only_differing)
        sheet = panel()
        inside = QVBoxLayout(sheet)
        inside.setContentsMargins(0, 0, 0, 0)
        self._area = QScrollArea()
        self._area.setWidgetResizable(True)
        self._area.setFrameShape(QScrollArea.Shape.NoFrame)
        self._area.setAccessibleName("Clips compared line by line")
        inside.addWidget(self._area)
        column.addWidget(sheet, 1)

    def refresh(self) -> None:
        """Shows the selected clips."""
        names, lines = self._screen.compared()
        self._words.setText(self._screen.compared_words() if names else "")
        shown = [line for line in lines if line.differs or not self.only_differing.isChecked()]
        # Hundreds of labels: made anew only where there are others, and told only what has changed.
        before, self._shown = self._shown, (names, shown)
        if self._shown == before:
            return
        if len(names) != len(before[0]) or [line.name for line in shown] != [line.name for line in before[1]]:
            self._build(names, shown)
        for title, name in zip(self._titles, names, strict=True):
            title.setText(name)
        for cells, line in zip(self._cells, shown, strict=True):
            _show_line(cells, line)

    def _build(self, names: Sequence[str], shown: Sequence[ComparedLine]) -> None:
        """The labels for so many clips and lines; what they say is put in afterwards."""
        grid_widget = QWidget()
        grid_widget.setObjectName("clear")
        grid = QGridLayout(grid_widget)
        emptied(grid)
        grid.setContentsMargins(12, 8, 12, 8)
        grid.setHorizontalSpacing(12)
        grid.setVerticalSpacing(5)
        self._titles = [label(name="strong") for _name in names]
        self._cells = []
        for place, title in enumerate(self._titles, start=2):
            grid.addWidget(title, 0, place)
            grid.setColumnStretch(place, 1)
        for row, line in enumerate(shown, start=1):
            mark, words = label(name="strong"), [label(wrap=True) for _name in names]
            self._cells.append((mark, words))
            grid.addWidget(mark, row, 0, Qt.AlignmentFlag.AlignTop)
            grid.addWidget(label(line.name, "soft"), row, 1, Qt.AlignmentFlag.AlignTop)
            for place, cell in enumerate(words, start=2):
                grid.addWidget(cell, row, place, Qt.AlignmentFlag.AlignTop)
        grid.setRowStretch(len(shown) + 1, 1)
        self._area.setWidget(grid_widget)


def _show_line(cells: tuple[QLabel, list[QLabel]], line: ComparedLine) -> None:
    mark, words = cells
    mark.setText(_DIFFERS if line.differs else "")
    mark.setAccessibleName("differs" if line.differs else "alike")
    for cell, text in zip(words, line.texts, strict=True):
        cell.setText(text or "none")
        take_look(cell, "strong" if line.differs else "")
