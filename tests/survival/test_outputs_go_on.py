"""A batch of outputs, and everything that makes it, is killed in the middle; the next start makes the rest of it."""

from __future__ import annotations

import os
import subprocess
import sys
import time
from pathlib import Path

import psutil
import pytest

from diadoche.core.convert.recipes import recipe_named
from diadoche.core.watch import Watch
from diadoche.services.jobs.all_kinds import ALL_KINDS
from diadoche.services.jobs.make_output import MakeRequest, perform_make
from diadoche.services.ledger.ledger import Ledger
from diadoche.services.queue.runner import Job, Runner
from diadoche.services.queue.states import State
from tests.outside.numbered import film, numbers_of
from tests.system_bus import wait_until

CLIPS, PICTURES = 3, 200
BATCH = """
import sys, threading
from pathlib import Path
from diadoche.core.convert.recipes import recipe_named
from diadoche.services.jobs.all_kinds import ALL_KINDS
from diadoche.services.jobs.make_output import MakeRequest
from diadoche.services.ledger.ledger import Ledger
from diadoche.services.queue.runner import LIMITS, Runner
folder = Path(sys.argv[1])
# One at a time: the second begins when the first is in the ledger, and then all are killed.
LIMITS["encode"] = 1
runner = Runner(Ledger(folder / "state" / "ledger.sqlite"), ALL_KINDS, lambda job: None, lambda job: None)
for path in sorted(folder.glob("clip*.mp4")):
    runner.add("make", path.name, "encode", MakeRequest((path,), recipe_named("h264-intra"), folder / "out"))
threading.Event().wait()
"""


def finals(folder: Path) -> list[Path]:
    return sorted(path for path in folder.glob("*") if not path.name.startswith("."))


def parts(folder: Path) -> list[Path]:
    return [path for path in folder.glob("*") if path.name.startswith(".")]


@pytest.mark.usefixtures("known_disk")
def test_a_batch_that_was_killed_goes_on(tmp_path: Path) -> None:
    first = film(tmp_path / "clip0.mp4", range(PICTURES), "25", "-c:v", "libx264", "-bf", "2", "-c:a", "aac")
    for number in range(1, CLIPS):
        (tmp_path / f"clip{number}.mp4").write_bytes(first.read_bytes())
    out = tmp_path / "out"
    application = subprocess.Popen([sys.executable, "-c", BATCH, str(tmp_path)])
    try:
        wait_until(lambda: out.exists() and len(finals(out)) >= 1 and any(each.stat().st_size for each in parts(out)), 120,
                   "one is made, and one is begun")  # fmt: skip
    finally:
        everybody = [*psutil.Process(application.pid).children(recursive=True), psutil.Process(application.pid)]
        for each in everybody:
            each.kill()
        application.wait()
    psutil.wait_procs(everybody, timeout=30)
    made = finals(out)
    assert 1 <= len(made) < CLIPS
    (left,) = parts(out)
    old_s = time.time() - 600
    os.utime(left, (old_s, old_s))
    ended: list[Job] = []
    ledger = Ledger(tmp_path / "state" / "ledger.sqlite")
    runner = Runner(ledger, ALL_KINDS, lambda _job: None, ended.append)
    try:
        going_on = runner.recover()
        assert len(going_on) == CLIPS - len(made)
        wait_until(lambda: len(ended) == len(going_on), 180, "the rest is made")
    finally:
        runner.close()
        ledger.close()
    assert all(job.result.output for job in ended)
    assert all(job.state is not State.FAILED for job in runner.jobs())
    assert len(finals(out)) == CLIPS
    # What was half-made is gone, and no picture of any is.
    assert parts(out) == []
    for path in finals(out):
        assert numbers_of(path) == list(range(PICTURES))


def test_what_is_being_written_is_not_taken_for_abandoned(tmp_path: Path) -> None:
    source = film(tmp_path / "in.mp4", range(50), "25", "-c:v", "libx264", sound=False)
    out = tmp_path / "out"
    seen: list[int] = []

    def another(_progress: object) -> None:
        # While one is written, and looks old, another begins in the same folder.
        if not seen:
            (mine,) = parts(out)
            os.utime(mine, (1, 1))
            seen.append(1)
            output = perform_make(MakeRequest((source,), "mov", out), Watch())
            assert output.output
            assert parts(out) == [mine]

    output = perform_make(MakeRequest((source,), recipe_named("ffv1"), out), Watch(another))
    assert output.output, output.problems
    assert seen
    assert len(finals(out)) == 2
