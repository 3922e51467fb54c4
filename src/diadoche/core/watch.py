"""The one parameter through which long work tells its progress and is stopped."""

from __future__ import annotations

import threading
from collections.abc import Callable
from dataclasses import dataclass
from typing import Any

from diadoche.core.answering import Calls

# The note of work that goes on though nothing is read from the card any more: it may come out of its reader.
CARD_NOT_READ = "filling from a copy; the card is not read any more"


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
    # For how long its disk has not answered, in seconds.
    silent_s: float = 0.0


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
    """Follows one piece of work. Any thread may call any method.

    `calls` follows the calls to the card that the work reads: only a call that does not return shows that a reader
    hangs. Work that is slow, or waits for a processor, may come no further either.
    """

    def __init__(
        self, told: Callable[[Progress], None] | None = None, given: Callable[[Any], None] | None = None
    ) -> None:
        """
        Args:
            told: takes progress.
            given: takes results that come before the end.
        """
        self._told = told
        self._given = given
        self.calls = Calls()
        self._stop = threading.Event()
        self._go = threading.Event()
        self._go.set()

    def stop(self) -> None:
        """Asks the work to stop at its next step."""
        self._stop.set()
        self._go.set()

    def pause(self) -> None:
        """Lets the work stand still at its next step, until it is resumed or stopped."""
        if not self._stop.is_set():
            self._go.clear()

    def resume(self) -> None:
        """Lets the work go on."""
        self._go.set()

    @property
    def paused(self) -> bool:
        """Whether the work stands still, or will at its next step."""
        return not self._go.is_set()

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

    def give(self, part: object) -> None:
        """Hands over a part of the result that is ready before the rest."""
        if self._given is not None:
            self._given(part)

    def check(self) -> None:
        """Waits while the work is paused; raises Cancelled if somebody asked it to stop."""
        self._go.wait()
        if self._stop.is_set():
            raise Cancelled


class Share(Watch):
    """A part of a longer piece of work: its progress fills a share of the whole, from `begin` to `end` (0 to 1).

    Work in several passes thus tells one progress that never goes back.
    """

    _FINE = 10_000

    def __init__(self, whole: Watch, begin: float, end: float) -> None:
        super().__init__(self._pass_on)
        self._whole, self.calls = whole, whole.calls
        self._begin, self._end = begin, end

    @property
    def stopping(self) -> bool:
        """Whether the whole work was asked to stop."""
        return self._whole.stopping

    def check(self) -> None:
        """Raises Cancelled if somebody asked the whole work to stop."""
        self._whole.check()

    def _pass_on(self, progress: Progress) -> None:
        share = progress.done / progress.total if progress.total > 0 else 0.0
        done = self._begin + (self._end - self._begin) * min(1.0, share)
        self._whole.step(Progress(int(done * self._FINE), self._FINE, progress.note))
