"""The tray icon: the watch line's shape and words, for when the window is out of sight."""

from __future__ import annotations

import math
import time
from collections.abc import Callable
from typing import TYPE_CHECKING

from PyQt6.QtWidgets import QMenu, QSystemTrayIcon, QWidget

from diadoche.ui.marks import mark_icon
from diadoche.ui.plain_text import plain
from diadoche.ui.theme import Theme

if TYPE_CHECKING:
    from diadoche.screens.watch_line import WatchLine

_SIZE_PX = 32
_ASKED_EVERY_S = 60.0


class Tray:
    """Shown only where the desktop has a tray."""

    def __init__(self, theme: Theme, window: QWidget, *, show: Callable[[], None], leave: Callable[[], None]) -> None:
        self._theme = theme
        self._shown: tuple[object, ...] = ()
        self._asked_s, self._works = -math.inf, False
        self.icon = QSystemTrayIcon(window)
        self.menu = QMenu(window)
        line = self.menu.addAction("")
        assert line is not None
        self.line = line
        self.line.setEnabled(False)
        self.menu.addSeparator()
        for title, doing in (("Open the window", show), ("Quit", leave)):
            action = self.menu.addAction(title)
            assert action is not None
            action.triggered.connect(lambda _on=False, doing=doing: doing())
        self.icon.setContextMenu(self.menu)
        self.icon.activated.connect(
            lambda reason: show() if reason is QSystemTrayIcon.ActivationReason.Trigger else None
        )

    @property
    def works(self) -> bool:
        """Whether this desktop has a tray; asked now and then, for it asks another program, which may be slow."""
        if time.monotonic() > self._asked_s + _ASKED_EVERY_S:
            self._asked_s, self._works = time.monotonic(), QSystemTrayIcon.isSystemTrayAvailable()
        return self._works

    def show_line(self, line: WatchLine) -> None:
        """The same words and the same shape as the watch line."""
        now = (line.mark, line.first, line.second, self._theme.colours)
        if now == self._shown:
            return
        self._shown = now
        words = f"{line.first} {line.second}".strip()
        self.line.setText(words)
        self.icon.setToolTip(plain(words))
        self.icon.setIcon(mark_icon(line.mark, self._theme.colours, _SIZE_PX))
        if self.works and not self.icon.isVisible():
            self.icon.show()

    def notice(self, title: str, text: str) -> None:
        """A notice, where the desktop has no service of its own for them."""
        if self.works:
            self.icon.showMessage(title, text)
