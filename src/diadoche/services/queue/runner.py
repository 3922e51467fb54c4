"""Runs jobs in worker processes, as the state machine says, and keeps them in the ledger.

Changes are told under the lock that made them, so that nobody sees an older state after a newer
one; progress is not told, it is fetched.
"""

from __future__ import annotations

import json
import subprocess
import sys
import threading
import time
from collections.abc import Callable
from contextlib import suppress
from dataclasses import dataclass, field, replace
from datetime import UTC, datetime
from typing import Any

from sqlalchemy import select

from diadoche.core.errors import LedgerError, Problem
from diadoche.core.watch import Part, Progress
from diadoche.services.jobs.job_kind import JobKind
from diadoche.services.ledger.ledger import Ledger
from diadoche.services.ledger.models import JobRow
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
from diadoche.services.wire import from_text, to_text

# Two cores: one conversion at a time uses both; looking and identifying are short.
LIMITS = {"look": 2, "facts": 1, "encode": 1}
_PATIENCE_S = 10.0
# The window comes first: it needs little, but it needs that at once.
_NICE = 10
_KILLED_S = 3.0
_CLOSING_S = 20.0


@dataclass(frozen=True, slots=True)
class Job:
    """A job as the screens see it."""

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


@dataclass(slots=True)
class _Running:
    process: subprocess.Popen[str]
    progress: Progress = field(default_factory=lambda: Progress(0, 0))
    paused: bool = False
    moved_s: float = field(default_factory=time.monotonic)


class Runner:
    """The queue of this application."""

    def __init__(
        self,
        ledger: Ledger,
        kinds: dict[str, JobKind],
        told: Callable[[Job], None],
        finished: Callable[[Job], None],
        part_came: Callable[[Job, Any], None] = lambda _job, _part: None,
    ) -> None:
        """
        Args:
            ledger: where jobs are kept.
            kinds: what can be run.
            told: called with every change of a job, from any thread; must only pass it on.
            finished: called once with each job that is done, before that is told: writes its result down.
            part_came: called with what a running job gives before its end, from any thread.
        """
        self._ledger = ledger
        self._kinds = kinds
        self._told = told
        self._finished = finished
        self._part_came = part_came
        self._state = QueueState(LIMITS)
        self._jobs: dict[int, Job] = {}
        self._running: dict[int, _Running] = {}
        self._lock = threading.RLock()
        self._threads: list[threading.Thread] = []
        self._closing = False

    def add(self, kind: str, title: str, resource: str, request: object) -> int:
        """Puts a job into the queue and the ledger, and gives its number."""
        now = datetime.now(UTC)
        with self._ledger.session() as session:
            row = JobRow(
                kind=kind,
                title=title,
                resource=resource,
                request=to_text(request),
                state=State.WAITING.value,
                created=now,
                outcome="",
            )
            session.add(row)
            session.flush()
            number = row.id
        self._enter(Job(number, kind, title, resource, request, State.WAITING, now))
        return number

    def recover(self) -> list[Job]:
        """Takes up what an earlier run of the application left waiting or running."""
        open_states = [State.WAITING.value, State.RUNNING.value, State.STOPPING.value]
        with self._ledger.session() as session:
            rows = session.scalars(select(JobRow).where(JobRow.state.in_(open_states)).order_by(JobRow.id)).all()
            jobs = [
                Job(
                    row.id,
                    row.kind,
                    row.title,
                    row.resource,
                    from_text(self._kinds[row.kind].request, row.request),
                    State.WAITING,
                    row.created.replace(tzinfo=UTC),
                )
                for row in rows
                if row.kind in self._kinds and row.kind != "look"
            ]
            for row in rows:
                if row.kind == "look":
                    row.state = State.STOPPED.value
        for job in jobs:
            self._enter(job)
        return jobs

    def _enter(self, job: Job) -> None:
        with self._lock:
            self._jobs[job.number] = job
            self._told(job)
            self._obey(self._state.handle(Added(job.number, job.resource, self._kinds[job.kind].rank)))

    def stop(self, number: int) -> None:
        """Asks a job to stop, or takes it out of the queue."""
        with self._lock:
            self._obey(self._state.handle(StopAsked(number)))
            self._follow(number)

    def retry(self, number: int) -> None:
        """Puts a failed or stopped job in the queue again."""
        with self._lock:
            self._jobs[number] = replace(self._jobs[number], problem=None, result=None, ended=None)
            instructions = self._state.handle(RetryAsked(number))
            self._follow(number)
            self._obey(instructions)

    def pause(self, number: int, *, paused: bool) -> None:
        """Lets a running job stand still, or go on."""
        running = self._running.get(number)
        if running is not None and running.paused != paused:
            running.paused, running.moved_s = paused, time.monotonic()
            _say(running.process, "pause" if paused else "resume")
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

    def still_for_s(self, number: int) -> float:
        """For how long a running job has not come further, in seconds; 0 while it is paused."""
        running = self._running.get(number)
        return time.monotonic() - running.moved_s if running is not None and not running.paused else 0.0

    def progress(self, number: int) -> Progress | None:
        """The newest progress of a running job."""
        running = self._running.get(number)
        return running.progress if running is not None else None

    def jobs(self) -> list[Job]:
        """All jobs of this run of the application, in order of their numbers."""
        with self._lock:
            return [self._jobs[number] for number in sorted(self._jobs)]

    def close(self) -> None:
        """Stops every process and waits for it; the jobs stay in the ledger and go on at the next start."""
        with self._lock:
            self._closing = True
            running = list(self._running.values())
            for each in running:
                _say(each.process, "stop")
        until_s = time.monotonic() + _CLOSING_S
        for thread in list(self._threads):
            thread.join(timeout=max(0.0, until_s - time.monotonic()))
        for each in running:
            if each.process.poll() is None:
                each.process.kill()

    def _obey(self, instructions: list[Instruction]) -> None:
        for instruction in instructions:
            if isinstance(instruction, StartWork):
                self._start(instruction.number)
            elif isinstance(instruction, StopWork):
                running = self._running.get(instruction.number)
                if running is not None:
                    _say(running.process, "stop")
                    _later(_PATIENCE_S, self._kill, instruction.number, running)

    def _kill(self, number: int, running: _Running) -> None:
        """Ends what did not stop when asked: a reader that hangs holds its process in one read."""
        if running.process.poll() is None:
            running.process.kill()
            _later(_KILLED_S, self._give_up, number, running)

    def _give_up(self, number: int, running: _Running) -> None:
        """The system itself cannot end a process while a device owes it an answer; nobody waits for that here."""
        if running.process.poll() is None and self._running.get(number) is running:
            self._end(number, State.FAILED, None, _hangs(self._jobs[number].title), running)

    def _start(self, number: int) -> None:
        if self._closing:
            return
        job = replace(self._jobs[number], started=datetime.now(UTC))
        self._jobs[number] = job
        process = subprocess.Popen(
            ["nice", "-n", str(_NICE), sys.executable, "-m", "diadoche.services.queue.worker"],
            stdin=subprocess.PIPE,
            stdout=subprocess.PIPE,
            text=True,
            encoding="ascii",
            # A group of its own keeps the terminal's Ctrl-C away. Not a session: the kernel shares the processors
            # between sessions first, and eight workers would leave the window a ninth.
            process_group=0,
        )
        assert process.stdin is not None
        process.stdin.write(json.dumps({"kind": job.kind, "request": to_text(job.request)}) + "\n")
        process.stdin.flush()
        running = _Running(process)
        self._running[number] = running
        self._follow(number)
        thread = threading.Thread(target=self._listen, args=(number, running), name=f"job {number}", daemon=True)
        self._threads.append(thread)
        thread.start()

    def _listen(self, number: int, running: _Running) -> None:
        process = running.process
        state, result, problem = State.FAILED, None, _died(self._jobs[number].title)
        assert process.stdout is not None
        for line in process.stdout:
            message = json.loads(line)
            if "progress" in message:
                progress = _progress(message["progress"])
                if progress.done != running.progress.done:
                    running.moved_s = time.monotonic()
                running.progress = progress
            elif "part" in message:
                self._came(number, message["part"])
            elif "result" in message:
                result = from_text(self._kinds[self._jobs[number].kind].result, message["result"])
                state = State.DONE
            elif "stopped" in message:
                state = State.STOPPED
            elif "problem" in message:
                problem = Problem(**message["problem"])
        process.wait()
        if state is State.FAILED and self._jobs[number].state is State.STOPPING and process.returncode < 0:
            state = State.STOPPED
        for pipe in (process.stdin, process.stdout):
            if pipe is not None:
                pipe.close()
        self._end(number, state, result, problem if state is State.FAILED else None, running)

    def _came(self, number: int, text: str) -> None:
        """A part of a result: written down and told at once, so that nobody waits for the rest."""
        job = self._jobs[number]
        part = from_text(self._kinds[job.kind].part, text)
        with suppress(LedgerError):
            self._part_came(job, part)

    def _end(self, number: int, state: State, result: Any, problem: Problem | None, running: _Running) -> None:
        if self._closing and state is not State.DONE:
            return
        if self._running.get(number) is not running:
            # It was given up before, and has died at last.
            return
        job = replace(self._jobs[number], result=result, problem=problem, ended=datetime.now(UTC), state=state)
        if state is State.DONE:
            # Before the lock: writing a large card down takes a while, and nobody must wait for it.
            try:
                self._finished(job)
            except LedgerError as error:
                job = replace(job, problem=error.problem, state=State.FAILED)
        with self._lock:
            self._jobs[number] = job
            self._running.pop(number, None)
            instructions = self._state.handle(Ended(number, job.state))
            self._follow(number)
            self._obey(instructions)

    def _follow(self, number: int) -> None:
        """Takes over the state of the state machine, writes it down and tells it."""
        state = self._state.entries[number].state
        job = replace(self._jobs[number], state=state)
        self._jobs[number] = job
        with self._ledger.session() as session:
            row = session.get_one(JobRow, number)
            row.state, row.started, row.ended = state.value, job.started, job.ended
            row.outcome = to_text(job.problem, Problem) if job.problem else ""
        self._told(job)


def _later(seconds: float, doing: Callable[[int, _Running], None], number: int, running: _Running) -> None:
    timer = threading.Timer(seconds, doing, (number, running))
    timer.daemon = True
    timer.start()


def _say(process: subprocess.Popen[str], word: str) -> None:
    try:
        if process.stdin is not None:
            process.stdin.write(word + "\n")
            process.stdin.flush()
    except (BrokenPipeError, ValueError):
        # It ended a moment ago by itself.
        return


def _progress(value: dict[str, Any]) -> Progress:
    return Progress(value["done"], value["total"], value["note"], tuple(Part(**part) for part in value["parts"]))


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
