"""What is written where nobody waits: in order, for as long as it takes, and never held up by what can never be."""

from __future__ import annotations

import sqlite3
import threading
import time
from collections.abc import Iterator
from contextlib import closing
from functools import partial
from pathlib import Path

import pytest
from sqlalchemy import text

from diadoche.core.errors import LedgerError
from diadoche.services.ledger.happenings import happenings, note_happening
from diadoche.services.ledger.ledger import Ledger
from tests.system_bus import wait_until


@pytest.fixture
def ledger(tmp_path: Path) -> Iterator[Ledger]:
    made = Ledger(tmp_path / "ledger.sqlite", wait_s=0.05)
    yield made
    made.close()


def written(ledger: Ledger) -> list[str]:
    return [each.words for each in reversed(happenings(ledger))]


def _fail() -> None:
    raise RuntimeError("a defect")


def test_what_is_asked_for_while_another_program_holds_the_ledger_is_written_in_order(ledger: Ledger) -> None:
    tries: list[int] = []

    def write(number: int) -> None:
        tries.append(number)
        note_happening(ledger, "note", f"thing {number}")

    with closing(sqlite3.connect(ledger.path, isolation_level=None)) as other:
        other.execute("begin immediate")
        for number in range(5):
            ledger.writer.do(partial(write, number))
        wait_until(lambda: tries.count(0) > 1, 60, "a second try")
        assert written(ledger) == []
        other.execute("rollback")
    wait_until(lambda: len(written(ledger)) == 5, 60, "everything is written")
    assert written(ledger) == [f"thing {number}" for number in range(5)]
    assert sorted(set(tries)) == tries[-5:]


def test_what_can_never_be_written_holds_nothing_up_and_is_no_damage(ledger: Ledger) -> None:
    told: list[LedgerError] = []

    def write() -> None:
        try:
            with ledger.session() as session:
                session.execute(text("insert into happenings (at) values (null)"))
        except LedgerError as error:
            told.append(error)
            raise

    ledger.writer.do(write)
    ledger.writer.do(_fail)
    ledger.writer.do(lambda: note_happening(ledger, "note", "behind"))
    # What was lost is told once, and not of what comes later.
    assert not ledger.writer.write_out(10)
    assert ledger.writer.write_out(10)
    assert written(ledger) == ["behind"]
    (error,) = told
    assert "does not take" in error.problem.what
    assert "damaged" not in error.problem.what
    assert "move" not in error.problem.do.lower()


def test_an_end_does_not_wait_for_ever_for_a_ledger_that_is_held(ledger: Ledger) -> None:
    with closing(sqlite3.connect(ledger.path, isolation_level=None)) as other:
        other.execute("begin immediate")
        ledger.writer.do(lambda: note_happening(ledger, "note", "late"))
        began_s = time.monotonic()
        assert not ledger.writer.write_out(0.2)
        # As long as was asked for, and one more try of a thread that waits for a processor like all others.
        assert time.monotonic() - began_s < 60
        wait_until(lambda: not any(each.name == "ledger writer" for each in threading.enumerate()), 60, "it ends")
        other.execute("rollback")
    assert written(ledger) == []
    assert ledger.writer.write_out(10)


def test_a_closed_ledger_keeps_no_thread_waiting_for_more(ledger: Ledger) -> None:
    before = set(threading.enumerate())
    reached, go_on = threading.Event(), threading.Event()

    def work() -> None:
        reached.set()
        go_on.wait(30)

    ledger.writer.do(work)
    assert reached.wait(30)
    (thread,) = set(threading.enumerate()) - before
    ledger.close()
    later = threading.Event()
    ledger.writer.do(later.set)
    go_on.set()
    # What was asked for is done all the same, and it does not stay for its usual ten seconds then.
    assert later.wait(30)
    thread.join(5)
    assert not thread.is_alive()
