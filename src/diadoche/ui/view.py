"""What every view of the window is."""

from __future__ import annotations

from PyQt6.QtWidgets import QWidget


class View(QWidget):
    """One view; the window shows one at a time."""

    def first_focus(self) -> QWidget | None:
        """Where work begins here; None where nothing can be done yet. Never what takes something away."""
        return None

    def shown(self) -> None:
        """It is shown from now on."""
