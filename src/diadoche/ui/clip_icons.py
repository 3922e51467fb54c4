"""First pictures of clips as icons of table cells, a mark of their state on them where they have one."""

from __future__ import annotations

from collections import OrderedDict
from collections.abc import Callable
from pathlib import Path

from PyQt6.QtCore import QPointF, QRectF, QSize, Qt
from PyQt6.QtGui import QColor, QIcon, QImage, QPainter, QPixmap

from diadoche.screens.marks import Mark
from diadoche.services.side_processes.first_pictures import FirstPictures
from diadoche.ui.bridge import Bridge
from diadoche.ui.marks import MARK_PX, paint_mark
from diadoche.ui.picture_stage import fitted
from diadoche.ui.theme import Theme

# A picture at the usual text size, and how many are kept as they are painted.
_PICTURE_PX, _MOST_ICONS = (40, 23), 500
# What a mark takes before a picture.
_BESIDE_PX = MARK_PX + 6


class ClipIcons:
    """Icons for all tables of clips of a window; their pictures come when they have been decoded."""

    def __init__(self, theme: Theme) -> None:
        self._theme = theme
        self._bridge = Bridge(self._came)
        self._pictures = FirstPictures(self._bridge.post)
        self._icons: OrderedDict[tuple[object, ...], QIcon] = OrderedDict()
        # Each is told the file of which there is a picture now.
        self.listeners: list[Callable[[Path], None]] = []

    @property
    def awaited(self) -> bool:
        """Whether pictures are still to come."""
        return self._pictures.busy

    def close(self) -> None:
        """Ends the decoding; called once, at the end."""
        self._pictures.close()

    def size_px(self, *, marks_beside: bool = False) -> QSize:
        """The room of an icon: names stand below each other whether there is a picture or not."""
        (wide, high), scale = _PICTURE_PX, max(1.0, self._theme.scale)
        return QSize(round(wide * scale) + (_BESIDE_PX if marks_beside else 0), round(high * scale))

    def icon(self, path: Path | None, mark: Mark | None, *, marks_beside: bool = False) -> QIcon:
        """The first picture of a file, as soon as there is one, and a mark: on its corner, or before it.

        Args:
            path: the file; None leaves the room of a picture empty.
            mark: the state of what it stands for.
            marks_beside: where all have one, it would hide pictures.
        """
        jpeg = self._pictures.of(path) if path is not None else b""
        key = (path if jpeg else None, mark, marks_beside, self._theme.colours.dark, self._theme.scale)
        if key not in self._icons:
            self._icons[key] = self._painted(jpeg, mark, _BESIDE_PX if marks_beside else 0)
            while len(self._icons) > _MOST_ICONS:
                self._icons.popitem(last=False)
        self._icons.move_to_end(key)
        return self._icons[key]

    def _painted(self, jpeg: bytes, mark: Mark | None, beside_px: int) -> QIcon:
        image, size = QImage.fromData(jpeg), self.size_px()
        room = QRectF(QPointF(beside_px, 0), size.toSizeF())
        whole = QPixmap(2 * QSize(size.width() + beside_px, size.height()))
        # For screens with twice as many pixels.
        whole.setDevicePixelRatio(2)
        whole.fill(Qt.GlobalColor.transparent)
        with QPainter(whole) as painter:
            if not image.isNull():
                painter.setRenderHint(QPainter.RenderHint.SmoothPixmapTransform)
                painter.drawImage(fitted(room, image.width() / image.height()), image)
            if mark is not None and beside_px:
                above = (size.height() - MARK_PX) / 2
                paint_mark(painter, QRectF(1, above + 1, MARK_PX - 2, MARK_PX - 2), mark, self._theme.colours)
            elif mark is not None:
                # On a ground of its own: pictures have any colour.
                plate = QRectF(0, 0, MARK_PX + 2, MARK_PX + 2)
                painter.fillRect(plate, QColor(self._theme.colours.panel))
                paint_mark(painter, plate.adjusted(2, 2, -2, -2), mark, self._theme.colours)
        icon = QIcon(whole)
        # Not tinted in a selected row.
        icon.addPixmap(whole, QIcon.Mode.Selected)
        return icon

    def _came(self, path: object) -> None:
        assert isinstance(path, Path)
        for listener in list(self.listeners):
            listener(path)
