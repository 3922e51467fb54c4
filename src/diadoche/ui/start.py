"""The start: a window within a quarter of a second, and all that fills it loaded behind it.

Nothing here, nor what it imports, may load media libraries, databases or views: a test holds that.
"""

from __future__ import annotations

import gc
import sys
import threading
import time
from collections.abc import Callable
from pathlib import Path
from typing import TYPE_CHECKING, Any

from PyQt6.QtGui import QIcon
from PyQt6.QtWidgets import QApplication, QMessageBox

from diadoche.core.errors import DiadocheError, Problem
from diadoche.services.machine.one_window import OneWindow
from diadoche.services.machine.reports import unforeseen
from diadoche.services.machine.state_places import StatePlaces
from diadoche.ui.bridge import Bridge
from diadoche.ui.failure_box import install_hook
from diadoche.ui.main_window import MainWindow, first_window
from diadoche.ui.signals import quit_on_signals

if TYPE_CHECKING:
    from diadoche.ui.application import Application
    from diadoche.ui.second_start import SecondStarts

# Longer than the first window takes from its lock to its first event.
_FIRST_ANSWERS_S, _LOOK_AGAIN_S = 15.0, 0.1
# A thread that reckons hands over to the window ten times as soon as it would: nobody notices it but the hand.
_SWITCH_S = 0.0005
# Ten thousand clips judged by one key are more than twenty thousand new objects, none of them garbage: usually a
# collection would be due for every few hundred, and one of all there is takes as long as a step of the window.
_COLLECT_AT = 50_000

# Makes the application in a window that is there. It is called on Qt's thread.
Fill = Callable[[QApplication, MainWindow], "Application"]


def prepare_interpreter() -> None:
    """Sets Python up for a window that others work beside: how soon threads hand over, and when garbage is sought."""
    sys.setswitchinterval(_SWITCH_S)
    gc.set_threshold(_COLLECT_AT)


class _Start:
    """A window that is filled as soon as everything for it is loaded, and what is open then."""

    def __init__(self, app: QApplication, window: MainWindow, load: Callable[[], Fill]) -> None:
        self._app = app
        self._window = window
        self.application: Application | None = None
        self.then: Callable[[Application], object] = lambda _application: None
        self._bridge = Bridge(self._take)
        # Imports take a second or two: away from the window, which can be moved, and closed, all the while.
        self._thread = threading.Thread(target=self._load, args=(load,), name="loading", daemon=True)
        self._thread.start()

    def _load(self, load: Callable[[], Fill]) -> None:
        try:
            self._bridge.post(load())
        except Exception as error:  # noqa: BLE001  # whatever it is, it is told on Qt's thread
            self._bridge.post(error)

    def _take(self, came: Any) -> None:
        if self._window.isHidden():
            # It was closed while it was empty.
            return
        try:
            if isinstance(came, Exception):
                raise came
            self.application = came(self._app, self._window)
        except Exception as error:  # noqa: BLE001  # without it there is no window: said, and the end
            say_why(_problem_of(error).sentence())
            self._app.exit(1)
        else:
            self.then(self.application)

    def end(self) -> None:
        """Ends what was begun. A thread that still imports must not meet the interpreter's end."""
        self._thread.join()
        if self.application is not None:
            self.application.close()


def _problem_of(error: Exception) -> Problem:
    if isinstance(error, DiadocheError):
        return error.problem
    if isinstance(error, OSError):
        return Problem(str(error))
    return unforeseen(error)


def say_why(words: str) -> None:
    """Tells why there is no window."""
    QMessageBox.critical(None, "Diadoche", words)


def run(places: StatePlaces, load: Callable[[], Fill], folder: Path | None = None) -> int:
    """Opens the window and stays until it is closed.

    Args:
        places: the ledger that the window works on, and the person's settings.
        load: loads all that the window needs, on a thread of its own, and gives what fills it.
        folder: taken as a card.
    """
    app = QApplication.instance() or QApplication(sys.argv[:1])
    assert isinstance(app, QApplication)
    app.setApplicationName("Diadoche")
    # As the desktop entry is called: by it a desktop knows whose window this is.
    app.setDesktopFileName("diadoche")
    app.setWindowIcon(QIcon(str(Path(__file__).with_name("diadoche.svg"))))
    # The window may be out of sight while cards are read; it ends when it says so.
    app.setQuitOnLastWindowClosed(False)
    prepare_interpreter()
    install_hook()
    quit_on_signals(app)
    one = OneWindow(places.ledger)
    try:
        # Two windows on one ledger would run its jobs twice.
        code = None if one.take() else _hand_over(one, places, folder)
    except OSError as error:
        say_why(str(error))
        return 1
    if code is not None:
        return code
    window = first_window(app, places)
    window.show()
    start = _Start(app, window, load)
    listening: list[SecondStarts] = []

    def filled(application: Application) -> None:
        from diadoche.ui.second_start import SecondStarts

        listening.append(SecondStarts(one.name, application.come_to_front))
        if folder is not None:
            application.desk.cards.sources.open_folder(folder)

    start.then = filled
    code = app.exec()
    for each in listening:
        each.close()
    start.end()
    one.let_go()
    return code


def _hand_over(one: OneWindow, places: StatePlaces, folder: Path | None) -> int | None:
    """Brings the window that is there to the front; the exit code, or None where it ended meanwhile.

    Raises:
        OSError: the folder of the ledger cannot be written to.
    """
    # Loaded for a second start alone: a first one would wait for it.
    from diadoche.ui.second_start import bring_first_to_front

    until_s = time.monotonic() + _FIRST_ANSWERS_S
    # The first may not listen yet, or end just now.
    while time.monotonic() < until_s:
        if bring_first_to_front(one.name, folder):
            return 0
        if one.take():
            return None
        time.sleep(_LOOK_AGAIN_S)
    say_why(
        f"Another start of the application works on the ledger at {places.ledger}, and does not answer. "
        "Its copies and yours are safe. Wait until it has ended, or end it."
    )
    return 1
