"""The shoot at the foot of the rail: which one it is, another one, a new one, and what it wants of a card."""

from __future__ import annotations

from PyQt6.QtCore import QSize, Qt
from PyQt6.QtGui import QResizeEvent
from PyQt6.QtWidgets import QInputDialog, QLineEdit, QMenu, QMessageBox, QPushButton

from diadoche.core.sizes import count_text
from diadoche.screens.shoots import Shoots
from diadoche.ui.asks import Asks
from diadoche.ui.plain_text import plain

_SHOWN_SHOOTS = 12
_AROUND_PX, _ROWS = 12, 4
_MOST_DISKS = 4


class ShootButton(QPushButton):
    """Shows the shoot's name; its menu changes it."""

    def __init__(self, shoots: Shoots, asks: Asks) -> None:
        super().__init__()
        self.setObjectName("foot")
        self._shoots = shoots
        self._asks = asks
        self._menu = QMenu(self)
        self._menu.aboutToShow.connect(self._fill)
        self.clicked.connect(lambda _on=False: self._menu.popup(self.mapToGlobal(self.rect().topLeft())))

    def show_name(self) -> None:
        """The name of the shoot, in as many rows as it needs."""
        name = self._shoots.name
        self.setText("\n".join(self._rows(f"{name} \u25b4")))
        self.setToolTip(plain(f"Shoot: {name}. Another one, a new one, and on how many disks a card is kept"))
        self.setAccessibleName(f"Shoot: {name}")

    def _rows(self, words: str) -> list[str]:
        """Words as they fit beside the views; of a very long name the end is left to the tooltip."""
        metrics, room = self.fontMetrics(), self.width() - _AROUND_PX
        rows: list[str] = []
        for word in words.split(" "):
            longer = f"{rows[-1]} {word}" if rows else word
            if rows and metrics.horizontalAdvance(longer) <= room:
                rows[-1] = longer
            else:
                rows.append(word)
        if len(rows) > _ROWS:
            rows = [*rows[: _ROWS - 1], " ".join(rows[_ROWS - 1 :])]
        return [metrics.elidedText(row, Qt.TextElideMode.ElideRight, room) for row in rows]

    def resizeEvent(self, event: QResizeEvent | None) -> None:  # Qt's name
        super().resizeEvent(event)
        self.show_name()

    def minimumSizeHint(self) -> QSize:  # Qt's name
        """As narrow as the rail is: the name goes into rows."""
        return QSize(0, super().minimumSizeHint().height())

    def _fill(self) -> None:
        menu = self._menu
        menu.clear()
        for shoot in self._shoots.all()[:_SHOWN_SHOOTS]:
            action = menu.addAction(shoot.name)
            assert action is not None
            action.setCheckable(True)
            action.setChecked(shoot.name == self._shoots.name)
            action.triggered.connect(lambda _on=False, name=shoot.name: self._go_to(name))
        menu.addSeparator()
        doings = [("New shoot, with the settings of this one…", self._new), ("Rename this shoot…", self._rename)]
        for title, doing in doings:
            action = menu.addAction(title)
            assert action is not None
            action.triggered.connect(lambda _on=False, doing=doing: doing())
        wanted = menu.addMenu("A card is kept on")
        assert wanted is not None
        for count in range(1, _MOST_DISKS + 1):
            action = wanted.addAction(f"{count_text(count, 'disk')}, before its camera may format it")
            assert action is not None
            action.setCheckable(True)
            action.setChecked(count == self._shoots.copies_wanted)
            action.triggered.connect(lambda _on=False, count=count: self._shoots.want_copies(count))
        if self._asks.quiet is not None:
            action = menu.addAction("Keep the desktop from opening windows on cards")
            assert action is not None
            action.setCheckable(True)
            action.setChecked(self._asks.is_quiet())
            action.triggered.connect(self._asks.quiet)

    def _go_to(self, name: str) -> None:
        self._say(self._shoots.go_to(name))

    def _say(self, why_not: str) -> None:
        if why_not:
            QMessageBox.information(self, "Diadoche", why_not)

    def _new(self) -> None:
        name, sure = QInputDialog.getText(self, "New shoot", "Its name")
        if sure:
            self._go_to(name)

    def _rename(self) -> None:
        before = self._shoots.name
        name, sure = QInputDialog.getText(
            self, "Rename this shoot", "Folders that stand keep their name", QLineEdit.EchoMode.Normal, before
        )
        if sure:
            self._say(self._shoots.change_name(name))
