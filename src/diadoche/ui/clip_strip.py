"""The clips of a card side by side: first picture, name and length; as many as there is room for, and how many more."""

from __future__ import annotations

from PyQt6.QtCore import QRectF, QSize, Qt
from PyQt6.QtGui import QColor, QImage, QPainter, QPaintEvent, QPen, QResizeEvent
from PyQt6.QtWidgets import QLabel, QSizePolicy, QWidget

from diadoche.core.sizes import count_text
from diadoche.screens.glance import GlanceClip
from diadoche.ui.plain_text import plain
from diadoche.ui.theme import Theme

_WIDE_PX, _HIGH_PX, _GAP_PX = 104, 59, 10


class ClipStrip(QWidget):
    """Drawn by hand; over each clip lies a part that says what it is, in its tooltip and to screen readers."""

    def __init__(self, theme: Theme) -> None:
        super().__init__()
        self._theme = theme
        self._clips: tuple[GlanceClip, ...] = ()
        self._images: dict[str, QImage] = {}
        self._told: list[QLabel] = []
        self.setSizePolicy(QSizePolicy.Policy.Ignored, QSizePolicy.Policy.Fixed)

    def sizeHint(self) -> QSize:  # Qt's name
        return QSize(_WIDE_PX, _HIGH_PX + self._theme.px(1.5))

    def show_clips(self, clips: tuple[GlanceClip, ...]) -> None:
        """Shows other clips, or their pictures as they come."""
        if clips == self._clips:
            return
        self._clips = clips
        self._images = {clip.name: QImage.fromData(clip.picture) for clip in clips if clip.picture}
        self.setVisible(bool(clips))
        self.setAccessibleName(count_text(len(clips), "clip"))
        self._tell()
        self.update()

    def resizeEvent(self, event: QResizeEvent | None) -> None:  # Qt's name
        super().resizeEvent(event)
        self._tell()

    def _tell(self) -> None:
        shown = self._clips[: self._room()]
        while len(self._told) > len(shown):
            self._told.pop().deleteLater()
        while len(self._told) < len(shown):
            self._told.append(QLabel(self))
        for number, (part, clip) in enumerate(zip(self._told, shown, strict=True)):
            words = f"{clip.name}, {clip.length or 'length not known'}, {clip.began}"
            part.setGeometry(self._box(number).toRect().adjusted(0, 0, 0, self._theme.px(1.5)))
            part.setToolTip(plain(words))
            part.setAccessibleName(words)
            part.show()

    def _room(self) -> int:
        fits = max(1, (self.width() + _GAP_PX) // (_WIDE_PX + _GAP_PX))
        # The last place says how many more there are.
        return fits if len(self._clips) <= fits else fits - 1

    def _box(self, number: int) -> QRectF:
        return QRectF(number * (_WIDE_PX + _GAP_PX), 0, _WIDE_PX, _HIGH_PX)

    def paintEvent(self, event: QPaintEvent | None) -> None:  # Qt's name
        with QPainter(self) as painter:
            painter.setRenderHint(QPainter.RenderHint.SmoothPixmapTransform)
            painter.setFont(self._theme.font(0.88))
            room = self._room()
            for number, clip in enumerate(self._clips[:room]):
                self._paint(painter, self._box(number), clip)
            if len(self._clips) > room:
                painter.setPen(QColor(self._theme.colours.soft))
                painter.drawText(self._box(room), Qt.AlignmentFlag.AlignCenter, f"{len(self._clips) - room:,} more")

    def _paint(self, painter: QPainter, box: QRectF, clip: GlanceClip) -> None:
        c = self._theme.colours
        painter.fillRect(box, QColor(c.rail))
        image = self._images.get(clip.name)
        if image is not None and not image.isNull():
            painter.fillRect(box, QColor(c.picture_ground))
            size = image.size().scaled(box.size().toSize(), Qt.AspectRatioMode.KeepAspectRatio)
            where = QRectF(0, 0, size.width(), size.height())
            where.moveCenter(box.center())
            painter.drawImage(where, image)
        else:
            painter.setPen(QPen(QColor(c.line), 1))
            painter.drawRect(box.adjusted(0.5, 0.5, -0.5, -0.5))
        metrics = painter.fontMetrics()
        length = f"  {clip.length}" if clip.length else ""
        name = metrics.elidedText(clip.name, Qt.TextElideMode.ElideMiddle, _WIDE_PX - metrics.horizontalAdvance(length))
        line = QRectF(box.left(), box.bottom() + 1, box.width(), self._theme.px(1.4))
        painter.setPen(QColor(c.ink))
        painter.drawText(line, Qt.AlignmentFlag.AlignLeft | Qt.AlignmentFlag.AlignVCenter, name)
        painter.setPen(QColor(c.soft))
        painter.drawText(line, Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignVCenter, clip.length)
