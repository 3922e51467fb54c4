"""What every view of the window is."""

from __future__ import annotations

from collections.abc import Callable

from PyQt6.QtWidgets import QWidget


class View(QWidget):
    """One view; the window shows one at a time."""

    def __init__(self, title: str, summary: Callable[[], str]) -> None:
        """
        Args:
            title: what the rail calls it.
            summary: the words under that.
        """
        super().__init__()
        self.title = title
        self.summary = summary

    def first_focus(self) -> QWidget | None:
        """Where work begins here; None where nothing can be done yet. Never what takes something away."""
        return None

    def shown(self) -> None:
        """It is shown from now on."""

    def follow(self) -> None:
        """It is on show while something runs: the newest progress, ten times a second."""

    def look_again(self) -> None:
        """Colours or sizes of text changed."""
