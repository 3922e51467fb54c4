"""The queue: its states as events and instructions, and real processes behind it."""

from __future__ import annotations

import io
import json
import os
import threading
import time
from collections.abc import Iterator
from dataclasses import replace
from pathlib import Path

import psutil
import pytest
from hypothesis import given
from hypothesis import strategies as st
from sqlalchemy import Engine, event, select

from diadoche.core.watch import Progress
from diadoche.demo.faulty_folder import Faults
from diadoche.services.jobs.all_kinds import ALL_KINDS
from diadoche.services.jobs.list_card import ListCardRequest
from diadoche.services.jobs.offload import OffloadRequest
from diadoche.services.ledger.ledger import Ledger
from diadoche.services.ledger.models import JobRow
from diadoche.services.ledger.shoots import open_shoot
from diadoche.services.queue.runner import Job, NewJob, Runner
from diadoche.services.queue.states import (
    Added,
    Ended,
    FirstAsked,
    QueueState,
    RetryAsked,
    StartWork,
    State,
    StopAsked,
    StopWork,
)
from diadoche.services.queue.worker import Speaker
from tests.mounts import Mounter
from tests.system_bus import wait_until


def test_one_at_a_time_of_a_resource_and_offloads_first() -> None:
    queue = QueueState({"encode": 1})
    assert queue.handle(Added(1, "encode", 2)) == [StartWork(1)]
    assert queue.handle(Added(2, "encode", 2)) == []
    assert queue.handle(Added(3, "encode", 0)) == []
    assert queue.handle(Added(4, "card:x", 0)) == [StartWork(4)]
    assert queue.handle(Ended(1, State.DONE)) == [StartWork(3)]


def test_what_measures_has_its_resource_for_itself() -> None:
    queue = QueueState({"encode": 2})
    assert queue.handle(Added(1, "encode", 2)) == [StartWork(1)]
    assert queue.handle(Added(2, "encode", 3, alone=True)) == []
    # Of a lower rank it waits; once it is first, nobody overtakes it.
    assert queue.handle(Added(3, "encode", 2)) == [StartWork(3)]
    assert queue.handle(FirstAsked(2)) == []
    assert queue.handle(Added(4, "encode", 2)) == []
    assert queue.handle(Ended(1, State.DONE)) == []
    assert queue.handle(Ended(3, State.DONE)) == [StartWork(2)]
    assert queue.handle(Added(5, "encode", 1)) == []
    assert queue.handle(Ended(2, State.DONE)) == [StartWork(5), StartWork(4)]


def test_stop_retry_and_late_requests() -> None:
    queue = QueueState({})
    queue.handle(Added(1, "a", 0))
    queue.handle(Added(2, "a", 0))
    assert queue.handle(StopAsked(2)) == []
    assert queue.entries[2].state is State.STOPPED
    assert queue.handle(StopAsked(1)) == [StopWork(1)]
    assert queue.handle(StopAsked(1)) == []
    assert queue.handle(Ended(1, State.STOPPED)) == []
    assert queue.handle(StopAsked(1)) == []
    assert queue.handle(RetryAsked(2)) == [StartWork(2)]
    with pytest.raises(ValueError, match="no job 9"):
        queue.handle(Ended(9, State.DONE))
    with pytest.raises(ValueError, match="already"):
        queue.handle(Added(1, "a", 0))


@given(
    st.lists(
        st.tuples(st.sampled_from(["add", "stop", "retry", "done", "fail"]), st.integers(1, 6), st.sampled_from("ab")),
        max_size=60,
    )
)
def test_no_sequence_of_events_overbooks_a_resource(events: list[tuple[str, int, str]]) -> None:
    queue = QueueState({"a": 2, "b": 1})
    for what, number, resource in events:
        if what == "add" and number not in queue.entries:
            queue.handle(Added(number, resource, number % 3))
        elif what != "add" and number in queue.entries:
            events_of: dict[str, StopAsked | RetryAsked | Ended] = {
                "stop": StopAsked(number),
                "retry": RetryAsked(number),
                "done": Ended(number, State.DONE),
                "fail": Ended(number, State.FAILED),
            }
            queue.handle(events_of[what])
        busy = [entry.resource for entry in queue.entries.values() if entry.state in {State.RUNNING, State.STOPPING}]
        assert busy.count("a") <= 2
        assert busy.count("b") <= 1
        waiting = {entry.resource for entry in queue.entries.values() if entry.state is State.WAITING}
        assert not ("b" in waiting and busy.count("b") == 0)


class Told:
    """Collects what a runner tells, and waits for a state without sleeping."""

    def __init__(self) -> None:
        self.jobs: list[Job] = []
        self._changed = threading.Condition()

    def __call__(self, job: Job) -> None:
        with self._changed:
            self.jobs.append(job)
            self._changed.notify_all()

    def wait_for(self, number: int, *states: State, timeout_s: float = 60) -> Job:
        def found() -> Job | None:
            return next((job for job in reversed(self.jobs) if job.number == number and job.state in states), None)

        with self._changed:
            assert self._changed.wait_for(lambda: found() is not None, timeout_s), [
                (j.number, j.state) for j in self.jobs
            ]
            job = found()
        assert job is not None
        return job


@pytest.fixture
def told() -> Told:
    return Told()


@pytest.fixture
def ledger(tmp_path: Path) -> Iterator[Ledger]:
    made = Ledger(tmp_path / "state" / "ledger.sqlite")
    yield made
    made.close()


def runner_of(ledger: Ledger, told: Told) -> Runner:
    return Runner(ledger, ALL_KINDS, told, lambda _job: None)


def test_a_job_runs_in_a_process_and_its_result_comes_back(ledger: Ledger, told: Told, drone: Path) -> None:
    runner = runner_of(ledger, told)
    number = runner.add("look", "List", "look:x", ListCardRequest(drone))
    job = told.wait_for(number, State.DONE)
    assert [clip.name for clip in job.result.clips] == ["DRON0001", "DRON0002", "DRON0003"]
    assert [each.state for each in told.jobs] == [State.WAITING, State.RUNNING, State.DONE]
    runner.close()


def test_jobs_that_are_asked_for_together_are_written_down_together(ledger: Ledger, told: Told, drone: Path) -> None:
    runner = runner_of(ledger, told)
    inserts: list[str] = []

    def note(_connection: object, _cursor: object, statement: str, *_rest: object) -> None:
        if "INTO jobs" in statement:
            inserts.append(statement)

    event.listen(Engine, "before_cursor_execute", note)
    wanted = [NewJob("look", f"List {place}", "look:x", ListCardRequest(drone)) for place in range(12)]
    numbers = runner.add_all(wanted)
    assert numbers == list(range(numbers[0], numbers[0] + 12))
    assert [job.title for job in runner.jobs()] == [each.title for each in wanted]
    # Several are at work at once: the last one may be done before the one before it.
    for number in numbers:
        told.wait_for(number, State.DONE)
    begun = [job.number for job in told.jobs if job.state is State.RUNNING]
    assert begun == numbers
    assert (runner.count(State.DONE), runner.count(State.WAITING, State.RUNNING, State.STOPPING)) == (12, 0)
    assert runner.at_work() == []
    runner.close()
    event.remove(Engine, "before_cursor_execute", note)
    assert len(inserts) == 1
    with ledger.session() as session:
        kept = session.execute(select(JobRow.id, JobRow.title, JobRow.state).order_by(JobRow.id)).all()
    assert [(number, title) for number, title, _state in kept] == [
        (number, each.title) for number, each in zip(numbers, wanted, strict=True)
    ]
    assert [(number, state) for number, _title, state in kept if state != "done"] == []


def test_an_expected_failure_is_a_problem_in_words(ledger: Ledger, told: Told, tmp_path: Path) -> None:
    runner = runner_of(ledger, told)
    job = told.wait_for(runner.add("look", "List", "look:x", ListCardRequest(tmp_path / "none")), State.FAILED)
    assert job.problem is not None
    assert "nothing at" in job.problem.what
    runner.close()


def slow_offload(card: Path, place: Path, shoot_id: int) -> OffloadRequest:
    return OffloadRequest(card, (place,), shoot_id, "S", pace_bytes_s=1_000_000)


def test_a_job_is_stopped_and_says_so(ledger: Ledger, told: Told, drone: Path, tmp_path: Path) -> None:
    runner = runner_of(ledger, told)
    number = runner.add("offload", "Offload", "card:x", slow_offload(drone, tmp_path / "a", open_shoot(ledger, "S").id))
    told.wait_for(number, State.RUNNING)
    runner.stop(number)
    job = told.wait_for(number, State.DONE, State.STOPPED)
    assert job.state is State.STOPPED or job.result.result.stopped
    runner.close()


def _total(runner: Runner, number: int) -> int:
    progress = runner.progress(number)
    return progress.total if progress is not None else 0


def test_a_killed_process_is_a_named_failure_and_can_be_retried(
    ledger: Ledger, told: Told, drone: Path, tmp_path: Path
) -> None:
    runner = runner_of(ledger, told)
    number = runner.add("offload", "Offload", "card:x", slow_offload(drone, tmp_path / "a", open_shoot(ledger, "S").id))
    told.wait_for(number, State.RUNNING)
    wait_until(lambda: _total(runner, number) > 0, 30, "the process has begun")
    runner._running[number].kill()
    job = told.wait_for(number, State.FAILED)
    assert job.problem is not None
    assert "ended without a word" in job.problem.what
    runner.retry(number)
    job = told.wait_for(number, State.DONE)
    assert job.result.result.copies[0].status == "proven"
    runner.close()


def test_unfinished_jobs_go_on_at_the_next_start(ledger: Ledger, told: Told, drone: Path, tmp_path: Path) -> None:
    first = runner_of(ledger, told)
    number = first.add("offload", "Offload", "card:x", slow_offload(drone, tmp_path / "a", open_shoot(ledger, "S").id))
    told.wait_for(number, State.RUNNING)
    first.close()
    again = Told()
    second = runner_of(ledger, again)
    assert [job.number for job in second.recover()] == [number]
    job = again.wait_for(number, State.DONE)
    assert job.result.result.copies[0].status == "proven"
    second.close()


def test_what_is_asked_for_first_is_the_next_one() -> None:
    queue = QueueState({"encode": 1})
    for number in range(1, 5):
        queue.handle(Added(number, "encode", 2))
    assert queue.handle(FirstAsked(4)) == []
    assert queue.handle(FirstAsked(1)) == []
    assert queue.handle(Ended(1, State.DONE)) == [StartWork(4)]
    assert queue.handle(Ended(4, State.DONE)) == [StartWork(2)]


def test_a_running_job_is_paused_goes_on_and_says_when_it_stands_still(
    ledger: Ledger, told: Told, drone: Path, tmp_path: Path
) -> None:
    runner = Runner(ledger, ALL_KINDS, told, lambda _job: None)
    shoot = open_shoot(ledger, "Rock")
    request = OffloadRequest(drone, (tmp_path / "a",), shoot.id, shoot.name, pace_bytes_s=1_500_000, try_copy=False)
    number = runner.add("offload", "Offload", "card:x", request)
    try:
        wait_until(lambda: (runner.progress(number) or Progress(0, 1)).percent > 5, 30, "some progress")
        runner.pause(number, paused=True)
        assert runner.is_paused(number)
        # However many are at work: the window comes first on the processor.
        workers = [each for each in psutil.Process().children(recursive=True) if each.name() == "worker"]
        assert workers
        assert min(each.nice() for each in workers) > os.nice(0)
        wait_until(lambda: _stands_still(runner, number), 10, "standing still")
        # It comes no further, but no call to the card is open: that is no reader that hangs.
        assert runner.silent_for_s(number) == 0.0
        runner.pause(number, paused=False)
        assert not runner.is_paused(number)
        wait_until(lambda: runner.jobs()[0].state is State.DONE, 60, "the end")
        assert runner.progress(number) is None
    finally:
        runner.close()
    assert runner.jobs()[0].result.result.copies[0].status == "proven"


def test_a_reader_that_hangs_is_told_by_the_call_that_does_not_return(
    ledger: Ledger, told: Told, drone: Path, tmp_path: Path, faulty: Mounter
) -> None:
    reader = faulty(drone)
    runner = runner_of(ledger, told)
    shoot = open_shoot(ledger, "Rock")
    request = OffloadRequest(reader.point, (tmp_path / "a",), shoot.id, shoot.name, pace_bytes_s=500_000)
    number = runner.add("offload", "Offload", "card:x", replace(request, try_copy=False))
    try:
        wait_until(lambda: bool((runner.progress(number) or Progress(0, 1)).parts), 30, "copying has begun")
        assert runner.silent_for_s(number) == 0.0
        reader.set(Faults(hangs=True))
        wait_until(lambda: runner.silent_for_s(number) > 3.0, 30, "a word about the hanging call")
        reader.set(Faults())
        wait_until(lambda: runner.silent_for_s(number) == 0.0, 30, "a word that it answers again")
        assert told.wait_for(number, State.DONE).result.result.copies[0].status == "proven"
    finally:
        runner.close()


def _stands_still(runner: Runner, number: int) -> bool:
    before = runner.progress(number)
    time.sleep(0.4)
    return runner.progress(number) == before


def test_progress_is_told_ten_times_a_second_and_every_change_at_once() -> None:
    out = io.StringIO()
    speaker = Speaker(out)
    for done in range(10_001):
        speaker.progress(Progress(done, 10_000, "rewrapping" if done < 5000 else "checking"))
    told = [json.loads(line)["progress"] for line in out.getvalue().splitlines()]
    assert len(told) < 100
    assert told[0]["done"] == 0
    assert {"done": 5000, "note": "checking"}.items() <= next(
        each for each in told if each["note"] == "checking"
    ).items()
    assert told[-1]["done"] == 10_000
