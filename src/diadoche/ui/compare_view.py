"""Clips side by side, a fact a line; lines that differ are marked by a shape and by weight."""

from __future__ import annotations

from PyQt6.QtCore import Qt
from PyQt6.QtWidgets import QGridLayout, QScrollArea, QVBoxLayout, QWidget

from diadoche.screens.comparing import ComparedLine
from diadoche.screens.footage import FootageScreen
from diadoche.ui.parts import TickBox, emptied, label, panel
from diadoche.ui.theme import Theme

_DIFFERS = "≠"


class CompareView(QWidget):
    """What two or more selected clips have in common, and what not."""

    def __init__(self, theme: Theme, screen: FootageScreen) -> None:
        super().__init__()
        self._screen = screen
        self._shown: tuple[tuple[str, ...], list[ComparedLine]] = (), []
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
        # Hundreds of labels: made anew only where they would say something else.
        if (names, shown) == self._shown:
            return
        self._shown = names, shown
        grid_widget = QWidget()
        grid_widget.setObjectName("clear")
        grid = QGridLayout(grid_widget)
        emptied(grid)
        grid.setContentsMargins(12, 8, 12, 8)
        grid.setHorizontalSpacing(12)
        grid.setVerticalSpacing(5)
        for place, name in enumerate(names, start=2):
            grid.addWidget(label(name, "strong"), 0, place)
            grid.setColumnStretch(place, 1)
        for row, line in enumerate(shown, start=1):
            mark = label(_DIFFERS if line.differs else "", "strong")
            mark.setAccessibleName("differs" if line.differs else "alike")
            grid.addWidget(mark, row, 0, Qt.AlignmentFlag.AlignTop)
            grid.addWidget(label(line.name, "soft"), row, 1, Qt.AlignmentFlag.AlignTop)
            for place, text in enumerate(line.texts, start=2):
                words = label(text or "none", "strong" if line.differs else "", wrap=True)
                grid.addWidget(words, row, place, Qt.AlignmentFlag.AlignTop)
        grid.setRowStretch(len(shown) + 1, 1)
        self._area.setWidget(grid_widget)
