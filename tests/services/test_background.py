"""Work away from the window's thread: nothing waits for what hangs, and what is done leaves a thread for the next."""

from __future__ import annotations

import threading
from collections.abc import Iterator

import pytest

from diadoche.services.background import BackgroundThreads
from tests.system_bus import wait_until

LONGEST_S = 20


@pytest.fixture
def background() -> Iterator[BackgroundThreads]:
    threads = BackgroundThreads()
    yield threads
    threads.close()


def test_nothing_waits_for_what_hangs(background: BackgroundThreads) -> None:
    goes_on = threading.Event()
    hanging = threading.Semaphore(0)

    def hang() -> None:
        hanging.release()
        goes_on.wait()

    try:
        for _number in range(12):
            background.do(hang)
        for _number in range(12):
            assert hanging.acquire(timeout=LONGEST_S)
        done = threading.Event()
        background.do(done.set)
        assert done.wait(LONGEST_S)
    finally:
        goes_on.set()


def test_one_thread_does_what_comes_one_after_another(background: BackgroundThreads) -> None:
    seen: set[int] = set()
    for number in range(1, 30):
        done = threading.Event()

        def note(done: threading.Event = done) -> None:
            seen.add(threading.get_ident())
            done.set()

        background.do(note)
        assert done.wait(LONGEST_S)
        # It has said that it is free.
        wait_until(lambda: background._free == len(seen), LONGEST_S, f"number {number} has ended")
    assert len(seen) == 1


@pytest.mark.filterwarnings("ignore::pytest.PytestUnhandledThreadExceptionWarning")
def test_an_error_ends_its_thread_and_nothing_else(background: BackgroundThreads) -> None:
    def fail() -> None:
        raise ZeroDivisionError

    for _round in range(3):
        background.do(fail)
        done = threading.Event()
        background.do(done.set)
        assert done.wait(LONGEST_S)
