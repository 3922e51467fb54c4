"""Writing in the ledger where nobody waits: one thing after the other, until the ledger takes each.

A ledger that another program holds, or whose disk is full, holds up neither the queue nor the window: what could not
be written is tried again, and nothing is dropped for it while the application runs. Only what the ledger will never
take is passed over, and said in the log.
"""

from __future__ import annotations

import logging
import threading
import time
from collections import deque
from collections.abc import Callable

from diadoche.core.errors import LedgerError, LedgerRefuses

LOG = logging.getLogger(__name__)
_AGAIN_S, _STAYS_S = 1.0, 10.0


class LedgerWriter:
    """Does what is asked for in a thread of its own, in order. Any thread may ask."""

    def __init__(self) -> None:
        self._wanted: deque[Callable[[], None]] = deque()
        self._changed = threading.Condition()
        # Whether there is a thread, and whether something was lost since it was last told.
        self._alive = self._lost = False
        self._until_s: float | None = None
        # Whether the thread waits a while for more.
        self._stays = True

    def close(self) -> None:
        """From now on its thread ends as soon as nothing is left to write; waits for nothing."""
        with self._changed:
            self._stays = False
            self._changed.notify_all()

    def do(self, work: Callable[[], None]) -> None:
        """Does something with the ledger as soon as it can be done, after what was asked for before."""
        with self._changed:
            self._wanted.append(work)
            if self._alive:
                self._changed.notify_all()
            else:
                self._alive = True
                threading.Thread(target=self._write_all, name="ledger writer", daemon=True).start()

    def write_out(self, longest_s: float) -> bool:
        """Waits until everything is written, for so long at most; what is still left then is given up.

        Returns:
            Whether all was written that was asked for since the last time.
        """
        with self._changed:
            self._until_s = time.monotonic() + longest_s
            self._changed.notify_all()
            # A transaction of its own may be waiting for the lock: it is not cut short.
            self._changed.wait_for(lambda: not self._alive, longest_s + _AGAIN_S)
            ended = not self._alive
            if ended:
                self._until_s = None
            lost, self._lost = self._lost, False
            return ended and not lost

    def _write_all(self) -> None:
        while True:
            with self._changed:
                # It stays for a while: whoever asks next, on the window's thread too, would wait for another to start.
                self._changed.wait_for(lambda: self._wanted or self._until_s is not None or not self._stays, _STAYS_S)
                if not self._wanted:
                    # Only ever told under the lock: whoever asks next starts another thread.
                    self._alive = False
                    self._changed.notify_all()
                    return
                work = self._wanted.popleft()
            self._write(work)

    def _write(self, work: Callable[[], None]) -> None:
        while True:
            try:
                work()
                return
            except LedgerRefuses:
                # Tried again for ever, it would hold up all that comes after it.
                self._lost = True
                LOG.exception("something could not be written in the ledger, and will never be")
                return
            except LedgerError as error:
                if self._is_too_late():
                    self._lost = True
                    LOG.error("given up, for the ledger does not take it: %s", error.problem.what)  # no defect
                    return
            except Exception:
                # A defect: the rest is written all the same.
                self._lost = True
                LOG.exception("something could not be written in the ledger")
                return

    def _is_too_late(self) -> bool:
        """Waits a moment before the next try, less where everything is to end."""
        with self._changed:
            if self._until_s is None:
                self._changed.wait(_AGAIN_S)
            left_s = None if self._until_s is None else self._until_s - time.monotonic()
            if left_s is not None and left_s > 0:
                self._changed.wait(min(_AGAIN_S, left_s))
            return left_s is not None and left_s <= 0
