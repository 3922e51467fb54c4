"""What concerns the window as a whole, for the mouse: help, taking back, how it looks, and the end."""

from __future__ import annotations

from collections.abc import Callable

from PyQt6.QtWidgets import QMenu, QPushButton

from diadoche.ui.actions import Groups, fill


class WindowMenuButton(QPushButton):
    """At the foot of the rail; everything in its menu has a key too."""

    def __init__(self, groups: Callable[[], Groups]) -> None:
        """
        Args:
            groups: what the menu offers, asked for whenever it opens.
        """
        super().__init__("Menu \u25b4")
        self.setObjectName("foot")
        self.setToolTip("Help, take back, size of text, light or dark, and quit")
        self.setAccessibleName("Menu: help, take back, text, light or dark, quit")
        self._groups = groups
        self._menu = QMenu(self)
        self.clicked.connect(self._open)

    def _open(self) -> None:
        self._menu.clear()
        fill(self._menu, self._groups())
        self._menu.popup(self.mapToGlobal(self.rect().topLeft()))
