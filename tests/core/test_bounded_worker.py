"""One thread behind another: in order, not far behind, and an error reaches whoever gave the work."""

from __future__ import annotations

import threading

import pytest

from diadoche.core.bounded_worker import BoundedWorker


def test_work_is_done_in_order_and_waits_for_those_before() -> None:
    done: list[int] = []
    worker = BoundedWorker("test")
    for number in range(100):
        worker.give(done.append, number)
    worker.end()
    assert done == list(range(100))


def test_nobody_runs_far_ahead() -> None:
    may_go_on, done, given = threading.Event(), list[int](), list[int]()

    def slow(number: int) -> None:
        may_go_on.wait(60)
        done.append(number)

    worker = BoundedWorker("test", waiting=3)

    def give() -> None:
        for number in range(10):
            worker.give(slow, number)
            given.append(number)

    giver = threading.Thread(target=give)
    giver.start()
    # The fourth waits until the first is done.
    while len(given) < 3 and giver.is_alive():
        giver.join(0.01)
    giver.join(0.1)
    assert len(given) == 3
    may_go_on.set()
    giver.join(60)
    worker.end()
    assert done == list(range(10))


def test_an_error_is_raised_later_and_nothing_more_is_done() -> None:
    done: list[int] = []

    def fail() -> None:
        raise ValueError("broken")

    worker = BoundedWorker("test")
    may_fail = threading.Event()
    worker.give(may_fail.wait, 60)
    worker.give(fail)
    worker.give(done.append, 1)
    may_fail.set()
    with pytest.raises(ValueError, match="broken"):
        worker.end()
    assert not done
    assert "test_0" not in {thread.name for thread in threading.enumerate()}
