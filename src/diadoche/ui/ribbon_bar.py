"""A ribbon of the board for who points at it, or hears it: how far one card has come to one place."""

from __future__ import annotations

from PyQt6.QtCore import QPoint, QPointF
from PyQt6.QtGui import QPaintEvent
from PyQt6.QtWidgets import QProgressBar, QWidget

from diadoche.ui.plain_text import plain
from diadoche.ui.ribbon_picture import PlacedRibbon

_WIDE_PX = 28


class RibbonBar(QProgressBar):
    """Lies over the middle of its ribbon and paints nothing: the board draws all ribbons at once."""

    def __init__(self, board: QWidget) -> None:
        super().__init__(board)
        self.setTextVisible(False)
        # Each new value would be painted at once, and what lies below with it: the whole board, once for each ribbon.
        self.setUpdatesEnabled(False)
        self.lower()
        self.show()

    def show_ribbon(self, placed: PlacedRibbon, words: str) -> None:
        """Stands where the ribbon is, and tells what it stands for."""
        middle, high = placed.at(0.5), round(placed.thick_px)
        self.setGeometry(round(middle.x()) - _WIDE_PX // 2, round(middle.y()) - high // 2, _WIDE_PX, high)
        if words != self.toolTip():
            self.setToolTip(plain(words))
            self.setAccessibleName(words)
        self.setValue(round(placed.ribbon.copied * 100))

    def paintEvent(self, event: QPaintEvent | None) -> None:  # Qt's name
        """Nothing."""


def ribbon_at(ribbons: list[PlacedRibbon], point: QPoint) -> PlacedRibbon | None:
    """The ribbon at a point of the board, the uppermost one."""
    where = QPointF(point)
    return next((each for each in reversed(ribbons) if each.holds(where)), None)
