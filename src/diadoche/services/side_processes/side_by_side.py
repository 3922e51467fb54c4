"""Several side processes at one piece of work: as many questions at once as there are processors for."""

from __future__ import annotations

import os
from collections.abc import Callable, Iterable, Iterator
from concurrent.futures import Future, ThreadPoolExecutor
from contextlib import AbstractContextManager, ExitStack
from queue import LifoQueue
from types import TracebackType
from typing import Generic, TypeVar

Helper = TypeVar("Helper")
Item = TypeVar("Item")
Answer = TypeVar("Answer")

# More would read a card in more places at once than its reader likes.
_MOST = 4


class SideBySide(Generic[Helper, Item, Answer]):
    """Helpers that are given one item after another, from any thread; several are worked on at once."""

    def __init__(
        self,
        make: Callable[[], AbstractContextManager[Helper]],
        do: Callable[[Helper, Item], Answer],
        share: float = 1.0,
    ) -> None:
        """
        Args:
            make: makes a helper; it is used on one thread at a time, and closed at the end.
            do: answers one item with a helper's help.
            share: of the processors; there is one helper at least.
        """
        self._do = do
        at_once = max(1, min(_MOST, int((os.cpu_count() or 1) * share)))
        # The last one that was used is used again: of a few items, few processes are started.
        self._free: LifoQueue[Helper] = LifoQueue()
        self._closing = ExitStack()
        for _number in range(at_once):
            self._free.put(self._closing.enter_context(make()))
        self._pool = self._closing.enter_context(ThreadPoolExecutor(at_once, "side by side"))

    def __enter__(self) -> SideBySide[Helper, Item, Answer]:
        return self

    def __exit__(
        self, kind: type[BaseException] | None, error: BaseException | None, trace: TracebackType | None
    ) -> None:
        self.close()

    def give(self, item: Item) -> Future[Answer]:
        """Has one item worked on, after those that were given before."""
        return self._pool.submit(self._work, item)

    def close(self) -> None:
        """Begins nothing more, waits for what is under way, and closes the helpers."""
        self._pool.shutdown(wait=False, cancel_futures=True)
        self._closing.close()

    def _work(self, item: Item) -> Answer:
        helper = self._free.get()
        try:
            return self._do(helper, item)
        finally:
            self._free.put(helper)


def side_by_side(
    make: Callable[[], AbstractContextManager[Helper]], do: Callable[[Helper, Item], Answer], items: Iterable[Item]
) -> Iterator[Answer]:
    """The answers to items, in the order of these; see `SideBySide`.

    Args:
        make: makes a helper.
        do: answers one item; what it raises is raised here, and nothing more is begun.
        items: taken all at once.
    """
    with SideBySide(make, do) as helpers:
        for answer in [helpers.give(item) for item in items]:
            yield answer.result()
