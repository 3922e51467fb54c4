"""All jobs in one list, the newest first."""

from __future__ import annotations

import time
from collections.abc import Callable
from dataclasses import dataclass

from diadoche.core.sizes import clock_text, size_text, wait_text
from diadoche.screens.marks import Mark
from diadoche.services.machine.load import LoadMeter
from diadoche.services.queue.runner import Job, Runner
from diadoche.services.queue.states import State

COLUMNS = ("Job", "State", "How far", "Time")
_MARKS = {
    State.WAITING: Mark.EXPECTED,
    State.RUNNING: Mark.UNDER_WAY,
    State.STOPPING: Mark.UNDER_WAY,
    State.DONE: Mark.DONE,
    State.FAILED: Mark.PROBLEM,
    State.STOPPED: Mark.STOPPED,
}


@dataclass(frozen=True, slots=True)
class WorkRow:
    """A job as the list shows it."""

    number: int
    title: str
    state: str
    far: str
    time: str
    percent: int | None
    mark: Mark
    can_stop: bool
    can_retry: bool
    can_be_first: bool
    detail: str


class WorkScreen:
    """What the work view shows and allows."""

    def __init__(self, runner: Runner) -> None:
        self._runner = runner
        self.on_change: Callable[[], None] = lambda: None
        self._meter = LoadMeter()
        self._looked_s = 0.0
        self._load_words = ""
        self._jobs: list[Job] = []
        self._at_work: dict[str, str] = {}

    def refresh(self) -> None:
        """Takes the jobs as they are now: every one of this run of the application, the newest first."""
        self._jobs = list(reversed(self._runner.jobs()))
        self._at_work = self._titles_at_work()

    def __len__(self) -> int:
        return len(self._jobs)

    def row(self, place: int) -> WorkRow:
        """How a job stands. There may be thousands: only those that are seen are put into words."""
        return self._row(self._jobs[place], self._at_work)

    def place_of(self, number: int) -> int | None:
        """Where a job stands in the list."""
        return next((place for place, job in enumerate(self._jobs) if job.number == number), None)

    def rows(self) -> list[WorkRow]:
        """Every job as it is at this moment, whatever the list shows."""
        at_work = self._titles_at_work()
        return [self._row(job, at_work) for job in reversed(self._runner.jobs())]

    def running(self) -> int:
        """How many run now."""
        return self._runner.count(State.RUNNING, State.STOPPING)

    def summary(self) -> str:
        """The words under the view's name."""
        running, waiting = self.running(), self._runner.count(State.WAITING)
        if running:
            return f"{running} at work" + (f", {waiting} waiting" if waiting else "")
        return f"{waiting} waiting" if waiting else "idle"

    def load(self) -> str:
        """How busy the machine is, measured once a second."""
        now_s = time.monotonic()
        if now_s - self._looked_s >= 1.0:
            self._looked_s = now_s
            load = self._meter.look()
            disks = f"disks read {size_text(load.read_bytes_s)} and write {size_text(load.write_bytes_s)} a second"
            self._load_words = f"Processor {load.processor_percent:.0f} %, memory {load.memory_percent:.0f} %, {disks}"
        return self._load_words

    def stop(self, number: int) -> None:
        """Stops a job."""
        self._runner.stop(number)

    def do_first(self, number: int) -> None:
        """Lets a waiting job be the next one."""
        self._runner.do_first(number)

    def retry(self, number: int) -> None:
        """Does a failed or stopped job again."""
        self._runner.retry(number)

    def _titles_at_work(self) -> dict[str, str]:
        """What is at work on each resource."""
        return {job.resource: job.title for job in self._runner.at_work()}

    def _row(self, job: Job, at_work: dict[str, str]) -> WorkRow:
        progress = self._runner.progress(job.number) if job.state is State.RUNNING else None
        percent = progress.percent if progress is not None and progress.total else None
        detail = job.problem.sentence() if job.problem else _waits_for(job, at_work)
        undelivered = job.kind == "make" and job.state is State.DONE and not job.result.output
        mark = Mark.PROBLEM if undelivered else _MARKS[job.state]
        if undelivered:
            detail = job.result.problems[0].sentence() if job.result.problems else "Not delivered."
        return WorkRow(
            job.number,
            job.title,
            "not delivered" if undelivered else job.state.value,
            f"{percent} %" if percent is not None else "",
            _time(job, percent),
            percent,
            mark,
            job.state in {State.WAITING, State.RUNNING},
            job.state in {State.FAILED, State.STOPPED},
            job.state is State.WAITING,
            detail,
        )


def _waits_for(job: Job, at_work: dict[str, str]) -> str:
    before = at_work.get(job.resource) if job.state is State.WAITING else None
    return f"Waits for: {before}" if before else ""


def _time(job: Job, percent: int | None) -> str:
    if job.started is None:
        return ""
    if job.ended is not None:
        return f"took {clock_text((job.ended - job.started).total_seconds())}"
    passed = time.time() - job.started.timestamp()
    if percent is None or percent < 3 or passed < 1:
        return ""
    return f"{wait_text(passed * (100 - percent) / percent)} left"
