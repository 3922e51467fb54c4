"""How jobs stand, as the ledger keeps it: the newest of each, in few transactions, and none taken along by another."""

from __future__ import annotations

import sqlite3
from collections.abc import Iterator
from contextlib import closing
from datetime import UTC, datetime
from pathlib import Path

import pytest
from sqlalchemy import Engine, event, select, text

from diadoche.services.ledger.ledger import Ledger
from diadoche.services.ledger.models import JobRow
from diadoche.services.queue.job_records import JobRecords, KeptJob
from diadoche.services.queue.states import State

_NOW = datetime(2026, 1, 1, tzinfo=UTC)


@pytest.fixture
def ledger(tmp_path: Path) -> Iterator[Ledger]:
    made = Ledger(tmp_path / "ledger.sqlite", wait_s=0.05)
    yield made
    made.close()


def begin(records: JobRecords, count: int) -> list[int]:
    numbers = list(records.numbers(count))
    records.begin([KeptJob(number, "look", f"List {number}", "card:x", {}, _NOW) for number in numbers])
    return numbers


def kept(ledger: Ledger) -> dict[int, str]:
    with ledger.session() as session:
        return {row.id: row.state for row in session.execute(select(JobRow.id, JobRow.state))}


@pytest.fixture
def commits() -> Iterator[list[object]]:
    """A connection for each transaction that was committed."""
    found: list[object] = []
    note = found.append
    event.listen(Engine, "commit", note)
    yield found
    event.remove(Engine, "commit", note)


def test_what_changes_while_the_ledger_is_held_is_written_together_and_the_newest_counts(
    ledger: Ledger, commits: list[object]
) -> None:
    records = JobRecords(ledger)
    with closing(sqlite3.connect(ledger.path, isolation_level=None)) as other:
        first = begin(records, 20)
        assert ledger.writer.write_out(30)
        commits.clear()
        other.execute("begin immediate")
        for state in (State.RUNNING, State.DONE):
            for number in first:
                records.follow(number, state, _NOW, _NOW, None)
        # Jobs that begin in between stand in the ledger before it is said how they stand.
        later = begin(records, 20)
        for number in (*later, *first[:5]):
            records.follow(number, State.FAILED, _NOW, _NOW, None)
        other.execute("rollback")
    assert ledger.writer.write_out(30)
    # What the writer had taken already, what came before the jobs that begin, those, and what came after.
    assert len(commits) <= 4
    assert kept(ledger) == dict.fromkeys((*first[:5], *later), "failed") | dict.fromkeys(first[5:], "done")


def test_one_that_the_ledger_refuses_takes_no_other_along(ledger: Ledger) -> None:
    records = JobRecords(ledger)
    numbers = begin(records, 5)
    assert ledger.writer.write_out(30)
    with ledger.session() as session:
        session.execute(
            text(
                f"create trigger refused before update on jobs when new.id = {numbers[2]} "
                "begin select raise(abort, 'never'); end"
            )
        )
    for number in numbers:
        records.follow(number, State.DONE, _NOW, _NOW, None)
    assert not ledger.writer.write_out(30)
    assert kept(ledger) == dict.fromkeys(numbers, "done") | {numbers[2]: "waiting"}
