"""Several side processes at one piece of work: as many questions at once as there are processors for."""

from __future__ import annotations

import os
from collections.abc import Callable, Iterable, Iterator
from concurrent.futures import ThreadPoolExecutor
from contextlib import AbstractContextManager, ExitStack
from queue import LifoQueue
from typing import TypeVar

Helper = TypeVar("Helper")
Item = TypeVar("Item")
Answer = TypeVar("Answer")

# More would read a card in more places at once than its reader likes.
_MOST = 4


def side_by_side(
    make: Callable[[], AbstractContextManager[Helper]], do: Callable[[Helper, Item], Answer], items: Iterable[Item]
) -> Iterator[Answer]:
    """The answers to items, in the order of these; several are worked on at once, each by a helper of its own.

    Args:
        make: makes a helper; it is used on one thread at a time, and closed at the end.
        do: answers one item with a helper's help; what it raises is raised here, and nothing more is begun.
        items: taken all at once.
    """
    at_once = min(_MOST, os.cpu_count() or 1)
    # The last one that was used is used again: of a few items, few processes are started.
    free: LifoQueue[Helper] = LifoQueue()

    def work(item: Item) -> Answer:
        helper = free.get()
        try:
            return do(helper, item)
        finally:
            free.put(helper)

    with ExitStack() as closing:
        for _number in range(at_once):
            free.put(closing.enter_context(make()))
        pool = closing.enter_context(ThreadPoolExecutor(at_once, "side by side"))
        try:
            yield from pool.map(work, items)
        finally:
            pool.shutdown(wait=False, cancel_futures=True)
