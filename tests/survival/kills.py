"""Runs the command line and lets it be killed at a named step.

The step is the name of a function of the application. Nothing of the application is changed: the interpreter's own
profiling hook tells when the step is reached. A process that has loaded everything forks one child for each run.
Each line on standard input asks for one: step, how often it is reached, `call` or `return`, and the words; without a
step the child is killed from outside, so many milliseconds after it began.
"""

from __future__ import annotations

import json
import os
import signal
import subprocess
import sys
import threading
import time
from types import FrameType
from typing import Any


class Kills:
    """The loaded process, from the test's side."""

    def __init__(self) -> None:
        self._process = subprocess.Popen(
            [sys.executable, "-m", __name__], stdin=subprocess.PIPE, stdout=subprocess.PIPE, text=True
        )

    def run(self, step: str, times: int, moment: str, words: list[str]) -> int:
        """How a run ended: minus the signal's number, or its exit code when the step was never reached."""
        assert self._process.stdin is not None
        assert self._process.stdout is not None
        self._process.stdin.write(json.dumps([step, times, moment, words]) + "\n")
        self._process.stdin.flush()
        return int(self._process.stdout.readline())

    def close(self) -> None:
        self._process.kill()
        self._process.communicate()


def _run_until(step: str, times: int, moment: str, words: list[str]) -> None:
    from diadoche.main import main as run

    left = times
    lock = threading.Lock()

    def follow(frame: FrameType, event: str, _argument: Any) -> None:
        nonlocal left
        if event == moment and frame.f_code.co_name == step and "diadoche" in frame.f_code.co_filename:
            with lock:
                left -= 1
                if left <= 0:
                    os.kill(os.getpid(), signal.SIGKILL)

    sys.argv = ["diadoche", *words]
    if not step:
        run()
    threading.setprofile(follow)
    sys.setprofile(follow)
    run()


def main() -> None:
    """Serves until it is killed."""
    import diadoche.core.offload.waybill_pdf
    import diadoche.main  # noqa: F401  # loaded once for all children

    for line in sys.stdin:
        child = os.fork()
        if child == 0:
            nothing = os.open(os.devnull, os.O_RDWR)
            for stream in range(3):
                os.dup2(nothing, stream)
            try:
                _run_until(*json.loads(line))
            except SystemExit as end:
                os._exit(int(end.code or 0))
            os._exit(0)
        step, times, _moment, _words = json.loads(line)
        if not step:
            time.sleep(times / 1000)
            os.kill(child, signal.SIGKILL)
        _pid, status = os.waitpid(child, 0)
        print(os.waitstatus_to_exitcode(status), flush=True)  # noqa: T201  # the answer


if __name__ == "__main__":
    main()
