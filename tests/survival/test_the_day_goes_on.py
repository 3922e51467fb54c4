"""Disks, readers, ledgers and processes that fail or hang: the other copies and the window go on, and it is said."""

from __future__ import annotations

import json
import os
import resource
import shutil
import sqlite3
import subprocess
import sys
import threading
import time
from collections.abc import Iterator
from contextlib import closing
from dataclasses import replace
from datetime import UTC, date, datetime
from pathlib import Path
from typing import Any

import pytest

from diadoche.core.answering import HANGS_S
from diadoche.core.cards.tree import list_tree
from diadoche.core.errors import LedgerError, Problem
from diadoche.core.offload.copies import CopyState
from diadoche.core.offload.journal import JOURNAL_NAME
from diadoche.core.offload.naming import NamingValues
from diadoche.core.offload.offload import OffloadResult, offload
from diadoche.core.offload.plan import OffloadPlan, PlanOptions, plan_offload
from diadoche.core.offload.verify import verify
from diadoche.core.watch import CARD_NOT_READ, Progress, Watch
from diadoche.demo.faulty_folder import Faults
from diadoche.screens.desk import Desk
from diadoche.screens.marks import Mark
from diadoche.screens.watch_line import watch_line
from diadoche.services.devices.disk_watch import Medium
from diadoche.services.jobs.all_kinds import ALL_KINDS
from diadoche.services.jobs.identify import perform_identify
from diadoche.services.jobs.list_card import ListCardRequest, perform_list_card
from diadoche.services.jobs.offload import OffloadRequest, perform_offload
from diadoche.services.ledger.copies import record_unreadable
from diadoche.services.ledger.job_results import record, record_copy_on, record_outcome
from diadoche.services.ledger.kept_clips import kept_clips
from diadoche.services.ledger.ledger import Ledger
from diadoche.services.ledger.opinions import Opinion, judge_clips
from diadoche.services.ledger.shoots import open_shoot
from diadoche.services.ledger.waybills import waybills
from diadoche.services.machine.one_window import OneWindow
from diadoche.services.processes.forked_process import ForkServer
from diadoche.services.queue import worker_process
from diadoche.services.queue.runner import Job, Runner
from diadoche.services.queue.states import State
from diadoche.services.station.card_in import Stage
from tests.conftest import diadoche
from tests.mounts import Mounter
from tests.recordings import cut_off
from tests.screens.scene import NotingRunner, Scene
from tests.snapshots import contents
from tests.system_bus import wait_until

pytestmark = pytest.mark.usefixtures("own_state")
VALUES = NamingValues("S", date(2026, 6, 14), "Camera")


def run(plan: OffloadPlan, watch: Watch | None = None, patience_s: float = 2.0, pace: int = 0) -> OffloadResult:
    return offload(
        plan, watch or Watch(), version="t", now=lambda: datetime.now(UTC), patience_s=patience_s, pace_bytes_s=pace
    )


def planned(card: Path, *places: Path, **options: Any) -> OffloadPlan:
    return plan_offload(list_tree(card), VALUES, places, PlanOptions(**options))


def statuses(result: OffloadResult) -> list[str]:
    return [copy.status for copy in result.copies]


# -- the engine ------------------------------------------------------------------------------------


def test_one_transient_read_error_drops_nobody(small_card: Path, faulty: Mounter, tmp_path: Path) -> None:
    reader = faulty(small_card)
    reader.set(Faults(read_error_at=2_000_000, read_error_once=True, file="ABCD0001.MP4"))
    result = run(planned(reader.point, tmp_path / "a", tmp_path / "b"))
    assert statuses(result) == ["proven", "proven"]
    assert result.problems == ()
    assert contents(Path(result.copies[0].root)) == contents(small_card)


def test_a_destination_that_hangs_for_good_holds_up_nobody(small_card: Path, faulty: Mounter, tmp_path: Path) -> None:
    """The whole command: it ends soon after the healthy copy's waybill, with what happened named."""
    disk = faulty(tmp_path / "behind", writable=True)
    out = (tmp_path / "out.json").open("wb")
    words = [sys.executable, "-m", "diadoche.main", "offload", str(small_card), "--json", "--shoot", "S"]
    command = subprocess.Popen([*words, "--to", str(tmp_path / "a"), "--to", str(disk.point)], stdout=out)
    try:
        wait_until(lambda: any((tmp_path / "behind").rglob(JOURNAL_NAME)), 60, "the disk is written to")
        disk.set(Faults(hangs=True, hangs_on_metadata=True))
        wait_until(lambda: any((tmp_path / "a").rglob("*.html")), 2 * HANGS_S + 60, "the healthy copy has its waybill")
        assert command.wait(10) == 1
    finally:
        command.kill()
        out.close()
    said = json.loads((tmp_path / "out.json").read_text())
    by_place = {copy["destination"]: copy["status"] for copy in said["copies"]}
    assert by_place[str(tmp_path / "a")] == "proven"
    if by_place[str(disk.point)] != "proven":
        assert by_place[str(disk.point)] == "failed"
        assert any("has not answered for 30 seconds" in problem["what"] for problem in said["problems"])
    root = next(Path(copy["root"]) for copy in said["copies"] if copy["status"] == "proven")
    assert verify(root, Watch()).clean


def test_a_slow_disk_does_not_hold_the_card_and_is_filled_afterwards(faulty: Mounter, tmp_path: Path) -> None:
    card = tmp_path / "card"
    card.mkdir()
    for number in range(3):
        # More than the ring holds, so that the reader has to wait.
        (card / f"C{number:04}.MOV").write_bytes(cut_off(40_000_000))
    disk = faulty(tmp_path / "behind", writable=True)
    states: set[str] = set()

    def look(progress: Progress) -> None:
        states.update(part.state for part in progress.parts)
        if progress.note == CARD_NOT_READ:
            disk.set(Faults())

    plan = planned(card, tmp_path / "a", disk.point)
    disk.set(Faults(slow_bytes_s=4_000_000))
    result = run(plan, Watch(look), patience_s=1.0)
    assert "dropped" in states
    assert statuses(result) == ["proven", "proven"]
    assert contents(Path(result.copies[1].root)) == contents(card)


@pytest.mark.long
def test_the_command_line_says_when_a_card_may_come_out_and_means_it(
    own_state: Path, faulty: Mounter, tmp_path: Path
) -> None:
    (tmp_path / "card").mkdir()
    for number in range(3):
        (tmp_path / "card" / f"C{number:04}.MOV").write_bytes(cut_off(40_000_000))
    before = contents(tmp_path / "card")
    card, disk = faulty(tmp_path / "card"), faulty(tmp_path / "behind", writable=True)
    disk.set(Faults(slow_bytes_s=1_000_000))
    words = ["offload", str(card.point), "--to", str(tmp_path / "a"), "--to", str(disk.point), "--json"]
    # The pace is measured over twenty seconds before a place is let go.
    with subprocess.Popen(
        [sys.executable, "-m", "diadoche.main", *words], stdout=subprocess.PIPE, stderr=subprocess.PIPE, text=True
    ) as process:
        assert process.stderr is not None
        for line in process.stderr:
            if "may come out now" in line:
                card.pull()
                disk.set(Faults())
                break
        said, _ = process.communicate()
    assert [copy["status"] for copy in json.loads(said)["copies"]] == ["proven", "proven"]
    assert all(contents(Path(copy["root"])) == before for copy in json.loads(said)["copies"])


def test_a_stop_while_much_waits_for_its_proof_ends_at_once(faulty: Mounter, tmp_path: Path) -> None:
    card = tmp_path / "card"
    card.mkdir()
    (card / "C0001.MOV").write_bytes(cut_off(30_000_000))
    disk = faulty(tmp_path / "behind", writable=True)
    plan = planned(card, disk.point)
    watch = Watch()
    ended: list[tuple[OffloadResult, float]] = []

    def work() -> None:
        ended.append((run(plan, watch), time.monotonic()))

    # Reading it back at this pace takes half a minute.
    disk.set(Faults(slow_reads_bytes_s=1_000_000))
    thread = threading.Thread(target=work)
    thread.start()
    behind = tmp_path / "behind"
    wait_until(lambda: sum(each.stat().st_size for each in behind.rglob("*MOV*")) == 30_000_000, 30, "it is written")
    asked_s = time.monotonic()
    watch.stop()
    thread.join(30)
    result, at_s = ended[0]
    assert result.stopped
    assert statuses(result) == ["incomplete"]
    # A call of four megabytes may be under way, which takes four seconds here; the proof takes thirty.
    assert at_s - asked_s < 12
    disk.set(Faults())
    # The call that was under way comes back; only then does it let the folder go.
    wait_until(lambda: statuses(run(planned(card, disk.point))) == ["proven"], 60, "it goes on")


def test_a_stop_after_the_card_was_pulled_is_a_stop_like_any_other(
    small_card: Path, faulty: Mounter, tmp_path: Path
) -> None:
    (small_card / "DCIM/100ABCDE/ABCD0007.MP4").write_bytes(cut_off(4_000_000))
    reader, disk = faulty(small_card), faulty(tmp_path / "behind", writable=True)
    plan = planned(reader.point, disk.point)
    disk.set(Faults(slow_reads_bytes_s=300_000))
    pulled: list[float] = []

    class PullsThenStops(Watch):
        def step(self, progress: Progress) -> None:
            # The first file is there; more than a second before all is read, for a busy machine tells this late.
            if progress.done > 5_200_000 and not pulled:
                reader.pull()
                pulled.append(time.monotonic())
            elif pulled and time.monotonic() - pulled[0] > 1:
                self.stop()
            super().step(progress)

    result = run(plan, PullsThenStops(), pace=3_000_000)
    assert result.stopped
    assert statuses(result) == ["incomplete"]
    assert any("went away" in problem.what for problem in result.problems)


def test_few_descriptors_are_enough_for_many_files(tmp_path: Path) -> None:
    card = tmp_path / "card"
    card.mkdir()
    for number in range(150):
        (card / f"C{number:04}.MOV").write_bytes(cut_off(600_000))
    words = [sys.executable, "-m", "diadoche.main", "offload", str(card), "--json", "--shoot", "S"]
    words += [word for name in "abc" for word in ("--to", str(tmp_path / name))]
    done = subprocess.run(
        words, capture_output=True, text=True, check=False,
        preexec_fn=lambda: resource.setrlimit(resource.RLIMIT_NOFILE, (120, 120)),
    )  # fmt: skip
    assert [copy["status"] for copy in json.loads(done.stdout)["copies"]] == ["proven"] * 3, done.stderr


def test_a_dead_mount_does_not_end_the_planning_of_all(small_card: Path, faulty: Mounter, tmp_path: Path) -> None:
    dead = faulty(tmp_path / "behind", writable=True)
    dead._process.kill()
    dead._process.wait()
    with pytest.raises(OSError, match="not connected"):
        os.listdir(dead.point)
    result = run(planned(small_card, dead.point, tmp_path / "a"))
    assert {copy.destination: copy.status for copy in result.copies} == {
        str(tmp_path / "a"): "proven", str(dead.point): "failed",
    }  # fmt: skip
    assert "cannot be" in result.problems[0].what


def test_a_folder_that_folds_case_without_saying_so_loses_nothing(faulty: Mounter, tmp_path: Path) -> None:
    card = tmp_path / "card"
    card.mkdir()
    (card / "clip.mov").write_bytes(b"small letters")
    (card / "CLIP.MOV").write_bytes(b"CAPITALS")
    disk = faulty(tmp_path / "behind", writable=True)
    disk.set(Faults(folds_case=True))
    result = run(planned(card, disk.point))
    assert statuses(result) == ["proven"]
    assert dict(result.renamed)
    kept = {each.read_bytes() for each in Path(result.copies[0].root).iterdir() if each.is_file()}
    assert kept == {b"small letters", b"CAPITALS"}


def test_names_of_ours_on_a_card_and_names_without_room_leave_nothing_behind(tmp_path: Path) -> None:
    card = tmp_path / "card"
    (card / ".part-diadoche").mkdir(parents=True)
    (card / ".part-diadoche/0000001 x").write_bytes(b"the card's own")
    (card / JOURNAL_NAME).write_text("the card was a copy once")
    (card / ("n" * 255)).write_bytes(b"long")
    result = run(planned(card, tmp_path / "a"))
    root = Path(result.copies[0].root)
    assert statuses(result) == ["proven"]
    renamed = dict(result.renamed)
    parts = renamed[".part-diadoche/0000001 x"]
    assert (root / parts).read_bytes() == b"the card's own"
    assert sorted(each.name for each in root.iterdir()) == sorted(
        [Path(parts).parent.name, "ascmhl", "n" * 255, Path(renamed[JOURNAL_NAME]).name]
    )


def test_two_places_on_one_filesystem_share_its_room(small_card: Path, small_disk: Path) -> None:
    (small_card / "DCIM/100ABCDE/ABCD0001.MP4").write_bytes(cut_off(2_500_000))
    plan = planned(small_card, small_disk / "one", small_disk / "two")
    assert [bool(target.problem) for target in plan.targets] == [False, True]
    assert "another place on the same filesystem" in plan.targets[1].problem.what  # type: ignore[union-attr]


def test_a_time_that_no_calendar_reaches_is_no_crash(small_disk: Path, tmp_path: Path) -> None:
    card = small_disk / "card"
    card.mkdir()
    (card / "C0001.MOV").write_bytes(b"x")
    os.utime(card / "C0001.MOV", (300_000_000_000, 300_000_000_000))
    done = diadoche("offload", card, "--to", tmp_path / "a", "--shoot", "S", "--json")
    assert "Traceback" not in done.stderr
    assert json.loads(done.stdout)["copies"][0]["status"] == "proven"


# -- the queue and the ledger ------------------------------------------------------------------------


class Told:
    """Keeps what the queue tells."""

    def __init__(self) -> None:
        self.jobs: dict[int, Job] = {}

    def __call__(self, job: Job) -> None:
        self.jobs[job.number] = job

    def wait_for(self, number: int, state: State, seconds: float = 60) -> Job:
        wait_until(lambda: number in self.jobs and self.jobs[number].state is state, seconds, f"{number} {state}")
        return self.jobs[number]


@pytest.fixture
def ledger(tmp_path: Path) -> Iterator[Ledger]:
    made = Ledger(tmp_path / "ledger.sqlite", wait_s=1)
    yield made
    made.close()


def test_a_ledger_that_is_held_as_a_job_ends_keeps_nothing_back(ledger: Ledger, drone: Path, tmp_path: Path) -> None:
    told = Told()
    runner = Runner(ledger, ALL_KINDS, told, lambda job: record(ledger, job))
    shoot = open_shoot(ledger, "S")
    try:
        request = OffloadRequest(drone, (tmp_path / "a",), shoot.id, "S", try_copy=False)
        number = runner.add("offload", "Offload", "card:x", request)
        told.wait_for(number, State.RUNNING)
        with closing(sqlite3.connect(ledger.path)) as held:
            held.execute("BEGIN IMMEDIATE")
            job = told.wait_for(number, State.DONE)
            assert job.problem is not None
            assert "not in the ledger yet" in job.problem.what
            # Its resource is free: the next job of the same card runs.
            other = runner.add("look", "List", "card:x", ListCardRequest(drone))
            told.wait_for(other, State.DONE)
            held.rollback()
        wait_until(lambda: told.jobs[number].problem is None, 30, "it is written down after all")
        assert waybills(ledger)[0].proven == 1
    finally:
        runner.close()


def test_an_error_in_what_follows_a_job_ends_that_job_alone(ledger: Ledger, drone: Path) -> None:
    told = Told()

    def fails(_job: Job) -> None:
        raise ZeroDivisionError

    runner = Runner(ledger, ALL_KINDS, told, fails)
    try:
        for number in [runner.add("look", "List", "look:x", ListCardRequest(drone)) for _ in range(2)]:
            job = told.wait_for(number, State.DONE)
            assert job.problem is not None
            assert "ZeroDivisionError" in job.problem.what
    finally:
        runner.close()


def test_a_worker_that_dies_in_the_middle_of_a_line_is_a_failed_job(
    ledger: Ledger, drone: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    """The module that the queue has forked is one that writes half a line and is gone."""
    monkeypatch.setattr(worker_process, "_WORKER", "tests.services.forked_half")
    told = Told()
    runner = Runner(ledger, ALL_KINDS, told, lambda job: record(ledger, job))
    try:
        job = told.wait_for(runner.add("look", "List", "look:x", ListCardRequest(drone)), State.FAILED)
        assert job.problem is not None
        assert "without a word" in job.problem.what
        assert runner.jobs()[0].state is State.FAILED
    finally:
        runner.close()


def test_where_no_process_can_be_made_jobs_fail_by_name_and_the_queue_goes_on(
    ledger: Ledger, drone: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    server = ForkServer()
    monkeypatch.setattr(worker_process, "FORK_SERVER", server)
    told = Told()
    runner = Runner(ledger, ALL_KINDS, told, lambda job: record(ledger, job))
    try:
        with monkeypatch.context() as patched:
            patched.setattr(sys, "executable", "/bin/false")
            job = told.wait_for(runner.add("look", "List", "look:x", ListCardRequest(drone)), State.FAILED)
        assert job.problem is not None
        assert "fork server has ended" in job.problem.what
        told.wait_for(runner.add("look", "List", "look:x", ListCardRequest(drone)), State.DONE)
    finally:
        runner.close()
        server.close()


def test_closing_during_an_offload_leaves_it_to_the_next_start(ledger: Ledger, drone: Path, tmp_path: Path) -> None:
    told = Told()
    shoot = open_shoot(ledger, "S")
    fingerprint = list_tree(drone).fingerprint()
    request = OffloadRequest(
        drone, (tmp_path / "a",), shoot.id, "S", pace_bytes_s=700_000, try_copy=False, fingerprint=fingerprint
    )
    first = Runner(ledger, ALL_KINDS, told, lambda job: record(ledger, job))
    number = first.add("offload", "Offload", "card:x", request)
    wait_until(lambda: any((tmp_path / "a").rglob(JOURNAL_NAME)), 60, "it is copied")
    first.close()
    assert told.jobs[number].state is not State.DONE
    second = Runner(ledger, ALL_KINDS, told, lambda job: record(ledger, job))
    try:
        assert [job.number for job in second.recover()] == [number]
        done = told.wait_for(number, State.DONE)
        assert done.result.result.proven_copies == 1
        assert len(list((tmp_path / "a").rglob("card-0*"))) == 1 + len(list((tmp_path / "a").rglob("card-0*.*")))
    finally:
        second.close()


def test_a_job_that_goes_on_makes_sure_of_its_card(
    ledger: Ledger, drone: Path, small_card: Path, tmp_path: Path
) -> None:
    shoot = open_shoot(ledger, "S")
    request = OffloadRequest(
        small_card, (tmp_path / "a",), shoot.id, "S", fingerprint=list_tree(drone).fingerprint(), try_copy=False
    )
    told = Told()
    runner = Runner(ledger, ALL_KINDS, told, lambda job: record(ledger, job))
    try:
        job = told.wait_for(runner.add("offload", "Offload", "card:x", request), State.FAILED)
        assert "not the card that was listed" in job.problem.what  # type: ignore[union-attr]
        assert not list((tmp_path).glob("a/**/*.MP4"))
    finally:
        runner.close()


def test_one_window_holds_a_ledger(tmp_path: Path) -> None:
    first, second = OneWindow(tmp_path / "ledger.sqlite"), OneWindow(tmp_path / "ledger.sqlite")
    assert first.take()
    assert not second.take()
    assert first.name == second.name
    first.let_go()
    assert second.take()
    second.let_go()


def test_completing_a_copy_keeps_what_was_said_of_its_clips(
    ledger: Ledger, drone: Path, faulty: Mounter, tmp_path: Path
) -> None:
    disk = faulty(tmp_path / "behind", writable=True)
    shoot = open_shoot(ledger, "S")
    disk.set(Faults(write_error=5, file="DRON0002"))
    request = OffloadRequest(drone, (tmp_path / "a", disk.point), shoot.id, "S", try_copy=False)
    number = record_outcome(ledger, request, perform_offload(request, Watch()))
    clips = kept_clips(ledger, shoot.id)
    judge_clips(ledger, [(clips[0].id, Opinion("keep", ("boat",), "the good one"))])
    disk.set(Faults())
    assert record_outcome(ledger, request, perform_offload(request, Watch())) == number
    (entry,) = waybills(ledger)
    assert entry.proven == 2 or {copy.status for copy in entry.copies} <= {CopyState.PROVEN, CopyState.GONE}
    after = {clip.id: clip for clip in kept_clips(ledger, shoot.id)}
    assert after[clips[0].id].opinion == Opinion("keep", ("boat",), "the good one")


def test_another_disk_at_the_same_place_leaves_the_first_ones_waybill(
    ledger: Ledger, drone: Path, small_card: Path, tmp_path: Path
) -> None:
    shoot = open_shoot(ledger, "S")
    requests = [
        OffloadRequest(card, (tmp_path / "a",), shoot.id, "S", "Camera", try_copy=False) for card in (drone, small_card)
    ]
    outcomes = []
    for number, request in enumerate(requests):
        outcome = perform_offload(request, Watch())
        copies = tuple(replace(copy, disk=f"disk:{number}") for copy in outcome.result.copies)
        outcomes.append(replace(outcome, result=replace(outcome.result, copies=copies)))
        record_outcome(ledger, request, outcomes[-1])
        # The disk goes into the drawer, and another one is mounted where it was.
        (tmp_path / "a").rename(tmp_path / f"drawer{number}")
    assert outcomes[0].result.copies[0].root.rpartition("/")[2] == outcomes[1].result.copies[0].root.rpartition("/")[2]
    assert [(entry.files, entry.proven) for entry in waybills(ledger)] == [(6, 1), (10, 1)]


@pytest.mark.usefixtures("known_disk")
def test_a_copy_whose_folder_another_took_or_that_cannot_be_read_is_proven_no_longer(
    ledger: Ledger, drone: Path, small_card: Path, tmp_path: Path
) -> None:
    shoot = open_shoot(ledger, "S")
    for card in (drone, small_card):
        request = OffloadRequest(card, (tmp_path / "a",), shoot.id, "S", "Camera", try_copy=False)
        shutil.rmtree(tmp_path / "a", ignore_errors=True)
        outcome = perform_offload(request, Watch())
        copies = tuple(replace(copy, root=f"{tmp_path}/a/one", disk="disk:known") for copy in outcome.result.copies)
        record_outcome(ledger, request, replace(outcome, result=replace(outcome.result, copies=copies)))
    assert [(entry.files, entry.proven) for entry in waybills(ledger)] == [(6, 1), (10, 0)]
    assert waybills(ledger)[1].copies[0].status is CopyState.GONE
    # The disk is not here: that it cannot be read says nothing of its copy.
    record_unreadable(ledger, tmp_path / "a/one", "no manifest")
    assert waybills(ledger)[0].proven == 1
    request = OffloadRequest(small_card, (tmp_path / "b",), shoot.id, "S", try_copy=False)
    outcome = perform_offload(request, Watch())
    record_outcome(ledger, request, outcome)
    record_unreadable(ledger, Path(outcome.result.copies[0].root), "no manifest")
    assert waybills(ledger)[0].proven == 0


def test_the_copy_of_a_ledger_before_an_upgrade_has_what_its_log_holds(tmp_path: Path) -> None:
    from diadoche.services.ledger.upgrade import _keep

    path = tmp_path / "ledger.sqlite"
    with closing(sqlite3.connect(path)) as writer:
        writer.execute("PRAGMA journal_mode=WAL")
        writer.execute("PRAGMA wal_autocheckpoint=0")
        writer.execute("CREATE TABLE t (x)")
        writer.execute("INSERT INTO t VALUES (7)")
        writer.commit()
        _keep(path, tmp_path / "kept.sqlite")
    with closing(sqlite3.connect(tmp_path / "kept.sqlite")) as kept:
        assert kept.execute("SELECT x FROM t").fetchall() == [(7,)]


# -- the station -------------------------------------------------------------------------------------


class RefusingRunner(NotingRunner):
    """A queue whose ledger cannot be written."""

    refuses = True

    def add(self, kind: str, title: str, resource: str, request: object) -> int:
        if self.refuses:
            raise LedgerError("The ledger is held by somebody else.")
        return super().add(kind, title, resource, request)


def test_outputs_that_an_earlier_run_left_in_the_queue_are_not_asked_for_twice(tmp_path: Path, drone: Path) -> None:
    scene = Scene(tmp_path)
    try:
        scene.offloaded(drone)
        look = scene.runner.last("identify")
        scene.tell(look, State.DONE, perform_identify(look.request, Watch()))
        wanted = scene.desk.outputs.make()
        left_open = [job for job in scene.runner.added if job.kind == "make"]
        assert len(left_open) == wanted > 1
        desk = Desk(scene.ledger, scene.runner, scene.station)  # type: ignore[arg-type]  # by hand
        desk.begin()
        again = desk.outputs
        assert again.to_make() == wanted
        again.taken_up(left_open)
        assert (again.to_make(), again.being_made()) == (0, wanted)
        assert again.summary() == f"{wanted} being made"
        again.job_ended(left_open[0].request)
        assert again.summary() == f"{wanted - 1} being made, 1 to make"
    finally:
        scene.close()


def test_outputs_that_could_not_be_asked_for_can_be_asked_for_again(tmp_path: Path, drone: Path) -> None:
    scene = Scene(tmp_path)
    try:
        scene.offloaded(drone)
        look = scene.runner.last("identify")
        scene.tell(look, State.DONE, perform_identify(look.request, Watch()))
        outputs = scene.desk.outputs
        wanted = outputs.to_make()
        assert wanted > 0
        scene.runner.__class__ = RefusingRunner
        with pytest.raises(LedgerError):
            outputs.make()
        assert outputs.to_make() == wanted
        assert not any(row.mark is Mark.UNDER_WAY for row in outputs.groups())
        scene.runner.__class__ = NotingRunner
        assert outputs.make() == wanted
    finally:
        scene.close()


def test_no_state_of_a_card_outlives_an_error_of_the_ledger(tmp_path: Path, drone: Path) -> None:
    scene = Scene(tmp_path)
    try:
        scene.listed(drone)
        scene.runner.__class__ = RefusingRunner
        scene.desk.cards.offload("r1")
        card = scene.station.cards["r1"]
        assert card.stage is Stage.PROBLEM
        assert "held by somebody" in card.problem.what  # type: ignore[union-attr]
        assert not card.stage.being_read
        scene.station.put_in(Medium("r2", drone, "Twin", "Reader 2"))
        assert scene.station.cards["r2"].stage is Stage.PROBLEM
        scene.runner.__class__ = NotingRunner
        scene.desk.cards.offload("r1")
        assert scene.station.cards["r1"].stage is Stage.WAITING
    finally:
        scene.close()


def test_a_label_and_a_path_that_are_no_text_are_a_card_like_any_other(tmp_path: Path, drone: Path) -> None:
    card = tmp_path / os.fsdecode(b"card \xff\x01")
    shutil.copytree(drone, card)
    scene = Scene(tmp_path / "scene")
    told = Told()
    runner = Runner(scene.ledger, ALL_KINDS, told, lambda job: record(scene.ledger, job))
    try:
        scene.station.put_in(Medium("r1", card, card.name, "Reader 1"))
        scene.tell(scene.runner.last("look"), State.DONE, perform_list_card(ListCardRequest(card), Watch()))
        scene.desk.cards.sources.open_folder(card)
        scene.desk.cards.offload("r1")
        scene.carried_out()
        assert scene.station.cards["r1"].stage is Stage.PROVEN
        assert waybills(scene.ledger)[0].proven == 2
        # The same through the queue itself, which keeps titles and paths of jobs.
        number = runner.add("look", f"List {card.name}", f"look:{card}", ListCardRequest(card))
        told.wait_for(number, State.DONE)
    finally:
        runner.close()
        scene.close()


def test_a_card_with_a_folder_nobody_could_list_is_not_known_whole(tmp_path: Path, drone: Path) -> None:
    scene = Scene(tmp_path)
    try:
        scene.station.pulled_out(scene.offloaded(drone))
        card = scene.station.cards[scene.listed(drone)]
        assert card.is_known
        assert card.card is not None
        unlisted = (Problem("MISC cannot be listed.", "MISC"),)
        half_listed = replace(card.card, tree=replace(card.card.tree, unlisted=unlisted))
        assert not replace(card, card=half_listed).is_known
    finally:
        scene.close()


def test_unattended_copies_no_disk_that_only_holds_files(tmp_path: Path) -> None:
    disk = tmp_path / "backup"
    (disk / "Films").mkdir(parents=True)
    (disk / "Films/holiday.mov").write_bytes(os.urandom(1000))
    scene = Scene(tmp_path / "scene", unattended=True)
    try:
        scene.listed(disk)
        assert scene.station.cards["r1"].stage is Stage.LISTED
        # The person says that it is a card: it is remembered.
        from diadoche.core.cards.card import LookChoice

        scene.station.correct("r1", LookChoice("loose"))
        scene.station.pulled_out("r1")
        scene.station.dismiss("r1")
        scene.listed(disk)
        assert scene.station.cards["r1"].stage is Stage.WAITING
    finally:
        scene.close()


def test_a_reader_that_hangs_is_named_on_the_watch_line(tmp_path: Path, drone: Path) -> None:
    scene = Scene(tmp_path)
    try:
        key = scene.listed(drone)
        scene.desk.cards.offload(key)
        job = scene.runner.last("offload")
        scene.tell(job, State.RUNNING)
        scene.runner.silent_s[job.number] = HANGS_S - 5
        assert scene.desk.watch_line().mark is Mark.UNDER_WAY
        scene.runner.silent_s[job.number] = HANGS_S + 12
        line = scene.desk.watch_line()
        assert line.mark is Mark.PROBLEM
        assert line.first == "Drone does not answer."
        assert "Reader 1 for 42 s" in line.second
        assert scene.desk.cards.rows()[0].is_silent
        cards = list(scene.station.cards.values())
        assert watch_line(cards, 2, None, 1).first == "Leave the card in."
    finally:
        scene.close()


def test_a_place_that_was_too_slow_is_filled_when_the_card_may_come_out(tmp_path: Path, drone: Path) -> None:
    scene = Scene(tmp_path)
    try:
        key = scene.listed(drone)
        scene.desk.cards.offload(key)
        job = scene.runner.last("offload")
        assert not job.request.fill_slow
        scene.tell(job, State.RUNNING)
        outcome = perform_offload(job.request, Watch())
        one, other = outcome.result.copies
        other = replace(other, status=CopyState.FAILED, fell_behind=True)
        scene.tell(job, State.DONE, replace(outcome, result=replace(outcome.result, copies=(one, other))))
        assert not scene.station.cards[key].stage.being_read
        asked = scene.runner.last("copy on").request
        assert (asked.root, asked.targets) == (Path(one.root), ((Path(other.destination), Path(other.root)),))
    finally:
        scene.close()


def test_clips_that_came_by_the_command_line_are_looked_at_at_the_start(tmp_path: Path, drone: Path) -> None:
    scene = Scene(tmp_path)
    try:
        shoot = scene.station.shoot
        request = OffloadRequest(drone, (tmp_path / "A",), shoot.id, shoot.name, try_copy=False)
        record_outcome(scene.ledger, request, perform_offload(request, Watch()))
        assert scene.desk.outputs.summary() == "none to make"
        scene.desk.shelf.refresh()
        assert scene.desk.outputs.summary() == "3 not looked at yet"
        scene.station.take_up([])
        job = scene.runner.last("identify")
        assert len(job.request.clips) == 3
        scene.station.look_at_the_rest()
        assert [each.kind for each in scene.runner.added] == ["identify"]
    finally:
        scene.close()


def test_a_stopped_offload_is_written_down_as_unfinished(tmp_path: Path, drone: Path) -> None:
    scene = Scene(tmp_path)
    try:
        key = scene.listed(drone)
        scene.desk.cards.offload(key)
        job = scene.runner.last("offload")
        scene.tell(job, State.RUNNING)

        class Stopped(Watch):
            def step(self, progress: Progress) -> None:
                if progress.done > 500_000:
                    self.stop()
                super().step(progress)

        result = perform_offload(replace(job.request, pace_bytes_s=2_000_000), Stopped())
        assert ALL_KINDS["offload"].was_stopped(result)
        scene.desk.job_changed(replace(job, state=State.STOPPED, result=result, noted=None))
        card = scene.station.cards[key]
        assert card.stage is Stage.PARTLY
        record_outcome(scene.ledger, job.request, result)
        (entry,) = waybills(scene.ledger)
        assert entry.proven == 0
        assert {copy.status for copy in entry.copies} == {CopyState.INCOMPLETE}
        assert not entry.may_format(1)
    finally:
        scene.close()


def test_what_is_copied_on_is_on_the_same_waybill_though_the_root_was_used_before(
    ledger: Ledger, small_card: Path, tmp_path: Path
) -> None:
    from diadoche.services.jobs.copy_on import CopyOnRequest, perform_copy_on

    shoot = open_shoot(ledger, "S")
    request = OffloadRequest(small_card, (tmp_path / "a",), shoot.id, "S", try_copy=False)
    outcome = perform_offload(request, Watch())
    record_outcome(ledger, request, outcome)
    root = Path(outcome.result.copies[0].root)
    target = tmp_path / "b" / root.relative_to(tmp_path / "a")
    record_copy_on(ledger, perform_copy_on(CopyOnRequest(root, ((tmp_path / "b", target),)), Watch()))
    (entry,) = waybills(ledger)
    assert [copy.status for copy in entry.copies] == [CopyState.PROVEN] * 2
