"""The start: a window first, and everything else behind it."""

from __future__ import annotations

import subprocess
import sys
from pathlib import Path

import pytest

# Begins a start as `run` does, with what is loaded and what the person does given; prints what a message box said.
_START = """
import sys, threading
from pathlib import Path
from PyQt6.QtCore import QTimer
from PyQt6.QtWidgets import QApplication, QMessageBox
from diadoche.core.errors import LedgerError
from diadoche.services.machine.state_places import StatePlaces
from diadoche.ui.main_window import MainWindow
from diadoche.ui.start import run

app = QApplication([])
folder = Path(sys.argv[1])
gate = threading.Event()

def window():
    return next(each for each in app.topLevelWidgets() if isinstance(each, MainWindow))

def look():
    box = app.activeModalWidget()
    if isinstance(box, QMessageBox):
        print(box.text())
        box.accept()

timer = QTimer()
timer.timeout.connect(look)
timer.start(20)
"""
_CLOSED = """
def load():
    gate.wait()
    return lambda _app, _window: print("filled all the same")

def close():
    print(window().isVisible(), window().watch_line.accessibleName())
    window().close()
    gate.set()

QTimer.singleShot(0, close)
sys.exit(run(StatePlaces(folder, folder, folder), load))
"""
_REFUSED = """
def refuse(_app, _window):
    raise LedgerError("The ledger is of a newer version.", safe="Nothing was changed.")

sys.exit(run(StatePlaces(folder, folder, folder), lambda: refuse))
"""
_BROKEN = """
def load():
    raise ImportError("half of it is not there")

sys.exit(run(StatePlaces(folder, folder, folder), load))
"""


def started(what: str, folder: Path) -> subprocess.CompletedProcess[str]:
    return subprocess.run(
        [sys.executable, "-c", _START + what, folder], capture_output=True, text=True, check=False, timeout=120
    )


def test_the_window_waits_for_no_library_that_fills_it() -> None:
    slow = {"sqlalchemy", "av", "numpy", "pydantic", "typer", "lxml", "diadoche.screens.desk", "importlib.metadata"}
    code = f"import diadoche.ui.start, diadoche.main, sys; print(sorted({slow!r} & set(sys.modules)))"
    done = subprocess.run([sys.executable, "-c", code], check=True, capture_output=True, text=True)
    assert done.stdout.strip() == "[]"


@pytest.mark.usefixtures("own_state")
def test_a_window_that_is_closed_before_it_is_filled_is_gone(tmp_path: Path) -> None:
    done = started(_CLOSED, tmp_path)
    assert (done.returncode, done.stdout.split("\n")[0]) == (0, "True Opening the shoot…"), done.stderr
    assert "filled" not in done.stdout


@pytest.mark.usefixtures("own_state")
@pytest.mark.parametrize(("what", "words"), [(_REFUSED, "newer version"), (_BROKEN, "half of it is not there")])
def test_what_keeps_the_window_from_being_filled_is_said(what: str, words: str, tmp_path: Path) -> None:
    done = started(what, tmp_path)
    assert done.returncode == 1, done.stderr
    assert words in done.stdout
    assert "Traceback" not in done.stderr
