"""The watch line, large enough to be read from across a room."""

from __future__ import annotations

import time
from typing import TYPE_CHECKING

from PyQt6.QtCore import Qt
from PyQt6.QtWidgets import QFrame, QHBoxLayout, QSizePolicy, QVBoxLayout

from diadoche.screens.marks import Mark
from diadoche.ui.marks import MarkWidget
from diadoche.ui.parts import ElidedLabel, label
from diadoche.ui.theme import Theme

if TYPE_CHECKING:
    from diadoche.screens.watch_line import WatchLine

_SAID_S = 6.0
# Its largest text grows less than the rest.
_HEIGHT_PX, _MOST_SCALE = 72, 1.4


class WatchLineView(QFrame):
    """Shape, sentence, and what is at work."""

    def __init__(self, theme: Theme) -> None:
        super().__init__()
        self.setObjectName("watchLine")
        self._theme = theme
        self._said, self._said_until_s = "", 0.0
        self.fit()
        self._mark = MarkWidget(theme, 30)
        self.first, self.second = ElidedLabel(), ElidedLabel()
        self.first.setObjectName("watchFirst")
        # All of it, as long as there is room at all.
        self.first.setSizePolicy(QSizePolicy.Policy.Preferred, QSizePolicy.Policy.Preferred)
        self.second.setObjectName("watchSecond")
        self._aside, self._small = label(name="watchAside"), label(name="small")
        row = QHBoxLayout(self)
        row.setContentsMargins(22, 0, 24, 0)
        row.setSpacing(14)
        row.addWidget(self._mark)
        row.addWidget(self.first)
        row.addWidget(self.second, 1)
        right = QVBoxLayout()
        right.setSpacing(0)
        right.addStretch(1)
        for part in (self._aside, self._small):
            part.setAlignment(Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignVCenter)
            right.addWidget(part)
        right.addStretch(1)
        row.addLayout(right)

    def fit(self) -> None:
        """Takes the height that the text size needs."""
        self.setFixedHeight(round(_HEIGHT_PX * min(_MOST_SCALE, max(1.0, self._theme.scale))))

    def say(self, words: str) -> None:
        """Says something beside the sentence, for as long as it takes to read."""
        self._said, self._said_until_s = words, time.monotonic() + _SAID_S
        self.second.setText(words)

    def show_opening(self) -> None:
        """Before anything is known of cards."""
        self._mark.show_mark(Mark.EXPECTED)
        self.first.setText("Opening the shoot…")
        self.setAccessibleName(self.first.text())

    def show_line(self, line: WatchLine) -> None:
        """Shows what is true now."""
        self._mark.show_mark(line.mark)
        second = self._said if time.monotonic() < self._said_until_s else line.second
        for part, text in (
            (self.first, line.first),
            (self.second, second),
            (self._aside, line.aside),
            (self._small, line.aside_small),
        ):
            if part.text() != text:
                part.setText(text)
        self.setAccessibleName(f"{line.first} {line.second}")
