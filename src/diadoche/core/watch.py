"""The one parameter through which long work tells its progress and is stopped."""

from __future__ import annotations

import threading
from collections.abc import Callable
from dataclasses import dataclass


class Cancelled(Exception):
    """Raised inside long work after somebody asked it to stop."""


@dataclass(frozen=True, slots=True)
class Part:
    """How far one destination of a job is. All figures in bytes."""

    name: str
    copied: int
    proven: int
    total: int
    state: str = "under way"


@dataclass(frozen=True, slots=True)
class Progress:
    """How far a job is, in units of its own (bytes, frames or files)."""

    done: int
    total: int
    note: str = ""
    parts: tuple[Part, ...] = ()

    @property
    def percent(self) -> int:
        """0 to 100, rounded down: 100 means done."""
        return 100 * self.done // self.total if self.total > 0 else 0


class Watch:
    """Follows one piece of work. Any thread may call any method."""

    def __init__(self, told: Callable[[Progress], None] | None = None) -> None:
        self._told = told
        self._stop = threading.Event()

    def stop(self) -> None:
        """Asks the work to stop at its next step."""
        self._stop.set()

    @property
    def stopping(self) -> bool:
        """Whether the work was asked to stop."""
        return self._stop.is_set()

    def step(self, progress: Progress) -> None:
        """Tells how far the work is.

        Raises:
            Cancelled: somebody asked the work to stop.
        """
        if self._told is not None:
            self._told(progress)
        self.check()

    def check(self) -> None:
        """Raises Cancelled if somebody asked the work to stop."""
        if self._stop.is_set():
            raise Cancelled
