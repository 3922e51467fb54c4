"""Jobs as they are kept in the ledger: written where nobody waits, in order, until the ledger takes them."""

from __future__ import annotations

import logging
import threading
import time
from collections.abc import Callable, Sequence
from dataclasses import dataclass
from datetime import UTC, datetime
from typing import Any

from pydantic import ValidationError
from sqlalchemy import func, insert, select

from diadoche.core.errors import LedgerRefuses, Problem
from diadoche.core.names import storable
from diadoche.services.ledger.ledger import Ledger
from diadoche.services.ledger.models import JobRow
from diadoche.services.queue.states import State
from diadoche.services.wire import from_text, to_text

LOG = logging.getLogger(__name__)
_CLOSING_S = 10.0
_BETWEEN_S = 0.0002


@dataclass(frozen=True, slots=True)
class KeptJob:
    """A job that an earlier run of the application left waiting or running."""

    number: int
    kind: str
    title: str
    resource: str
    request: Any
    created: datetime


@dataclass(frozen=True, slots=True)
class _Standing:
    """How a job stands."""

    state: State
    started: datetime | None
    ended: datetime | None
    problem: Problem | None


class JobRecords:
    """Writes jobs down, and what follows them; any thread may ask for that, none has to wait.

    How jobs stand is written down for all at once that changed since the last time: each transaction waits for the
    disk, and on a busy one jobs would end faster than that could be written.
    """

    def __init__(self, ledger: Ledger) -> None:
        self._ledger = ledger
        self._next = 0
        # How jobs stand that the writer was asked for and has not come to yet.
        self._changed: dict[int, _Standing] | None = None
        self._lock = threading.Lock()
        # One of its own: numbers are asked of the ledger, and whoever follows a job waits for no ledger.
        self._numbering = threading.Lock()

    def numbers(self, count: int) -> range:
        """Numbers that no job has yet."""
        with self._numbering:
            if not self._next:
                with self._ledger.session() as session:
                    self._next = (session.scalar(select(func.max(JobRow.id))) or 0) + 1
            first, self._next = self._next, self._next + count
            return range(first, first + count)

    def begin(self, jobs: Sequence[KeptJob]) -> None:
        """Writes down new jobs, all of them or none."""
        with self._lock:
            # How these stand must be written after them: not with what is waiting now.
            self._changed = None
            self.do(lambda: self._begin(jobs))

    def _begin(self, jobs: Sequence[KeptJob]) -> None:
        rows = []
        for job in jobs:
            rows.append(
                {
                    "id": job.number,
                    "kind": job.kind,
                    "title": storable(job.title),
                    "resource": storable(job.resource),
                    "request": to_text(job.request),
                    "state": State.WAITING.value,
                    "created": job.created,
                    "outcome": "",
                }
            )
            if len(jobs) > 1:
                # Thousands keep a processor busy for seconds: between them, the window has its turns.
                time.sleep(_BETWEEN_S)
        with self._ledger.session() as session:
            session.execute(insert(JobRow), rows)

    def follow(
        self, number: int, state: State, started: datetime | None, ended: datetime | None, problem: Problem | None
    ) -> None:
        """Writes down how a job stands now."""
        with self._lock:
            if self._changed is None:
                changed = self._changed = {}
                self.do(lambda: self._write_standings(changed))
            self._changed[number] = _Standing(state, started, ended, problem)

    def _write_standings(self, changed: dict[int, _Standing]) -> None:
        with self._lock:
            # Nobody adds to these any more; the writer may call again with the same ones.
            if self._changed is changed:
                self._changed = None
        try:
            self._write(changed)
        except LedgerRefuses:
            # One that it never takes must not take the others along.
            refused: LedgerRefuses | None = None
            for number, standing in changed.items():
                try:
                    self._write({number: standing})
                except LedgerRefuses as error:
                    refused = error
            if refused is not None:
                raise refused from None

    def _write(self, changed: dict[int, _Standing]) -> None:
        with self._ledger.session() as session:
            for number, standing in changed.items():
                row = session.get(JobRow, number)
                if row is not None:
                    row.state, row.started, row.ended = standing.state.value, standing.started, standing.ended
                    row.outcome = to_text(standing.problem, Problem) if standing.problem else ""

    def do(self, work: Callable[[], None]) -> None:
        """Does something with the ledger as soon as it can be done, after what was asked for before."""
        self._ledger.writer.do(work)

    def left_open(self, requests: dict[str, type[Any]], not_again: frozenset[str]) -> list[KeptJob]:
        """What an earlier run left; kinds of `not_again` are ended, as is what makes no sense any more.

        Raises:
            LedgerError: it cannot be read.
        """
        open_states = [State.WAITING.value, State.RUNNING.value, State.STOPPING.value]
        found = []
        with self._ledger.session() as session:
            rows = session.scalars(select(JobRow).where(JobRow.state.in_(open_states)).order_by(JobRow.id)).all()
            for row in rows:
                job = _kept(row, requests) if row.kind not in not_again else None
                if job is None:
                    row.state = State.STOPPED.value
                else:
                    found.append(job)
        return found

    def close(self) -> None:
        """Writes what is still to be written, for a few seconds at most."""
        if not self._ledger.writer.write_out(_CLOSING_S):
            LOG.error("the ledger did not take everything before the end; jobs that it does not call done go on")


def _kept(row: JobRow, requests: dict[str, type[Any]]) -> KeptJob | None:
    if row.kind not in requests:
        return None
    try:
        request = from_text(requests[row.kind], row.request)
    except (ValidationError, ValueError):
        return None
    return KeptJob(row.id, row.kind, row.title, row.resource, request, row.created.replace(tzinfo=UTC))
