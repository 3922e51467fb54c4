"""One item of the rail: a view's name, and in small what it holds."""

from __future__ import annotations

from PyQt6.QtCore import QRectF, QSize, Qt
from PyQt6.QtGui import QColor, QFont, QFontMetrics, QPainter, QPaintEvent, QPen
from PyQt6.QtWidgets import QAbstractButton

from diadoche.ui.theme import Theme

_LEFT_PX = 18
# Above and below the two lines together; less where they are larger, for the window stays as high as it is.
_ROOM_PX, _LEAST_ROOM_PX = 24, 12


class RailItem(QAbstractButton):
    """Chosen or not; drawn by hand so that name and summary have sizes of their own."""

    def __init__(self, theme: Theme, name: str) -> None:
        super().__init__()
        self._theme = theme
        self._summary = ""
        self.setText(name)
        self.setCheckable(True)
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)

    def show_summary(self, summary: str) -> None:
        """The words under the name."""
        if summary != self._summary:
            self._summary = summary
            self.setAccessibleName(f"{self.text()}: {summary}")
            self.update()

    def sizeHint(self) -> QSize:  # Qt's name
        name = QFontMetrics(self._theme.font(1.12, QFont.Weight.DemiBold)).horizontalAdvance(self.text())
        return QSize(
            max(120, name + _LEFT_PX + 12),
            self._theme.px(2.4) + max(_LEAST_ROOM_PX, round(_ROOM_PX / self._theme.scale)),
        )

    def minimumSizeHint(self) -> QSize:  # Qt's name
        return self.sizeHint()

    def paintEvent(self, event: QPaintEvent | None) -> None:  # Qt's name
        with QPainter(self) as painter:
            c = self._theme.colours
            if self.isChecked():
                painter.fillRect(self.rect(), QColor(c.paper))
                painter.fillRect(0, 0, 5, self.height(), QColor(c.ink))
            elif self.underMouse():
                painter.fillRect(self.rect(), QColor(c.line))
            middle = self.height() / 2
            painter.setFont(self._theme.font(1.12, QFont.Weight.DemiBold))
            painter.setPen(QColor(c.ink))
            wide = self.width() - _LEFT_PX - 4
            painter.drawText(QRectF(_LEFT_PX, 0, wide, middle + 1), Qt.AlignmentFlag.AlignBottom, self.text())
            painter.setFont(self._theme.font(0.92))
            painter.setPen(QColor(c.soft))
            summary = painter.fontMetrics().elidedText(self._summary, Qt.TextElideMode.ElideRight, wide)
            painter.drawText(QRectF(_LEFT_PX, middle + 2, wide, middle), Qt.AlignmentFlag.AlignTop, summary)
            if self.hasFocus():
                painter.setPen(QPen(QColor(c.way), 2))
                painter.drawRect(self.rect().adjusted(1, 1, -1, -1))
