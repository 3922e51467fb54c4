"""Starts a window from nothing, and prints after how many seconds it was painted the first time.

usage: python -m benchmarks.start_to_paint BEGAN bare
       python -m benchmarks.start_to_paint BEGAN FOLDER

BEGAN is the monotonic clock's time before this process was started; FOLDER keeps the application's state.
"""

from __future__ import annotations

import os
import sys
import time
from pathlib import Path

from PyQt6.QtCore import QEvent, QObject
from PyQt6.QtWidgets import QApplication, QLabel, QMainWindow


class _FirstPaint(QObject):
    """Ends the process as soon as a window of it was painted."""

    def __init__(self, began_s: float) -> None:
        super().__init__()
        self._began_s = began_s

    def eventFilter(self, watched: QObject | None, event: QEvent | None) -> bool:  # Qt's name
        if isinstance(watched, QMainWindow) and event is not None and event.type() is QEvent.Type.Paint:
            print(time.monotonic() - self._began_s, flush=True)
            os._exit(0)
        return False


def main(began_s: float, what: str) -> None:
    """Opens a bare window, or the application's."""
    app = QApplication([])
    seen = _FirstPaint(began_s)
    app.installEventFilter(seen)
    if what == "bare":
        window = QMainWindow()
        window.setCentralWidget(QLabel("A window"))
        window.show()
        app.exec()
        return
    os.environ |= {f"XDG_{name}_HOME": str(Path(what) / name.lower()) for name in ("STATE", "CONFIG", "CACHE")}
    sys.argv = ["diadoche"]
    from diadoche.main import main as start

    start()


if __name__ == "__main__":
    main(float(sys.argv[1]), sys.argv[2])
