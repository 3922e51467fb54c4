"""The one door between threads: what workers tell is delivered on Qt's thread, in the order of the changes."""

from __future__ import annotations

from collections.abc import Callable

from PyQt6.QtCore import QObject, Qt, pyqtSignal


class Bridge(QObject):
    """Posts values from any thread to one receiver on the thread that made it."""

    _posted = pyqtSignal(object)

    def __init__(self, receiver: Callable[[object], None]) -> None:
        super().__init__()
        # Queued even on Qt's own thread: a change made there must not overtake one posted before.
        self._posted.connect(receiver, Qt.ConnectionType.QueuedConnection)  # type: ignore[call-arg]  # missing in the stubs

    def post(self, value: object) -> None:
        """May be called from any thread."""
        self._posted.emit(value)
