"""The program started as from a terminal, and ended by a signal."""

from __future__ import annotations

import os
import signal
import sqlite3
import subprocess
import sys
from contextlib import closing
from pathlib import Path

import pytest

from diadoche.demo.faulty_folder import Faults
from tests.mounts import Mounter
from tests.system_bus import wait_until


def catches(pid: int, number: signal.Signals) -> bool:
    """Whether a process has a handler of its own for a signal [proc(5), SigCgt]."""
    lines = Path(f"/proc/{pid}/status").read_text().splitlines()
    caught = next(line.split()[1] for line in lines if line.startswith("SigCgt:"))
    return bool(int(caught, 16) >> (number - 1) & 1)


@pytest.mark.usefixtures("own_state")
@pytest.mark.parametrize("number", [signal.SIGINT, signal.SIGTERM])
def test_a_signal_closes_the_window_as_usual(number: signal.Signals) -> None:
    environment = os.environ | {"QT_QPA_PLATFORM": "offscreen"}
    process = subprocess.Popen(
        [sys.executable, "-m", "diadoche.main"], env=environment, stderr=subprocess.PIPE, text=True
    )
    try:
        # The later one of both that it listens to: from here on, one signal is enough, whatever it is doing.
        wait_until(lambda: process.poll() is not None or catches(process.pid, signal.SIGTERM), 120, "it listens")
        process.send_signal(number)
        process.wait(timeout=120)
    finally:
        process.kill()
        _out, err = process.communicate()
    assert process.returncode == 0, err
    assert "Traceback" not in err


def _jobs(state: Path) -> list[str]:
    """How the jobs stand that the program wrote down."""
    found = next(state.rglob("ledger.sqlite"), None)
    if found is None:
        return []
    with closing(sqlite3.connect(f"file:{found}?mode=ro", uri=True)) as reader:
        try:
            return [job_state for (job_state,) in reader.execute("select state from jobs")]
        except sqlite3.OperationalError:
            # It is being made.
            return []


@pytest.mark.parametrize("number", [signal.SIGTERM, pytest.param(signal.SIGINT, marks=pytest.mark.long)])
def test_a_signal_is_no_question_while_a_card_is_read(
    own_state: Path, faulty: Mounter, tmp_path: Path, number: signal.Signals
) -> None:
    """A person who closes the window is asked; a desktop that ends its session waits for no answer."""
    card = tmp_path / "slow"
    (card / "DCIM").mkdir(parents=True)
    (card / "DCIM/ABCD0001.MP4").write_bytes(b"x" * 100_000)
    disk = faulty(card)
    disk.set(Faults(hangs=True, hangs_on_metadata=True))
    environment = os.environ | {"QT_QPA_PLATFORM": "offscreen"}
    words = [sys.executable, "-m", "diadoche.main", "open", str(disk.point)]
    process = subprocess.Popen(words, env=environment, stderr=subprocess.PIPE, text=True)
    try:
        wait_until(lambda: process.poll() is not None or "running" in _jobs(own_state), 120, "the card is read")
        process.send_signal(number)
        process.wait(timeout=120)
    finally:
        disk.set(Faults())
        process.kill()
        _out, err = process.communicate()
    assert process.returncode == 0, err
    assert "Traceback" not in err
