"""The program started as from a terminal, and ended by a signal."""

from __future__ import annotations

import os
import signal
import subprocess
import sys
from pathlib import Path

import pytest

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
