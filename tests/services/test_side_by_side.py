"""Several helpers at one piece of work."""

from __future__ import annotations

import os
import threading
import time
from collections.abc import Iterator
from contextlib import contextmanager

import pytest

from diadoche.services.side_processes.side_by_side import side_by_side


class Helpers:
    """Makes helpers that are numbered, and notes which are open."""

    def __init__(self) -> None:
        self.made = 0
        self.open: set[int] = set()

    @contextmanager
    def make(self) -> Iterator[int]:
        number = self.made
        self.made += 1
        self.open.add(number)
        try:
            yield number
        finally:
            self.open.discard(number)


@pytest.fixture
def helpers(monkeypatch: pytest.MonkeyPatch) -> Helpers:
    monkeypatch.setattr(os, "cpu_count", lambda: 2)
    return Helpers()


def test_answers_come_in_order_though_two_work_at_once(helpers: Helpers) -> None:
    second = threading.Event()

    def do(_helper: int, item: int) -> int:
        # The first one ends only when the second one has begun.
        second.set() if item == 1 else second.wait(60) if item == 0 else None
        return 10 * item

    assert list(side_by_side(helpers.make, do, range(5))) == [0, 10, 20, 30, 40]
    assert second.is_set()
    assert helpers.open == set()


def test_no_helper_works_at_two_items(helpers: Helpers) -> None:
    busy: set[int] = set()

    def do(helper: int, _item: int) -> None:
        assert helper not in busy
        busy.add(helper)
        busy.discard(helper)

    list(side_by_side(helpers.make, do, range(200)))
    assert helpers.made == 2


def test_what_one_raises_ends_all_and_closes_the_helpers(helpers: Helpers) -> None:
    begun: list[int] = []

    def do(_helper: int, item: int) -> int:
        begun.append(item)
        if item == 3:
            raise ValueError("the fourth one")
        # As long as a question to a process takes, or all of them would be answered before anybody looks.
        time.sleep(0.001)
        return item

    with pytest.raises(ValueError, match="the fourth one"):
        list(side_by_side(helpers.make, do, range(10_000)))
    assert helpers.open == set()
    assert len(begun) < 10_000
