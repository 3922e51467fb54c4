"""Lenses read side by side: each on a thread of its own, a few pictures ahead, and asked for by moments."""

from __future__ import annotations

import queue
import threading
from collections.abc import Iterator
from fractions import Fraction
from typing import Generic, TypeVar

from diadoche.core.run import Missing, Picture, Run

T = TypeVar("T")
# Pictures that a lens may be ahead of the stitch: enough to keep its decoder at work, few enough for large ones.
_AHEAD = 2
_ENDING_S = 5.0


class _Ahead(Generic[T]):
    """An iterator that is read on a thread of its own, a few steps ahead."""

    def __init__(self, items: Iterator[T]) -> None:
        self._items = items
        self._queue: queue.Queue[T | BaseException | None] = queue.Queue(_AHEAD)
        self._stopped = threading.Event()
        self._thread = threading.Thread(target=self._read, name="lens", daemon=True)
        self._thread.start()

    def _read(self) -> None:
        last: BaseException | None = None
        try:
            for item in self._items:
                if not self._put(item):
                    return
        except BaseException as error:  # noqa: BLE001  # raised where the items are taken
            last = error
        self._put(last)

    def _put(self, item: T | BaseException | None) -> bool:
        while not self._stopped.is_set():
            try:
                self._queue.put(item, timeout=0.2)
            except queue.Full:
                continue
            return True
        return False

    def __iter__(self) -> Iterator[T]:
        while True:
            item = self._queue.get()
            if item is None:
                return
            if isinstance(item, BaseException):
                raise item
            yield item

    def close(self) -> None:
        """Ends the thread; what it had ready is thrown away. One that a disk owes an answer is left behind."""
        self._stopped.set()
        self._thread.join(_ENDING_S)


def ahead(items: Iterator[T]) -> Iterator[T]:
    """The same items, read ahead."""
    reading = _Ahead(items)
    try:
        yield from reading
    finally:
        reading.close()


class Follower:
    """The pictures of one lens, asked for by the times of another."""

    def __init__(self, run: Run, begin_s: Fraction, end_s: Fraction | None, half_s: Fraction) -> None:
        self._reading: _Ahead[Picture | Missing] = _Ahead(
            unit for unit in run.units(begin_s, end_s) if isinstance(unit, Picture | Missing)
        )
        self._items = iter(self._reading)
        self._half_s = half_s
        self._next: Picture | Missing | None = None
        self.ended = False

    def at(self, time_s: Fraction) -> Picture | None:
        """The picture of that moment; None where there is none."""
        while not self.ended:
            if self._next is None:
                unit = next(self._items, None)
                if unit is None:
                    self.ended = True
                    return None
                self._next = unit
            if self._next.time_s > time_s + self._half_s:
                return None
            found, self._next = self._next, None
            if found.time_s >= time_s - self._half_s:
                return found if isinstance(found, Picture) else None
        return None

    def goes_on_after(self, time_s: Fraction) -> bool:
        """Whether there is a picture later than that of a moment."""
        return self.at(time_s + 2 * self._half_s) is not None

    def close(self) -> None:
        """Ends its thread."""
        self._reading.close()
