"""Small pieces that several views are built of."""

from __future__ import annotations

from collections.abc import Callable

from PyQt6.QtCore import QPointF, QRect, QRectF, QSize, Qt
from PyQt6.QtGui import (
    QColor,
    QFont,
    QKeyEvent,
    QKeySequence,
    QPainter,
    QPaintEvent,
    QPalette,
    QPen,
    QPolygonF,
    QResizeEvent,
    QScreen,
    QShortcut,
)
from PyQt6.QtWidgets import (
    QAbstractButton,
    QCheckBox,
    QComboBox,
    QFrame,
    QLabel,
    QLayout,
    QLineEdit,
    QMenu,
    QPushButton,
    QScrollArea,
    QSizePolicy,
    QWidget,
)

from diadoche.ui.marks import hatch
from diadoche.ui.plain_text import plain
from diadoche.ui.theme import Theme

_TICK_PX, _TITLE_BAR_PX = 16, 40


def label(text: str = "", name: str = "", *, wrap: bool = False) -> QLabel:
    """A text; its object name chooses its look."""
    made = QLabel(text)
    made.setObjectName(name)
    made.setWordWrap(wrap)
    made.setTextFormat(Qt.TextFormat.PlainText)
    return made


def take_look(part: QWidget, look: str) -> None:
    """Gives a part that may be on show already the look of another object name."""
    if part.objectName() == look:
        return
    part.setObjectName(look)
    # A part that was put into another one keeps, as its own, the font that its old look gave it.
    part.setFont(QFont())
    part.setStyleSheet("/* look again */")
    part.setStyleSheet("")


def selectable(*parts: QLabel) -> None:
    """Words and paths that a person may want elsewhere: marked by the mouse, and copied."""
    for part in parts:
        part.setTextInteractionFlags(Qt.TextInteractionFlag.TextSelectableByMouse)


class ElidedLabel(QLabel):
    """A text that is cut with dots where there is no room, and whole in its tooltip; it never widens the window."""

    def __init__(self) -> None:
        super().__init__()
        self.setTextFormat(Qt.TextFormat.PlainText)
        self.setSizePolicy(QSizePolicy.Policy.Ignored, QSizePolicy.Policy.Preferred)

    def minimumSizeHint(self) -> QSize:  # Qt's name
        return QSize(self.fontMetrics().horizontalAdvance("Words…"), super().minimumSizeHint().height())

    def paintEvent(self, event: QPaintEvent | None) -> None:  # Qt's name
        with QPainter(self) as painter:
            text = self.fontMetrics().elidedText(self.text(), Qt.TextElideMode.ElideRight, self.width())
            self.setToolTip(plain(self.text() if text != self.text() else ""))
            painter.setPen(self.palette().windowText().color())
            painter.drawText(self.rect(), self.alignment(), text)


class PushButton(QPushButton):
    """A button that Return presses as well as Space."""

    def __init__(self, text: str) -> None:
        super().__init__(text)
        self.setAutoDefault(False)

    def keyPressEvent(self, event: QKeyEvent | None) -> None:  # Qt's name
        assert event is not None
        if event.key() in {Qt.Key.Key_Return, Qt.Key.Key_Enter} and not event.isAutoRepeat():
            self.click()
            return
        super().keyPressEvent(event)

    def paintEvent(self, event: QPaintEvent | None) -> None:  # Qt's name
        super().paintEvent(event)
        if self.hasFocus() and self.objectName() == "main":
            # Its ground is as dark as its edge: a ring inside is seen on it.
            with QPainter(self) as painter:
                painter.setPen(QPen(self.palette().color(QPalette.ColorRole.ButtonText), 2))
                painter.drawRect(self.rect().adjusted(5, 5, -5, -5))


def button(text: str, pressed: Callable[[], object], *, name: str = "", tip: str = "") -> QPushButton:
    """A button that makes one call."""
    made = PushButton(text)
    made.setObjectName(name)
    made.setToolTip(plain(tip))
    made.clicked.connect(lambda _checked=False: pressed())
    return made


def show_chosen(part: QAbstractButton, chosen: bool) -> None:
    """Shows whether something is chosen, without telling those who wait for a person to choose.

    Those wait for `toggled`: assistive technology toggles what can be checked, and does not click it.
    """
    blocked = part.blockSignals(True)
    part.setChecked(chosen)
    part.blockSignals(blocked)


def tab_button(text: str, shown: Callable[[], object]) -> QPushButton:
    """One of several names of pages; `shown` shows its page, and marks the names with `show_chosen`."""
    made = PushButton(text)
    made.setObjectName("tab")
    made.setCheckable(True)
    made.toggled.connect(lambda _on: shown())
    return made


def panel() -> QFrame:
    """A sheet that things lie on."""
    made = QFrame()
    made.setObjectName("panel")
    return made


def scrolled(inside: QWidget, name: str = "") -> QScrollArea:
    """What may be higher than its room, and is as wide as that.

    By its name it is told and takes the focus, so that keys scroll it; without one, what is inside takes it.
    """
    made = QScrollArea()
    made.setWidget(inside)
    made.setWidgetResizable(True)
    made.setFrameShape(QFrame.Shape.NoFrame)
    made.setHorizontalScrollBarPolicy(Qt.ScrollBarPolicy.ScrollBarAlwaysOff)
    made.setAccessibleName(name)
    if name:
        made.setObjectName("scrolled")
    else:
        made.setFocusPolicy(Qt.FocusPolicy.NoFocus)
    return made


def emptied(layout: QLayout) -> None:
    """Takes everything out of a layout, at once for the eye."""
    while (item := layout.takeAt(0)) is not None:
        if (widget := item.widget()) is not None:
            widget.hide()
            widget.deleteLater()


def with_arrow(text: str) -> str:
    """A text that says: more opens below."""
    return f"{text} \u25be"


def menu_button(text: str, *, name: str = "", tip: str = "") -> tuple[QPushButton, QMenu]:
    """A button that opens a menu; an arrow of our own stands for it in the text."""
    made = PushButton(with_arrow(text))
    made.setObjectName(name)
    made.setToolTip(plain(tip))
    menu = QMenu(made)
    # Not setMenu: the style would draw an arrow of its own beside ours.
    # Nor `exec`: who asked over the accessibility bus would wait for an answer until the menu is closed.
    made.clicked.connect(lambda _checked=False: menu.popup(made.mapToGlobal(made.rect().topLeft())))
    return made, menu


class ChoiceBox(QComboBox):
    """A choice, with an arrow of our own."""

    def __init__(self, theme: Theme) -> None:
        super().__init__()
        self._theme = theme

    def paintEvent(self, event: QPaintEvent | None) -> None:  # Qt's name
        super().paintEvent(event)
        with QPainter(self) as painter:
            painter.setRenderHint(QPainter.RenderHint.Antialiasing)
            painter.setPen(QPen(QColor(self._theme.colours.ink), 1.8))
            x, y = self.width() - 17.0, self.height() / 2 - 2
            painter.drawPolyline(QPolygonF([QPointF(x - 5, y), QPointF(x, y + 5), QPointF(x + 5, y)]))


# Beside the box, in several lines where there is little room.
_WORDS_OF_A_TICK = int(Qt.AlignmentFlag.AlignVCenter | Qt.AlignmentFlag.AlignLeft) | int(Qt.TextFlag.TextWordWrap)


class TickBox(QCheckBox):
    """Yes or no, with a box of our own that can be told apart in both schemes."""

    def __init__(self, theme: Theme, text: str = "") -> None:
        super().__init__(text)
        self._theme = theme

    @property
    def _side_px(self) -> int:
        return round(_TICK_PX * max(1.0, self._theme.scale))

    def sizeHint(self) -> QSize:  # Qt's name
        words = self.fontMetrics().horizontalAdvance(self.text())
        return QSize(self._side_px + (12 + words if words else 4), max(self._side_px + 6, self.fontMetrics().height()))

    def resizeEvent(self, event: QResizeEvent | None) -> None:  # Qt's name
        super().resizeEvent(event)
        # A tick box has one line for Qt; what stands in several would be cut.
        self.setMinimumHeight(self.heightForWidth(self.width()))

    def minimumSizeHint(self) -> QSize:  # Qt's name
        widest = max((self.fontMetrics().horizontalAdvance(word) for word in self.text().split()), default=0)
        return QSize(self._side_px + (10 + widest if widest else 4), self.fontMetrics().height())

    def heightForWidth(self, width: int) -> int:  # Qt's name
        room = QRect(0, 0, max(1, width - self._side_px - 8), 10_000)
        return max(self._side_px + 4, self.fontMetrics().boundingRect(room, _WORDS_OF_A_TICK, self.text()).height())

    def paintEvent(self, event: QPaintEvent | None) -> None:  # Qt's name
        with QPainter(self) as painter:
            painter.setRenderHint(QPainter.RenderHint.Antialiasing)
            c = self._theme.colours
            painter.setPen(QColor(c.ink if self.isEnabled() else c.soft))
            words = QRectF(self.rect()).adjusted(self._side_px + 8, 0, 0, 0)
            painter.drawText(words, _WORDS_OF_A_TICK, self.text())
            side = self._side_px
            box = QRectF(3.5, (self.height() - side) / 2 + 0.5, side - 1, side - 1)
            if self.hasFocus():
                painter.setPen(QPen(QColor(c.way), 2))
                painter.drawRect(QRectF(self.rect()).adjusted(1, 1, -1, -1))
            painter.setPen(QPen(QColor(c.ink), 1.2))
            painter.setBrush(QColor(c.panel))
            painter.drawRect(box)
            if self.isChecked():
                painter.setPen(QPen(QColor(c.ink), 2.2))
                left, middle, right = box.left() + 3, box.left() + 6, box.right() - 3
                tick = [
                    QPointF(left, box.center().y()),
                    QPointF(middle, box.bottom() - 4),
                    QPointF(right, box.top() + 4),
                ]
                painter.drawPolyline(QPolygonF(tick))


class ShareBar(QWidget):
    """How full a disk is, and how full it will be: used solid, coming hatched."""

    def __init__(self, theme: Theme) -> None:
        super().__init__()
        self._theme = theme
        self._used = self._coming = 0.0
        self.setFixedHeight(14)

    def show_shares(self, used: float, coming: float) -> None:
        """Shares of the whole disk, 0 to 1."""
        self._used, self._coming = used, coming
        self.setAccessibleName(f"{round(used * 100)} % in use, {round(coming * 100)} % more to come")
        self.setToolTip(plain(self.accessibleName()))
        self.update()

    def paintEvent(self, event: QPaintEvent | None) -> None:  # Qt's name
        with QPainter(self) as painter:
            c = self._theme.colours
            box = QRectF(self.rect()).adjusted(0.5, 0.5, -0.5, -0.5)
            painter.fillRect(box, QColor(c.paper))
            used = QRectF(box.left(), box.top(), box.width() * min(1, self._used), box.height())
            painter.fillRect(used, QColor(c.used))
            if self._coming > 0:
                wide = max(3.0, box.width() * min(1 - self._used, self._coming))
                painter.fillRect(QRectF(used.right(), box.top(), wide, box.height()), hatch(c))
            painter.setPen(QPen(QColor(c.line), 1))
            painter.drawRect(box)


def within_screen(screen: QScreen | None, wanted: tuple[int, int]) -> tuple[int, int]:
    """The wanted size, or what the desktop leaves of it under a title bar."""
    if screen is None:
        return wanted
    room = screen.availableSize()
    if room.width() == screen.size().width() and room.height() == screen.size().height():
        # Nothing is kept for a panel: most likely there is no title bar either.
        return min(wanted[0], room.width()), min(wanted[1], room.height())
    return min(wanted[0], room.width()), min(wanted[1], room.height() - _TITLE_BAR_PX)


def leaves_by_escape(field: QLineEdit, leave: Callable[[], object]) -> None:
    """Escape leaves a field for what it is about."""
    shortcut = QShortcut(QKeySequence(Qt.Key.Key_Escape), field, leave)
    shortcut.setContext(Qt.ShortcutContext.WidgetShortcut)
