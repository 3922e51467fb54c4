"""The player's process against clips that are missing, hang or kill it: it is told, and goes on with the next clip."""

from __future__ import annotations

import os
import queue
import signal
import subprocess
import sys
from collections.abc import Iterator
from pathlib import Path

import pytest

from diadoche.core.identify.facts import Facts
from diadoche.core.identify.probe import identify
from diadoche.demo.faulty_folder import Faults
from diadoche.services.side_processes import player as module
from diadoche.services.side_processes.player import PlayerProcess, Shown
from tests.mounts import Mounter
from tests.system_bus import wait_until

_LONG_S = 60


_GREEDY = 12


class Heard:
    """A player, and what it tells."""

    def __init__(self) -> None:
        self._news: queue.SimpleQueue[Shown] = queue.SimpleQueue()
        self.player = PlayerProcess(self._news.put)

    def next(self, clip: int) -> Shown:
        """The next news of a clip that is a picture or a problem."""
        while True:
            news = self._news.get(timeout=_LONG_S)
            if news.clip == clip and (news.picture is not None or news.problem):
                return news


@pytest.fixture
def heard() -> Iterator[Heard]:
    found = Heard()
    yield found
    found.player.close()


@pytest.fixture(scope="module")
def clip(drone: Path) -> Path:
    return drone / "DCIM/100DRONE/DRON0001.MP4"


@pytest.fixture(scope="module")
def facts(clip: Path) -> Facts:
    return identify([clip])


def test_a_missing_file_is_told_and_the_next_one_is_shown(heard: Heard, clip: Path, facts: Facts) -> None:
    heard.player.open(1, (clip.with_name("NO.MP4"),), facts)
    assert "NO.MP4 cannot be read" in heard.next(1).problem
    heard.player.open(2, (clip,), facts)
    assert heard.next(2).picture is not None


def test_a_process_that_dies_is_told_and_started_anew(heard: Heard, clip: Path, facts: Facts) -> None:
    heard.player.open(1, (clip,), facts)
    assert heard.next(1).picture is not None
    process = heard.player._process
    assert process is not None
    os.kill(process.pid, signal.SIGKILL)
    assert "may be damaged" in heard.next(1).problem
    # What is wished next is of the clip that was open.
    heard.player.show(20)
    news = heard.next(1)
    while news.moment != 20:
        news = heard.next(1)
    assert news.picture is not None


def test_a_disk_that_hangs_is_told_and_holds_up_no_other_clip(
    heard: Heard, clip: Path, facts: Facts, faulty: Mounter, monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setattr(module, "_LONGEST_S", 3.0)
    disk = faulty(clip.parent)
    disk.set(Faults(hangs=True, hangs_on_metadata=True))
    heard.player.open(1, (disk.point / clip.name,), facts)
    # Wishes go on; the window that makes them never waits.
    for moment in range(2000):
        heard.player.show(moment % 50)
    assert "does not answer" in heard.next(1).problem
    heard.player.open(2, (clip,), facts)
    assert heard.next(2).picture is not None
    disk.set(Faults())


def test_a_disk_that_hangs_after_the_first_picture_is_told_too(
    heard: Heard, clip: Path, facts: Facts, faulty: Mounter, monkeypatch: pytest.MonkeyPatch
) -> None:
    """The first wish was answered; the one behind it is not."""
    monkeypatch.setattr(module, "_LONGEST_S", 3.0)
    disk = faulty(clip.parent)
    heard.player.open(1, (disk.point / clip.name,), facts)
    assert heard.next(1).picture is not None
    disk.set(Faults(hangs=True, hangs_on_metadata=True))
    heard.player.show(facts.frames - 1 if facts.frames else 80)
    news = heard.next(1)
    while not news.problem and news.moment == 0:
        news = heard.next(1)
    # What was read ahead may hold the last picture; then it is asked for anew, from the disk.
    if not news.problem:
        heard.player.open(2, (disk.point / clip.name,), facts)
        news = heard.next(2)
    assert "does not answer" in news.problem
    disk.set(Faults())


@pytest.fixture(scope="module")
def slow_clip(tmp_path_factory: pytest.TempPathFactory) -> Path:
    """One group of large pictures: each but the first takes all before it."""
    path = tmp_path_factory.mktemp("slow") / "slow.mp4"
    words = ["ffmpeg", "-v", "error", "-f", "lavfi", "-i", "color=gray:s=4096x2160:r=25:d=5", "-c:v", "libx264"]
    subprocess.run([*words, "-preset", "ultrafast", "-g", "1000", "-bf", "0", path], check=True)
    return path


def test_a_picture_that_takes_long_is_waited_for_and_no_disk_is_blamed(
    heard: Heard, slow_clip: Path, clip: Path, facts: Facts, monkeypatch: pytest.MonkeyPatch
) -> None:
    slow_facts = identify([slow_clip])
    last = slow_facts.frames - 1 if slow_facts.frames else 0
    heard.player.open(1, (slow_clip,), slow_facts)
    assert heard.next(1).picture is not None
    monkeypatch.setattr(module, "_LONGEST_S", 0.2)
    monkeypatch.setattr(module, "_WATCHED_S", 0.1)
    heard.player.show(last)
    news = heard.next(1)
    assert (news.moment, news.problem) == (last, "")
    # Who goes on to another clip waits for none of it, and is told nothing of it.
    monkeypatch.setattr(module, "_MOST_S", 1000.0)
    heard.player.open(2, (slow_clip,), slow_facts)
    assert heard.next(2).picture is not None
    heard.player.show(last)
    wait_until(lambda: heard.player._wished > heard.player._done, 30, "the long way")
    heard.player.open(3, (clip,), facts)
    assert heard.next(3).picture is not None
    # And what never ends is given up, for what it is.
    monkeypatch.setattr(module, "_MOST_S", 0.0)
    heard.player.open(4, (slow_clip,), slow_facts)
    heard.player.show(last)
    news = heard.next(4)
    while not news.problem:
        assert news.moment < last
        news = heard.next(4)
    assert "to decode here" in news.problem


def _threads_of(pid: int) -> list[int]:
    return [int(thread.name) for thread in Path(f"/proc/{pid}/task").iterdir()]


def test_no_disk_is_blamed_where_others_leave_it_no_processor(
    heard: Heard, slow_clip: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    facts = identify([slow_clip])
    last = facts.frames - 1 if facts.frames else 0
    heard.player.open(1, (slow_clip,), facts)
    assert heard.next(1).picture is not None
    process = heard.player._process
    assert process is not None
    processor = min(os.sched_getaffinity(0))
    # Each in a session of its own: where the kernel shares by session, one would leave it half.
    words = [sys.executable, "-c", "while True: pass"]
    greedy = [subprocess.Popen(words, start_new_session=True) for _process in range(_GREEDY)]
    try:
        for pid in (*(each.pid for each in greedy), *_threads_of(process.pid)):
            os.sched_setaffinity(pid, {processor})
        monkeypatch.setattr(module, "_LONGEST_S", 0.2)
        watched: list[bool] = []
        told = heard.player._is_busy

        def watching() -> bool:
            watched.append(told())
            return watched[-1]

        monkeypatch.setattr(heard.player, "_is_busy", watching)
        heard.player.show(last)
        wait_until(lambda: len(watched) >= 2, 60, "that it is late")
    finally:
        for each in greedy:
            each.kill()
            each.wait()
    news = heard.next(1)
    assert (news.moment, news.problem) == (last, "")
    assert all(watched)


def test_the_place_of_fields_is_shown_while_it_plays(heard: Heard, camcorder: Path) -> None:
    """One reader serves both: what is asked for meanwhile does not meet the pictures that are read ahead."""
    clip = sorted(camcorder.rglob("*.MTS"))[2]
    looked = identify([clip], "looked")
    heard.player.open(1, (clip,), looked)
    assert heard.next(1).picture is not None
    heard.player.play(1.0)
    while not heard.next(1).playing:
        pass
    heard.player.show_combing()
    news = heard.next(1)
    while not news.is_combing:
        news = heard.next(1)
    assert news.picture is not None
    # It plays on.
    at = heard.next(1)
    assert at.playing or at.moment > 0


def test_the_newest_wish_is_seen_and_slots_come_back(heard: Heard, clip: Path, facts: Facts) -> None:
    heard.player.open(1, (clip,), facts)
    heard.next(1)
    seen = 0
    for wanted in range(3 * module.SLOTS):
        heard.player.show(wanted)
        news = heard.next(1)
        while news.moment != wanted:
            news = heard.next(1)
        seen += 1
    assert seen == 3 * module.SLOTS
    heard.player.play(1.0)
    assert heard.next(1).playing
