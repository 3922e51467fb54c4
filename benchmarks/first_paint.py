"""Opens the window on a folder's ledger in a process of its own, and prints after how many seconds it was painted."""

from __future__ import annotations

import os
import sys
import time
from pathlib import Path

from PyQt6.QtWidgets import QApplication

from diadoche.demo.opening import demo_places
from diadoche.ui.application import Application, Opening
from diadoche.ui.start import prepare_interpreter


def main(folder: Path) -> None:
    """Prints the seconds from the first line of the application to its painted window."""
    app = QApplication([])
    prepare_interpreter()
    began = time.perf_counter()
    application = Application(app, Opening(demo_places(folder), "Bench"))
    application.window.show()
    application.window.repaint()
    app.processEvents()
    print(time.perf_counter() - began, flush=True)
    # What it reads in the background is not waited for.
    os._exit(0)


if __name__ == "__main__":
    main(Path(sys.argv[1]))
