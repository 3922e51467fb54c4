"""What a test left running: threads, and timers of Qt's."""

from __future__ import annotations

import gc
import sys
import threading
import time
from collections.abc import Callable, Iterable

# What ends by itself has so long to do it, on a machine that does other things too.
_ENDS_WITHIN_S = 30


def await_end_of_threads(before: Iterable[threading.Thread]) -> list[str]:
    """The names of threads that were not there before and did not end."""
    known = set(before)
    return _not_gone(lambda: [each.name for each in threading.enumerate() if each not in known and each.is_alive()])


def await_end_of_timers() -> list[str]:
    """The owners of Qt's timers that still run."""
    if "PyQt6.QtCore" not in sys.modules:
        return []
    return _not_gone(_running_timers)


def _running_timers() -> list[str]:
    from PyQt6.QtCore import QCoreApplication, QEvent, QTimer
    from PyQt6.sip import isdeleted

    # Widgets that are to be deleted later are so now.
    QCoreApplication.sendPostedEvents(None, QEvent.Type.DeferredDelete.value)
    found = [each for each in gc.get_objects() if type(each) is QTimer and not isdeleted(each) and each.isActive()]
    return [f"timer of {type(each.parent()).__name__}" for each in found if not each.isSingleShot()]


def _not_gone(left: Callable[[], list[str]]) -> list[str]:
    until_s = time.monotonic() + _ENDS_WITHIN_S
    while (found := left()) and time.monotonic() < until_s:
        time.sleep(0.02)
    return found
