"""The shapes of states, drawn: corners, hatched, filled with a notch (proven copies alone), filled, a bar, triangle."""

from __future__ import annotations

from functools import lru_cache

from PyQt6.QtCore import QPointF, QRectF, QSize, Qt
from PyQt6.QtGui import QBrush, QColor, QIcon, QPainter, QPainterPath, QPaintEvent, QPen, QPixmap
from PyQt6.QtWidgets import QWidget

from diadoche.screens.marks import Mark
from diadoche.ui.plain_text import plain
from diadoche.ui.theme import Colours, Theme

_HATCH_PX = 8

# In tables, at the usual text size.
MARK_PX = 14


@lru_cache(maxsize=8)
def hatch(colours: Colours, ground: str | None = None) -> QBrush:
    """Slanting stripes in the colour of what is under way."""
    pixmap = QPixmap(_HATCH_PX, _HATCH_PX)
    pixmap.fill(QColor(ground or colours.panel))
    with QPainter(pixmap) as painter:
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        painter.setPen(QPen(QColor(colours.way), 2.6))
        for shift in (-_HATCH_PX, 0, _HATCH_PX):
            painter.drawLine(QPointF(shift - 1, _HATCH_PX + 1), QPointF(shift + _HATCH_PX + 1, -1))
    return QBrush(pixmap)


def paint_mark(painter: QPainter, box: QRectF, mark: Mark, colours: Colours) -> None:
    """Draws one shape into a square box."""
    painter.save()
    painter.setRenderHint(QPainter.RenderHint.Antialiasing)
    line = max(1.5, box.width() / 12)
    inner = box.adjusted(line / 2, line / 2, -line / 2, -line / 2)
    if mark is Mark.EXPECTED:
        # Not a whole square, which would read as a box to be ticked.
        painter.setPen(QPen(QColor(colours.soft), line))
        painter.drawPath(_corners(inner))
    elif mark is Mark.UNDER_WAY:
        painter.setBrush(hatch(colours))
        painter.setPen(QPen(QColor(colours.way), line))
        painter.drawRect(inner)
    elif mark is Mark.DONE:
        painter.fillRect(box.adjusted(line, line, -line, -line), QColor(colours.soft))
    elif mark is Mark.STOPPED:
        # A bar across the middle: it was begun, and goes no further.
        third = box.height() / 3
        painter.fillRect(box.adjusted(line, third, -line, -third), QColor(colours.soft))
    elif mark is Mark.PROVEN:
        painter.fillPath(_notched(box), QColor(colours.proven))
    else:
        path = QPainterPath(QPointF(box.center().x(), box.top()))
        path.lineTo(box.bottomRight())
        path.lineTo(box.bottomLeft())
        path.closeSubpath()
        painter.fillPath(path, QColor(colours.problem))
    painter.restore()


def _corners(box: QRectF) -> QPainterPath:
    """The four corners of a square: the place that a shape will take."""
    path, arm = QPainterPath(), box.width() * 0.3
    for corner, across, down in (
        (box.topLeft(), 1, 1),
        (box.topRight(), -1, 1),
        (box.bottomRight(), -1, -1),
        (box.bottomLeft(), 1, -1),
    ):
        path.moveTo(corner + QPointF(across * arm, 0))
        path.lineTo(corner)
        path.lineTo(corner + QPointF(0, down * arm))
    return path


def _notched(box: QRectF) -> QPainterPath:
    """A filled square with a notch in its lower edge, as a stamp leaves on a waybill."""
    middle, wide, deep = box.center().x(), box.width() * 0.18, box.height() * 0.3
    path = QPainterPath(box.topLeft())
    path.lineTo(box.topRight())
    path.lineTo(box.bottomRight())
    path.lineTo(QPointF(middle + wide, box.bottom()))
    path.lineTo(QPointF(middle, box.bottom() - deep))
    path.lineTo(QPointF(middle - wide, box.bottom()))
    path.lineTo(box.bottomLeft())
    path.closeSubpath()
    return path


@lru_cache(maxsize=64)
def mark_icon(mark: Mark, colours: Colours, size_px: int = MARK_PX) -> QIcon:
    """A shape as an icon for tables."""
    pixmap = QPixmap(size_px * 2, size_px * 2)
    pixmap.setDevicePixelRatio(2)
    pixmap.fill(Qt.GlobalColor.transparent)
    with QPainter(pixmap) as painter:
        paint_mark(painter, QRectF(1, 1, size_px - 2, size_px - 2), mark, colours)
    icon = QIcon(pixmap)
    # Selected rows show the same shape in the same colour: it says a state.
    icon.addPixmap(pixmap, QIcon.Mode.Selected)
    return icon


class MarkWidget(QWidget):
    """One shape, with its word for screen readers."""

    def __init__(self, theme: Theme, size_px: int) -> None:
        super().__init__()
        self._theme = theme
        self._mark = Mark.EXPECTED
        self.setFixedSize(QSize(size_px, size_px))
        self.show_mark(Mark.EXPECTED)

    def show_mark(self, mark: Mark) -> None:
        """Shows another state."""
        self._mark = mark
        self.setAccessibleName(mark.value)
        self.setToolTip(plain(mark.value.capitalize()))
        self.update()

    def paintEvent(self, event: QPaintEvent | None) -> None:  # Qt's name
        with QPainter(self) as painter:
            paint_mark(painter, QRectF(self.rect()).adjusted(1, 1, -1, -1), self._mark, self._theme.colours)
