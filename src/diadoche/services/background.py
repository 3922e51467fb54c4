"""Work that may take long or hang, done away from the thread that shows things."""

from __future__ import annotations

import queue
import threading
from collections.abc import Callable
from typing import Any

from diadoche.core.errors import DiadocheError

# Does work elsewhere, and then something with what came of it, or with its error, on the thread that asked.
InBackground = Callable[[Callable[[], Any], Callable[[Any], None]], None]
_MOST_FREE = 4


def outcome_of(work: Callable[[], Any]) -> Any:
    """What comes of work, or the error by which it failed."""
    try:
        return work()
    except (DiadocheError, OSError) as error:
        return error


def at_once(work: Callable[[], Any], then: Callable[[Any], None]) -> None:
    """Here and now, for whoever has no window to keep quick."""
    then(outcome_of(work))


class BackgroundThreads:
    """Threads that work is done in: as many as there is work at once, for any of it may hang.

    A few wait for more: whoever starts a thread stands still until that runs, and beside busy programs this is longer
    than a window may be silent.
    """

    def __init__(self, ready: int = 0) -> None:
        """`ready` of them wait from the beginning."""
        self._work: queue.SimpleQueue[tuple[Callable[[], None], threading.Event] | None] = queue.SimpleQueue()
        self._lock = threading.Lock()
        self._free = ready
        self._closed = False
        for _thread in range(ready):
            self._start()

    def do(self, work: Callable[[], None]) -> threading.Event:
        """Does work, whatever else is being done; gives what is set when it has ended, by an error too."""
        with self._lock:
            is_served = self._free > 0
            self._free -= is_served
        ended = threading.Event()
        self._work.put((work, ended))
        if not is_served:
            self._start()
        return ended

    def close(self) -> None:
        """Ends the threads that wait; the others end with their work."""
        with self._lock:
            free, self._free, self._closed = self._free, 0, True
        for _thread in range(free):
            self._work.put(None)

    def _start(self) -> None:
        threading.Thread(target=self._serve, name="background", daemon=True).start()

    def _serve(self) -> None:
        # An error that nobody foresaw ends its thread, and is reported as that of any thread.
        while (given := self._work.get()) is not None:
            work, ended = given
            try:
                work()
            finally:
                ended.set()
            with self._lock:
                if self._closed or self._free >= _MOST_FREE:
                    return
                self._free += 1
