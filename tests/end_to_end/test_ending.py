"""The program started as from a terminal, and ended by a signal."""

from __future__ import annotations

import os
import signal
import subprocess
import sys
import time
from contextlib import suppress
from pathlib import Path

import pytest


@pytest.mark.parametrize("number", [signal.SIGINT, signal.SIGTERM])
def test_a_signal_closes_the_window_as_usual(own_state: Path, number: signal.Signals) -> None:
    environment = os.environ | {"QT_QPA_PLATFORM": "offscreen"}
    process = subprocess.Popen(
        [sys.executable, "-m", "diadoche.main"], env=environment, stderr=subprocess.PIPE, text=True
    )
    until_s = time.monotonic() + 60
    while not list(own_state.rglob("*.sqlite*")) and time.monotonic() < until_s:
        time.sleep(0.1)
    # Before its event loop runs, there is nothing to end: the wish is repeated, but not while the program closes.
    while process.poll() is None and time.monotonic() < until_s:
        process.send_signal(number)
        with suppress(subprocess.TimeoutExpired):
            process.wait(timeout=15)
    if process.poll() is None:
        process.kill()
    _out, err = process.communicate()
    assert process.returncode == 0, err
    assert "Traceback" not in err
