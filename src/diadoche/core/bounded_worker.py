"""One thread that works behind another, and never further behind than a few pieces of work."""

from __future__ import annotations

from collections import deque
from collections.abc import Callable
from concurrent.futures import Future, ThreadPoolExecutor
from typing import Any

_WAITING = 4


class BoundedWorker:
    """Does in order what it is given. What goes wrong with a piece is raised when a later one is given, or at the end.

    After that nothing more is done.
    """

    def __init__(self, name: str, waiting: int = _WAITING) -> None:
        """
        Args:
            name: of the thread.
            waiting: how many pieces may wait; whoever gives one more waits too.
        """
        self._pool = ThreadPoolExecutor(1, name)
        self._given: deque[Future[None]] = deque()
        self._waiting = waiting
        self._has_failed = False

    def give(self, work: Callable[..., object], *args: Any) -> None:
        """Has a piece of work done.

        Raises:
            Exception: what came of one before.
        """
        while self._given and (len(self._given) >= self._waiting or self._given[0].done()):
            self._given.popleft().result()
        self._given.append(self._pool.submit(self._work, work, *args))

    def _work(self, work: Callable[..., object], *args: Any) -> None:
        if self._has_failed:
            return
        try:
            work(*args)
        except Exception:
            self._has_failed = True
            raise

    def end(self) -> None:
        """Everything is done when it returns.

        Raises:
            Exception: what came of a piece.
        """
        try:
            while self._given:
                self._given.popleft().result()
        finally:
            self.stop()

    def stop(self) -> None:
        """Ends the thread; what has not begun yet is dropped."""
        self._pool.shutdown(wait=True, cancel_futures=True)
