"""How well the seams of a take fit, drawn over its pictures; a click, or the arrow keys, go to a picture."""

from __future__ import annotations

from PyQt6.QtCore import QPointF, QRectF, QSize, Qt, pyqtSignal
from PyQt6.QtGui import QColor, QKeyEvent, QMouseEvent, QPainter, QPaintEvent, QPen, QPolygonF
from PyQt6.QtWidgets import QSizePolicy, QWidget

from diadoche.core.sphere.seam_curve import SeamCurve
from diadoche.ui.theme import Theme

_HIGH_PX, _SIDE_PX = 120, 10
# Breaks of less than that are drawn as small as they are: a curve that always fills its height would frighten.
_LEAST_TOP_PX = 4.0


class SeamCurveView(QWidget):
    """The curve, with its worst picture marked and the one on show."""

    chosen = pyqtSignal(int)

    def __init__(self, theme: Theme, curve: SeamCurve) -> None:
        super().__init__()
        self._theme, self._curve = theme, curve
        self.picture = 0
        self.setSizePolicy(QSizePolicy.Policy.Expanding, QSizePolicy.Policy.Fixed)
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self.setAccessibleName("How far edges across the seams break, picture by picture")
        self.setToolTip("Pixels by which edges across the seams break; click to go there, or use the arrow keys")
        self.show_picture(0)

    def sizeHint(self) -> QSize:  # Qt's name
        return QSize(400, _HIGH_PX)

    def show_picture(self, picture: int) -> None:
        """Marks the picture that is on show."""
        self.picture = min(max(0, picture), len(self._curve.breaks_px) - 1)
        value = self._curve.breaks_px[self.picture] if self._curve.breaks_px else None
        told = "nothing to compare" if value is None else f"{value:.1f} px"
        self.setAccessibleDescription(f"picture {self.picture}: {told}")
        self.update()

    @property
    def _box(self) -> QRectF:
        line = self.fontMetrics().height()
        return QRectF(self.rect()).adjusted(_SIDE_PX, line + 8, -_SIDE_PX, -8)

    def _x(self, picture: int) -> float:
        return self._box.left() + picture / max(1, len(self._curve.breaks_px) - 1) * self._box.width()

    def _points(self) -> list[QPolygonF]:
        """Stretches of pictures that tell something."""
        worst = self._curve.worst
        top = max(_LEAST_TOP_PX, worst[1] if worst is not None else 0.0)
        found: list[QPolygonF] = []
        broken = True
        for picture, value in enumerate(self._curve.breaks_px):
            if value is None:
                broken = True
                continue
            if broken:
                found.append(QPolygonF())
                broken = False
            found[-1].append(QPointF(self._x(picture), self._box.bottom() - value / top * self._box.height()))
        return found

    def paintEvent(self, event: QPaintEvent | None) -> None:  # Qt's name
        with QPainter(self) as painter:
            painter.setRenderHint(QPainter.RenderHint.Antialiasing)
            c, box, worst = self._theme.colours, self._box, self._curve.worst
            painter.setPen(QPen(QColor(c.line), 1))
            painter.setBrush(QColor(c.panel))
            painter.drawRect(QRectF(self.rect()).adjusted(0.5, 0.5, -0.5, -0.5))
            if self.hasFocus():
                painter.setPen(QPen(QColor(c.way), 2))
                painter.drawRect(QRectF(self.rect()).adjusted(1, 1, -1, -1))
            painter.setPen(QPen(QColor(c.line), 1))
            painter.drawLine(box.bottomLeft(), box.bottomRight())
            painter.setBrush(Qt.BrushStyle.NoBrush)
            painter.setPen(QPen(QColor(c.ink), 1.6))
            for stretch in self._points():
                painter.drawPolyline(stretch)
                if stretch.count() == 1:
                    painter.drawPoint(stretch.at(0))
            painter.setPen(QPen(QColor(c.way), 1.4))
            painter.drawLine(QPointF(self._x(self.picture), box.top()), QPointF(self._x(self.picture), box.bottom()))
            painter.setPen(QColor(c.ink))
            words = "Nothing at the seams can be compared"
            if worst is not None:
                usual = self._curve.median_px or 0.0
                words = f"usually {usual:.1f} px, at worst {worst[1]:.1f} px in picture {worst[0]}"
                self._paint_worst(painter, worst[0])
            painter.setPen(QColor(c.soft))
            painter.drawText(QRectF(_SIDE_PX, 4, self.width() - 2 * _SIDE_PX, box.top()), 0, words)

    def _paint_worst(self, painter: QPainter, picture: int) -> None:
        x, y = self._x(picture), self._box.bottom() + 1
        painter.setPen(Qt.PenStyle.NoPen)
        painter.setBrush(QColor(self._theme.colours.ink))
        painter.drawPolygon(QPolygonF([QPointF(x, y), QPointF(x - 5, y + 6), QPointF(x + 5, y + 6)]))

    def mousePressEvent(self, event: QMouseEvent | None) -> None:  # Qt's name
        if event is not None:
            share = (event.position().x() - self._box.left()) / self._box.width()
            self._go(round(share * (len(self._curve.breaks_px) - 1)))

    def keyPressEvent(self, event: QKeyEvent | None) -> None:  # Qt's name
        step = {Qt.Key.Key_Left: -1, Qt.Key.Key_Right: 1}.get(Qt.Key(event.key())) if event is not None else None
        if step is None:
            super().keyPressEvent(event)
        else:
            self._go(self.picture + step)

    def _go(self, picture: int) -> None:
        self.show_picture(picture)
        self.chosen.emit(self.picture)
