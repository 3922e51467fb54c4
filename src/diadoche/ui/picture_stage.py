"""The stage: a picture as large as there is room, on neutral grey; words where there is none."""

from __future__ import annotations

from PyQt6.QtCore import QRectF, QSize, Qt
from PyQt6.QtGui import QColor, QImage, QPainter, QPaintEvent
from PyQt6.QtWidgets import QSizePolicy, QWidget

from diadoche.ui.theme import Colours, Theme

_MARGIN_PX = 20


def fitted(stage: QRectF, aspect: float) -> QRectF:
    """The largest part of a stage, in its middle, that is so many times as wide as high."""
    wide = min(stage.width(), stage.height() * aspect)
    high = wide / aspect
    return QRectF(stage.center().x() - wide / 2, stage.center().y() - high / 2, wide, high)


def paint_ground(painter: QPainter, stage: QRectF, colours: Colours, words: str) -> None:
    """The ground of a stage, and words on it where there is no picture."""
    painter.setRenderHint(QPainter.RenderHint.SmoothPixmapTransform)
    painter.fillRect(stage, QColor(colours.picture_ground))
    if words:
        painter.setPen(QColor(colours.on_picture_ground))
        flags = Qt.AlignmentFlag.AlignCenter | Qt.TextFlag.TextWordWrap
        painter.drawText(stage.adjusted(_MARGIN_PX, 0, -_MARGIN_PX, 0), flags, words)


class PictureStage(QWidget):
    """Shows one picture, or words in its place."""

    def __init__(self, theme: Theme, name: str) -> None:
        super().__init__()
        self._theme, self._name = theme, name
        self._image: QImage | None = None
        self._words = ""
        self.setSizePolicy(QSizePolicy.Policy.Expanding, QSizePolicy.Policy.Expanding)
        self.setAccessibleName(name)

    @property
    def image(self) -> QImage | None:
        """The picture on show."""
        return self._image

    def sizeHint(self) -> QSize:  # Qt's name
        return QSize(600, 300)

    def show_picture(self, image: QImage | None, words: str = "") -> None:
        """Shows a picture, or words in its place."""
        self._image, self._words = image, words
        self.setAccessibleDescription(words)
        self.update()

    def paintEvent(self, event: QPaintEvent | None) -> None:  # Qt's name
        with QPainter(self) as painter:
            words = self._words if self._image is None else ""
            paint_ground(painter, QRectF(self.rect()), self._theme.colours, words)
            if self._image is not None:
                self._paint(painter, self._image)

    def _paint(self, painter: QPainter, image: QImage) -> None:
        painter.drawImage(fitted(QRectF(self.rect()), image.width() / image.height()), image)
