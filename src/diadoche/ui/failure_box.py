"""A defect of the program, shown once and kept in a file; the window goes on."""

from __future__ import annotations

import logging
import sys
import threading
import traceback
from dataclasses import dataclass
from types import TracebackType

from PyQt6.QtCore import Qt
from PyQt6.QtGui import QGuiApplication
from PyQt6.QtWidgets import QMessageBox

from diadoche.core.errors import Problem
from diadoche.services.machine.reports import unforeseen
from diadoche.ui.bridge import Bridge
from diadoche.ui.plain_text import plain

LOG = logging.getLogger(__name__)


@dataclass(frozen=True, slots=True)
class _Defect:
    """A defect that is new, in words, with its report."""

    problem: Problem
    report: str


class Failures:
    """Tells of each defect once: one that comes back ten times a second would bury the window."""

    def __init__(self) -> None:
        """On Qt's thread, where the boxes will be."""
        self._told: set[str] = set()
        self._boxes: list[QMessageBox] = []
        self._bridge = Bridge(self._show)

    def tell(self, kind: type[BaseException], error: BaseException, trace: TracebackType | None) -> None:
        """On any thread: shows a defect, unless one of the same kind at the same place was shown before."""
        report = "".join(traceback.format_exception(kind, error, trace))
        LOG.error(report)
        places = traceback.extract_tb(trace)
        where = f"{kind.__name__} {places[-1].filename}:{places[-1].lineno}" if places else kind.__name__
        if where in self._told:
            return
        self._told.add(where)
        self._bridge.post(_Defect(unforeseen(error), report))

    def tell_of_thread(self, told: threading.ExceptHookArgs) -> None:
        """A defect that ended a thread."""
        if told.exc_value is not None:
            self.tell(told.exc_type, told.exc_value, told.exc_traceback)

    def _show(self, defect: object) -> None:
        assert isinstance(defect, _Defect)
        problem, report = defect.problem, defect.report
        box = QMessageBox(QMessageBox.Icon.Warning, "Diadoche", plain(problem.what))
        box.setInformativeText(f"{problem.safe} {problem.do}")
        box.setDetailedText(report)
        box.setTextInteractionFlags(Qt.TextInteractionFlag.TextBrowserInteraction)
        copy = box.addButton("Copy the report", QMessageBox.ButtonRole.ActionRole)
        box.addButton(QMessageBox.StandardButton.Close)
        assert copy is not None
        # Not by its click: the box stays open for whoever wants to read on.
        copy.clicked.disconnect()
        copy.clicked.connect(lambda: _copy(report))
        # Kept until it is closed, and not waited for: another defect may come while it is open.
        self._boxes.append(box)
        box.finished.connect(lambda _result: self._boxes.remove(box))
        box.open()


def _copy(report: str) -> None:
    clipboard = QGuiApplication.clipboard()
    assert clipboard is not None
    clipboard.setText(report)


def install_hook() -> None:
    """A defect is shown as one, and the window goes on; without this, PyQt ends the program.

    One that ends a thread would else be told on a terminal only, which nobody has open.
    """
    failures = Failures()
    sys.excepthook = failures.tell
    threading.excepthook = failures.tell_of_thread
