"""Parsing apart: crashes and hangs cost one file, and what was found is known again by content."""

from __future__ import annotations

import os
import shutil
import signal
import sqlite3
import threading
import time
from contextlib import suppress
from pathlib import Path

import psutil
import pytest

from diadoche.core.content_key import content_key
from diadoche.core.identify.probe import identify
from diadoche.core.watch import Cancelled, Watch
from diadoche.demo.faulty_folder import Faults
from diadoche.services.jobs.identify import ClipToIdentify, IdentifiedClip, IdentifyRequest, perform_identify
from diadoche.services.side_processes.parser import FactsMemory, Parser
from diadoche.services.side_processes.side_process import SideProcess
from tests.mounts import Mounter
from tests.system_bus import wait_until

CLIP = "DCIM/100DRONE/DRON0003.MP4"


def parsers() -> list[psutil.Process]:
    """Those that belong to this process."""
    return [each for each in psutil.Process().children(recursive=True) if each.name() == "parser"]


def kill_child(within_s: float = 20.0) -> None:
    """Kills the process apart as soon as there is one."""
    until_s = time.monotonic() + within_s
    while time.monotonic() < until_s:
        children = parsers()
        if children:
            os.kill(children[0].pid, signal.SIGKILL)
            return
        time.sleep(0.005)


def test_a_parser_that_dies_costs_one_file_and_the_next_is_read(drone: Path) -> None:
    with Parser() as parser:
        killer = threading.Thread(target=kill_child)
        killer.start()
        first = parser.facts([drone / CLIP], "counted")
        killer.join()
        assert "reading crashed" in first.problems[0].what
        assert first.container == "unknown"
        assert parser.facts([drone / CLIP], "counted").frames == 90


def test_a_file_that_never_answers_is_given_up(tmp_path: Path, drone: Path) -> None:
    # Opening a pipe for reading waits until somebody writes: this is a reader that hangs.
    pipe = tmp_path / "HANGS.MP4"
    os.mkfifo(pipe)
    with Parser(longest_s=2.0) as parser:
        began_s = time.monotonic()
        facts = parser.facts([pipe], "headers")
        assert time.monotonic() - began_s < 6
        assert "no further for 2 s" in facts.problems[0].what
        assert parser.facts([drone / CLIP], "headers").video[0].width == 1920


def test_a_large_file_on_a_slow_disk_is_read_to_its_end(camcorder: Path, faulty: Mounter) -> None:
    """It takes longer than one that reads nothing may take, and reads on all the time."""
    clip = camcorder / "PRIVATE/AVCHD/BDMV/STREAM/00001.MTS"
    disk = faulty(clip.parent)
    disk.set(Faults(slow_reads_bytes_s=clip.stat().st_size // 2))
    began_s = time.monotonic()
    with Parser(longest_s=4.0) as parser:
        facts = parser.facts([disk.point / clip.name], "counted")
    assert (facts.problems, facts.frames) == ((), identify([clip]).frames)
    assert time.monotonic() - began_s > 4.0


def test_one_that_reads_the_same_for_ever_is_given_up(tmp_path: Path) -> None:
    (tmp_path / "a").write_bytes(bytes(1000))
    with SideProcess("tests.services.forked_rereading") as process:
        assert process.ask(str(tmp_path / "a"), 0.5, most_bytes=100_000) is None


def test_stopping_does_not_wait_for_the_parser(tmp_path: Path) -> None:
    pipe = tmp_path / "HANGS.MP4"
    os.mkfifo(pipe)
    watch = Watch()
    threading.Timer(0.5, watch.stop).start()
    with Parser() as parser, pytest.raises(Cancelled):
        parser.facts([pipe], "headers", watch)


def test_facts_are_known_again_by_content_under_any_name(tmp_path: Path, drone: Path) -> None:
    memory = FactsMemory(tmp_path / "facts.sqlite")
    with Parser(memory) as parser:
        first = parser.facts([drone / CLIP], "counted")
    copy = tmp_path / "OTHER.MP4"
    shutil.copyfile(drone / CLIP, copy)
    # No process can be started any more: what is told can only come from memory.
    with Parser(memory, longest_s=0.0) as parser:
        again = parser.facts([copy], "headers")
        assert (again.path, again.frames, again.video) == (str(copy), first.frames, first.video)
        data = bytearray(copy.read_bytes())
        data[len(data) // 2] ^= 1
        copy.write_bytes(bytes(data[:-10]))
        assert parser.facts([copy], "headers").container == "unknown"


def test_a_shallow_look_does_not_stand_for_a_deeper_one(tmp_path: Path, drone: Path) -> None:
    memory = FactsMemory(tmp_path / "facts.sqlite")
    with Parser(memory) as parser:
        assert parser.facts([drone / CLIP], "headers").video[0].scan == "undecided"
        assert parser.facts([drone / CLIP], "counted").video[0].scan == "progressive"
        assert parser.facts([drone / CLIP], "headers").video[0].scan == "progressive"


@pytest.mark.parametrize("damage", ["nonsense", "locked", "a folder"])
def test_without_its_memory_work_goes_on(tmp_path: Path, drone: Path, damage: str) -> None:
    path = tmp_path / "facts.sqlite"
    holder = None
    if damage == "nonsense":
        path.write_bytes(b"no database at all" * 100)
    elif damage == "a folder":
        path.mkdir()
    else:
        FactsMemory(path)
        holder = sqlite3.connect(path)
        holder.execute("BEGIN EXCLUSIVE")
    with Parser(FactsMemory(path)) as parser:
        assert parser.facts([drone / CLIP], "headers").video[0].width == 1920
    if holder is not None:
        holder.close()


def test_the_key_tells_spans_from_a_single_file(tmp_path: Path) -> None:
    one, other = tmp_path / "a", tmp_path / "b"
    one.write_bytes(b"x" * 1000)
    other.write_bytes(b"x" * 1000)
    assert content_key([one]) == content_key([other])
    assert content_key([one, other]) != content_key([one])
    assert content_key([tmp_path / "gone"]) == ""


def test_results_come_as_they_are_found_headers_of_all_first(drone: Path) -> None:
    came: list[tuple[int, str]] = []

    def given(part: IdentifiedClip) -> None:
        came.append((part.clip_id, part.facts.video[0].scan))

    clips = tuple(ClipToIdentify((drone / f"DCIM/100DRONE/DRON000{n}.MP4",), n) for n in (1, 2, 3))
    found = perform_identify(IdentifyRequest(clips), Watch(given=given))
    assert came[:3] == [(1, "undecided"), (2, "undecided"), (3, "undecided")]
    assert came[3:] == [(1, "progressive"), (2, "progressive"), (3, "progressive")]
    assert [each.facts.frames for each in found] == [120, 90, 90]


def test_the_parser_leaves_no_process_behind(drone: Path) -> None:
    with Parser() as parser:
        parser.facts([drone / CLIP], "headers")
        assert parsers()
    wait_until(lambda: not parsers(), 10, "it has ended")


def test_a_disk_that_hangs_is_told_while_it_lasts_and_asking_it_can_be_stopped(drone: Path, faulty: Mounter) -> None:
    reader = faulty(drone)
    reader.set(Faults(hangs=True))
    watch, ended = Watch(), []

    def ask() -> None:
        with Parser() as parser, suppress(Cancelled):
            parser.facts([reader.point / CLIP], "headers", watch)
        ended.append(True)

    thread = threading.Thread(target=ask)
    thread.start()
    wait_until(lambda: watch.calls.silent_for_s() > 1.0, 20, "a call that does not return")
    watch.stop()
    wait_until(lambda: bool(ended), 5, "the asking has ended, though the disk hangs")
    reader.set(Faults())
    thread.join()
