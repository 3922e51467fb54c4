"""Clips side by side, a fact a line; lines that differ are marked by a shape and by weight."""

from __future__ import annotations

from PyQt6.QtCore import Qt
from PyQt6.QtWidgets import QGridLayout, QLabel, QScrollArea, QVBoxLayout, QWidget

from diadoche.screens.comparing import ComparedLine
from diadoche.screens.footage import FootageScreen
from diadoche.ui.parts import TickBox, label, panel, take_look
from diadoche.ui.theme import Theme

_DIFFERS = "≠"
# The columns before those of clips: a mark, and what a line is about.
_FIRST_CLIP = 2


class CompareView(QWidget):
    """What two or more selected clips have in common, and what not."""

    def __init__(self, theme: Theme, screen: FootageScreen) -> None:
        super().__init__()
        self._screen = screen
        self._shown: tuple[tuple[str, ...], list[ComparedLine]] = (), []
        # As many as were ever shown: those that are not needed now are hidden.
        self._titles: list[QLabel] = []
        self._rows: list[_Row] = []
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
        within = QWidget()
        within.setObjectName("clear")
        below = QVBoxLayout(within)
        below.setContentsMargins(12, 8, 12, 8)
        self._grid = QGridLayout()
        self._grid.setHorizontalSpacing(12)
        self._grid.setVerticalSpacing(5)
        below.addLayout(self._grid)
        below.addStretch(1)
        self._area.setWidget(within)

    def refresh(self) -> None:
        """Shows the selected clips."""
        names, lines = self._screen.compared()
        self._words.setText(self._screen.compared_words() if names else "")
        shown = [line for line in lines if line.differs or not self.only_differing.isChecked()]
        # Hundreds of labels: made anew only where there are others, and told only what has changed.
        before, self._shown = self._shown, (names, shown)
        if self._shown == before:
            return
        self._make_enough(len(names), len(shown))
        for place, title in enumerate(self._titles):
            title.setText(names[place] if place < len(names) else "")
            title.setVisible(place < len(names))
            self._grid.setColumnStretch(_FIRST_CLIP + place, int(place < len(names)))
        for number, row in enumerate(self._rows):
            row.show_line(shown[number] if number < len(shown) else None)

    def _make_enough(self, clips: int, lines: int) -> None:
        """Labels for so many clips and lines, those that are there among them."""
        if clips <= len(self._titles) and lines <= len(self._rows):
            return
        # Put in while nobody sees them: each would have all of the view laid out anew.
        within = self._area.takeWidget()
        for place in range(len(self._titles), clips):
            title = label(name="strong")
            self._titles.append(title)
            self._grid.addWidget(title, 0, _FIRST_CLIP + place)
        for number in range(len(self._rows), lines):
            self._rows.append(_Row(self._grid, number + 1))
        for row in self._rows:
            row.make_enough(len(self._titles))
        self._area.setWidget(within)


class _Row:
    """The labels of a line: whether clips differ, what it is about, and what it says of each clip."""

    def __init__(self, grid: QGridLayout, row: int) -> None:
        self._grid, self._row = grid, row
        self._mark, self._name = label(name="strong"), label(name="soft")
        self._cells: list[QLabel] = []
        for place, part in enumerate((self._mark, self._name)):
            grid.addWidget(part, row, place, Qt.AlignmentFlag.AlignTop)

    def make_enough(self, clips: int) -> None:
        for place in range(len(self._cells), clips):
            cell = label(wrap=True)
            self._cells.append(cell)
            self._grid.addWidget(cell, self._row, _FIRST_CLIP + place, Qt.AlignmentFlag.AlignTop)

    def show_line(self, line: ComparedLine | None) -> None:
        """Says what a line says; nothing of it is seen where there is none."""
        texts = line.texts if line is not None else ()
        for part in (self._mark, self._name):
            part.setVisible(line is not None)
        for place, cell in enumerate(self._cells):
            cell.setVisible(place < len(texts))
        if line is None:
            return
        self._name.setText(line.name)
        self._mark.setText(_DIFFERS if line.differs else "")
        self._mark.setAccessibleName("differs" if line.differs else "alike")
        for cell, text in zip(self._cells, texts, strict=False):
            cell.setText(text or "none")
            take_look(cell, "strong" if line.differs else "")
