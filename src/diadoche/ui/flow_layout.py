"""Controls beside each other, in as many lines as the width asks for."""

from __future__ import annotations

from PyQt6.QtCore import QPoint, QRect, QSize, Qt
from PyQt6.QtWidgets import QLayout, QLayoutItem, QWidget


class FlowLayout(QLayout):
    """Lines of controls, each of the size that it asks for.

    Lines stand at the left; at the right with `right`; with `spread` the last control of a line stands at the right.
    """

    def __init__(self, spacing: int = 8, *, right: bool = False, spread: bool = False) -> None:
        super().__init__()
        self._spread = spread
        self._items: list[QLayoutItem] = []
        self._right = right
        self.setSpacing(spacing)
        self.setContentsMargins(0, 0, 0, 0)

    def addItem(self, item: QLayoutItem | None) -> None:  # Qt's name
        if item is not None:
            self._items.append(item)

    def count(self) -> int:
        return len(self._items)

    def itemAt(self, index: int) -> QLayoutItem | None:  # Qt's name
        return self._items[index] if 0 <= index < len(self._items) else None

    def takeAt(self, index: int) -> QLayoutItem | None:  # Qt's name
        return self._items.pop(index) if 0 <= index < len(self._items) else None

    def expandingDirections(self) -> Qt.Orientation:  # Qt's name
        return Qt.Orientation(0)

    def hasHeightForWidth(self) -> bool:  # Qt's name
        return True

    def heightForWidth(self, width: int) -> int:  # Qt's name
        edges = self.contentsMargins()
        inside = QRect(0, 0, width - edges.left() - edges.right(), 0)
        return self._lay_out(inside, move=False) + edges.top() + edges.bottom()

    def setGeometry(self, rect: QRect) -> None:  # Qt's name
        super().setGeometry(rect)
        inside = rect.marginsRemoved(self.contentsMargins())
        # In the middle of what there is.
        spare = max(0, inside.height() - self._lay_out(inside, move=False))
        self._lay_out(inside.adjusted(0, spare // 2, 0, 0), move=True)

    def sizeHint(self) -> QSize:  # Qt's name
        """All in one line."""
        sizes = [item.sizeHint() for item in self._shown()]
        wide = sum(size.width() for size in sizes) + self.spacing() * max(0, len(sizes) - 1)
        return self._with_margins(QSize(wide, max((size.height() for size in sizes), default=0)))

    def minimumSize(self) -> QSize:  # Qt's name
        """Each in a line of its own."""
        sizes = [item.minimumSize() for item in self._shown()]
        wide = max((size.width() for size in sizes), default=0)
        high = max((size.height() for size in sizes), default=0)
        return self._with_margins(QSize(wide, high))

    def _with_margins(self, size: QSize) -> QSize:
        return size.grownBy(self.contentsMargins())

    def _shown(self) -> list[QLayoutItem]:
        return [item for item in self._items if not item.isEmpty()]

    def _lay_out(self, rect: QRect, *, move: bool) -> int:
        """Puts the items in lines; the height of all of them."""
        lines: list[list[QLayoutItem]] = [[]]
        used = 0
        for item in self._shown():
            wide = item.sizeHint().width()
            if lines[-1] and used + self.spacing() + wide > rect.width():
                lines.append([])
                used = 0
            used += wide + (self.spacing() if lines[-1] else 0)
            lines[-1].append(item)
        top = rect.top()
        for line in lines:
            high = max((item.sizeHint().height() for item in line), default=0)
            if move:
                self._place(line, QRect(rect.left(), top, rect.width(), high))
            top += high + self.spacing()
        return top - self.spacing() - rect.top()

    def _place(self, line: list[QLayoutItem], room: QRect) -> None:
        sizes = [item.sizeHint() for item in line]
        used = sum(size.width() for size in sizes) + self.spacing() * (len(line) - 1)
        free = max(0, room.width() - used)
        left = room.left() + (free if self._right else 0)
        for item, size in zip(line, sizes, strict=True):
            if self._spread and len(line) > 1 and item is line[-1]:
                left += free
            size = QSize(min(size.width(), room.width()), size.height())
            item.setGeometry(QRect(QPoint(left, room.top() + (room.height() - size.height()) // 2), size))
            left += size.width() + self.spacing()


def flowing(*parts: QWidget, right: bool = False, spread: bool = False) -> QWidget:
    """Controls in lines, as a widget; see `FlowLayout`."""
    made = QWidget()
    layout = FlowLayout(right=right, spread=spread)
    for part in parts:
        layout.addWidget(part)
    made.setLayout(layout)
    policy = made.sizePolicy()
    policy.setHeightForWidth(True)
    made.setSizePolicy(policy)
    return made
