"""Runs jobs in worker processes, as the state machine says, and keeps them in the ledger.

Changes are told under the lock that made them, so that nobody sees an older state after a newer
one; progress is not told, it is fetched. Neither a ledger that cannot be written nor any error in what
follows a job ends the queue: the job's resource is free again, and what went wrong is told with it.
"""

from __future__ import annotations

import logging
import os
import threading
import time
from collections import Counter
from collections.abc import Callable, Sequence
from contextlib import suppress
from dataclasses import dataclass, replace
from datetime import UTC, datetime
from functools import partial
from operator import attrgetter
from typing import Any

from diadoche.core.errors import LedgerError, Problem
from diadoche.core.watch import Progress
from diadoche.services.background import BackgroundThreads
from diadoche.services.jobs.job_kind import JobKind
from diadoche.services.ledger.ledger import Ledger
from diadoche.services.processes.forked_process import FORK_SERVER
from diadoche.services.queue.job_records import JobRecords, KeptJob
from diadoche.services.queue.states import (
    Added,
    Ended,
    FirstAsked,
    Instruction,
    QueueState,
    RetryAsked,
    StartWork,
    State,
    StopAsked,
    StopWork,
)
from diadoche.services.queue.worker_process import PATIENCE_S, WorkerProcess
from diadoche.services.wire import from_text, to_text

LOG = logging.getLogger(__name__)
# A conversion alone leaves cores idle wherever one of its steps waits for another: two fill them.
LIMITS = {"look": 2, "facts": 1, "encode": max(2, (os.cpu_count() or 1) // 4)}
_KILLED_S = 1.0
# Cards that were being listed are listed anew when they are seen.
_NOT_AGAIN = frozenset({"look"})


@dataclass(frozen=True, slots=True)
class Job:
    """A job as the screens see it. `noted` is what the ledger said to its result."""

    number: int
    kind: str
    title: str
    resource: str
    request: Any
    state: State
    created: datetime
    started: datetime | None = None
    ended: datetime | None = None
    result: Any = None
    problem: Problem | None = None
    noted: Any = None


@dataclass(frozen=True, slots=True)
class NewJob:
    """What is to be done: which kind of job, what it is called, which resource it takes, and what exactly."""

    kind: str
    title: str
    resource: str
    request: Any


@dataclass(slots=True)
class _Ending:
    """How a process ended, by what it said."""

    state: State = State.FAILED
    result: Any = None
    problem: Problem | None = None


class Runner:
    """The queue of this application."""

    def __init__(
        self,
        ledger: Ledger,
        kinds: dict[str, JobKind],
        told: Callable[[Job], None],
        finished: Callable[[Job], Any],
        part_came: Callable[[Job, Any], None] = lambda _job, _part: None,
    ) -> None:
        """
        Args:
            ledger: where jobs are kept.
            kinds: what can be run.
            told: called with every change of a job, from any thread; must only pass it on.
            finished: called once with each job that left a result, before that is told: writes it down, and gives
                what is to be noted with the job. Called again where the ledger could not be written.
            part_came: called with what a running job gives before its end, from any thread.
        """
        self._records = JobRecords(ledger)
        self._kinds = kinds
        self._told = told
        self._finished = finished
        self._part_came = part_came
        self._state = QueueState(LIMITS)
        self._jobs: dict[int, Job] = {}
        # How many are in each state: who shows it asks ten times a second, and there may be ten thousand.
        self._counts = Counter[State]()
        self._running: dict[int, WorkerProcess] = {}
        self._lock = threading.RLock()
        self._background = BackgroundThreads()
        # Set where a job's thread has done all it had to.
        self._followed: list[threading.Event] = []
        # By job: what is done about its process when it does not stop as it was asked to.
        self._timers: dict[int, threading.Timer] = {}
        self._closing = False
        FORK_SERVER.warm_up()

    def add(self, kind: str, title: str, resource: str, request: object) -> int:
        """Puts a job into the queue and the ledger, and gives its number.

        Raises:
            LedgerError: the ledger cannot even be read; nothing was begun.
        """
        return self.add_all([NewJob(kind, title, resource, request)])[0]

    def add_all(self, jobs: Sequence[NewJob]) -> list[int]:
        """Puts jobs into the queue and the ledger together, in their order, and gives their numbers.

        Raises:
            LedgerError: the ledger cannot even be read; nothing was begun.
        """
        if not jobs:
            return []
        now = datetime.now(UTC)
        new = [
            Job(number, each.kind, each.title, each.resource, each.request, State.WAITING, now)
            for number, each in zip(self._records.numbers(len(jobs)), jobs, strict=True)
        ]
        self._records.begin([KeptJob(job.number, job.kind, job.title, job.resource, job.request, now) for job in new])
        self._enter(new)
        return [job.number for job in new]

    def recover(self) -> list[Job]:
        """Takes up what an earlier run of the application left waiting or running."""
        requests = {name: kind.request for name, kind in self._kinds.items()}
        jobs = [
            Job(kept.number, kept.kind, kept.title, kept.resource, kept.request, State.WAITING, kept.created)
            for kept in self._records.left_open(requests, _NOT_AGAIN)
        ]
        self._enter(jobs)
        return jobs

    def _enter(self, jobs: Sequence[Job]) -> None:
        with self._lock:
            for job in jobs:
                self._put(job)
                self._told(job)
            self._obey(self._state.handle_all([self._added(job) for job in jobs]))

    def _added(self, job: Job) -> Added:
        kind = self._kinds[job.kind]
        return Added(job.number, job.resource, kind.rank, kind.alone)

    def stop(self, number: int) -> None:
        """Asks a job to stop, or takes it out of the queue."""
        with self._lock:
            self._obey(self._state.handle(StopAsked(number)))
            self._follow(number)

    def retry(self, number: int) -> None:
        """Puts a failed or stopped job in the queue again."""
        with self._lock:
            self._put(replace(self._jobs[number], problem=None, result=None, noted=None, ended=None))
            instructions = self._state.handle(RetryAsked(number))
            self._follow(number)
            self._obey(instructions)

    def pause(self, number: int, *, paused: bool) -> None:
        """Lets a running job stand still, or go on."""
        running = self._running.get(number)
        if running is not None and running.paused != paused:
            running.pause(paused=paused)
            self._told(self._jobs[number])

    def is_paused(self, number: int) -> bool:
        """Whether a job stands still because the person wants it to."""
        running = self._running.get(number)
        return running is not None and running.paused

    def do_first(self, number: int) -> None:
        """Puts a waiting job before the others."""
        with self._lock:
            self._obey(self._state.handle(FirstAsked(number)))
            self._told(self._jobs[number])

    def silent_for_s(self, number: int) -> float:
        """For how long the card that a running job reads has not answered a call, in seconds, as the job says it."""
        running = self._running.get(number)
        return running.silent_s if running is not None else 0.0

    def progress(self, number: int) -> Progress | None:
        """The newest progress of a running job."""
        running = self._running.get(number)
        return running.progress if running is not None else None

    def jobs(self) -> list[Job]:
        """All jobs of this run of the application, in order of their numbers."""
        # One step, without the lock: whoever puts thousands into the queue keeps that for a while.
        return sorted(self._jobs.values(), key=_number)

    def at_work(self) -> list[Job]:
        """Those whose processes run."""
        # One step as well.
        return [self._jobs[number] for number in list(self._running)]

    def count(self, *states: State) -> int:
        """How many jobs of this run of the application are in some states."""
        return sum(self._counts[state] for state in states)

    def close(self) -> None:
        """Stops every process and waits for it; the jobs stay in the ledger and go on at the next start."""
        with self._lock:
            self._closing = True
            running = list(self._running.values())
            patience_s = max((each.ask_to_stop() for each in running), default=PATIENCE_S)
        until_s = time.monotonic() + patience_s
        for ended in list(self._followed):
            ended.wait(max(0.0, until_s - time.monotonic()))
        for each in running:
            if not each.ended:
                each.kill()
        for ended in list(self._followed):
            # They reap what was killed; not those of a process that the system cannot end.
            ended.wait(_KILLED_S)
        self._background.close()
        self._records.close()

    # -- instructions of the state machine; under the lock --------------------------------------

    def _obey(self, instructions: list[Instruction]) -> None:
        for instruction in instructions:
            if isinstance(instruction, StartWork):
                self._start(instruction.number)
            elif isinstance(instruction, StopWork):
                running = self._running.get(instruction.number)
                if running is not None:
                    self._later(running.ask_to_stop(), self._kill, instruction.number, running)

    def _kill(self, number: int, running: WorkerProcess) -> None:
        """Ends what did not stop when asked: a reader that hangs holds its process in one read."""
        if not running.ended:
            self._later(running.kill(), self._give_up, number, running)

    def _give_up(self, number: int, running: WorkerProcess) -> None:
        """The system itself cannot end a process while a device owes it an answer; nobody waits for that here."""
        if not running.ended and self._running.get(number) is running:
            self._end(number, _Ending(problem=_hangs(self._jobs[number].title)), running)

    def _later(
        self, seconds: float, doing: Callable[[int, WorkerProcess], None], number: int, running: WorkerProcess
    ) -> None:
        """Does something about a job's process after a while, unless it has ended by then."""
        timer = threading.Timer(seconds, doing, (number, running))
        timer.daemon = True
        self._timers[number] = timer
        timer.start()

    def _start(self, number: int) -> None:
        if self._closing:
            return
        self._put(replace(self._jobs[number], started=datetime.now(UTC)))
        # Gentle work gives way to all other as it is.
        gentle = self._kinds[self._jobs[number].kind].gentle
        running = self._running[number] = WorkerProcess(beside=0 if gentle else len(self._running))
        self._follow(number)
        # The process is started, and the request written, where nobody waits: that of a large card is megabytes.
        ended = self._background.do(partial(self._run, number, running))
        self._followed = [each for each in self._followed if not each.is_set()] + [ended]

    # -- a job's own thread ----------------------------------------------------------------------

    def _run(self, number: int, running: WorkerProcess) -> None:
        job = self._jobs[number]
        ending = _Ending(problem=_died(job.title))
        try:
            for message in running.lines({"kind": job.kind, "request": to_text(job.request)}):
                self._hear(number, message, running, ending)
        except Exception as error:
            # Whatever it is: the job ends, and its resource is free again.
            LOG.exception("job %s", number)
            ending = _Ending(problem=_failed(job.title, error))
        if ending.state is State.FAILED and self._jobs[number].state is State.STOPPING and running.was_killed:
            ending.state = State.STOPPED
        self._end(number, ending, running)

    def _hear(self, number: int, message: dict[str, Any], running: WorkerProcess, ending: _Ending) -> None:
        kind = self._kinds[self._jobs[number].kind]
        if "progress" in message:
            running.note(message["progress"])
        elif "silent" in message:
            running.silent_s = float(message["silent"])
        elif "part" in message:
            self._take_part(number, from_text(kind.part, message["part"]))
        elif "result" in message:
            ending.result = from_text(kind.result, message["result"])
            ending.state = State.STOPPED if kind.was_stopped(ending.result) else State.DONE
        elif "stopped" in message:
            ending.state = State.STOPPED
        elif "problem" in message:
            ending.problem = Problem(**message["problem"])

    def _take_part(self, number: int, part: Any) -> None:
        """A part of a result: written down and told at once, so that nobody waits for the rest."""
        with suppress(LedgerError):
            self._part_came(self._jobs[number], part)

    def _end(self, number: int, ending: _Ending, running: WorkerProcess) -> None:
        if (timer := self._timers.pop(number, None)) is not None:
            timer.cancel()
        if self._closing and ending.state is not State.DONE:
            # It goes on at the next start.
            return
        if self._running.get(number) is not running:
            # It was given up before, and has died at last.
            return
        problem = ending.problem if ending.state is State.FAILED else None
        job = replace(
            self._jobs[number], result=ending.result, problem=problem, ended=datetime.now(UTC), state=ending.state
        )
        if ending.result is not None:
            # Before the lock: writing a large card down takes a while, and nobody must wait for it.
            job = self._written_down(job)
        with self._lock:
            self._put(job)
            self._running.pop(number, None)
            instructions = self._state.handle(Ended(number, job.state))
            self._follow(number)
            self._obey(instructions)

    def _written_down(self, job: Job) -> Job:
        try:
            return replace(job, noted=self._finished(job))
        except LedgerError as error:
            self._records.do(lambda: self._write_down_again(job))
            return replace(job, problem=_not_written(error.problem))
        except Exception as error:
            LOG.exception("what job %s left could not be written down", job.number)
            return replace(job, problem=_failed(job.title, error))

    def _write_down_again(self, job: Job) -> None:
        """What a job left, as soon as the ledger takes it; then it is told once more, without the problem."""
        noted = self._finished(job)
        with self._lock:
            current = self._jobs[job.number]
            if current.ended == job.ended:
                self._put(replace(current, problem=None, noted=noted))
                self._follow(job.number)

    def _put(self, job: Job) -> None:
        """Under the lock."""
        before = self._jobs.get(job.number)
        # Counted as it is now first: who counts meanwhile, without the lock, may find one too many, and never too few.
        self._counts[job.state] += 1
        if before is not None:
            self._counts[before.state] -= 1
        self._jobs[job.number] = job

    def _follow(self, number: int) -> None:
        """Takes over the state of the state machine, has it written down and tells it."""
        job = replace(self._jobs[number], state=self._state.entries[number].state)
        self._put(job)
        self._records.follow(number, job.state, job.started, job.ended, job.problem)
        self._told(job)


_number = attrgetter("number")


def _hangs(title: str) -> Problem:
    return Problem(
        f"{title}: it could not be stopped, its reader or disk does not answer.",
        "",
        "Originals and finished copies are untouched.",
        "Pull the card out and try another reader or cable; it goes on where it stopped.",
    )


def _died(title: str) -> Problem:
    return Problem(
        f"{title}: its process ended without a word.",
        "",
        "Originals and finished copies are untouched.",
        "Try it again; it goes on where it stopped.",
    )


def _failed(title: str, error: Exception) -> Problem:
    return Problem(
        f"{title}: the program failed at this: {error!r}.",
        "",
        "Originals and finished copies are untouched.",
        "Try it again; it goes on where it stopped.",
    )


def _not_written(problem: Problem) -> Problem:
    return Problem(
        f"It is done, but not in the ledger yet. {problem.what}",
        problem.path,
        "The copies and their manifests stand.",
        "Close other programs that use the ledger, and make room on its disk: it is written as soon as it can be.",
    )
