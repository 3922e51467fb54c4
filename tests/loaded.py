"""Runs the command line in processes of their own without loading it anew for each, and kills it at named steps.

A process that has loaded everything forks a child for each run; the child is what a shell would start, but for the two
seconds of imports. A step is the name of a function of the application. Nothing of the application is changed: the
interpreter's own profiling hook tells when the step is reached.
"""

from __future__ import annotations

import contextlib
import json
import os
import signal
import socket
import subprocess
import sys
import tempfile
import threading
import time
from dataclasses import asdict, dataclass, field
from pathlib import Path
from types import FrameType
from typing import Any

from diadoche.services.processes.forked_process import FORK_SERVER

_ANSWERING_S = 60.0


@dataclass
class Run:
    """One run. Killed at the `times`-th `moment` (call or return) of a step; or from outside after so many ms."""

    words: list[str]
    step: str = ""
    times: int = 1
    moment: str = "call"
    killed_after_ms: int | None = None
    # What it is killed by after that time: SIGINT is a person's Ctrl-C.
    signal: int = signal.SIGKILL
    environment: dict[str, str] = field(default_factory=lambda: dict(os.environ))
    out: str = os.devnull
    err: str = os.devnull


class Loaded:
    """The loaded process, from the test's side."""

    def __init__(self) -> None:
        # A second thread, of a library of linear algebra, would be lost in every fork.
        one_thread = {"OPENBLAS_NUM_THREADS": "1", "OMP_NUM_THREADS": "1"}
        self._process = subprocess.Popen(
            [sys.executable, "-m", __name__],
            stdin=subprocess.PIPE,
            stdout=subprocess.PIPE,
            text=True,
            env=os.environ | one_thread,
        )

    def begin(self, run: Run) -> None:
        """Begins a run; `wait` must follow."""
        assert self._process.stdin is not None
        self._process.stdin.write(json.dumps(asdict(run)) + "\n")
        self._process.stdin.flush()

    def wait(self) -> int:
        """How the run that was begun ended: its exit code, or minus the signal's number."""
        assert self._process.stdout is not None
        return int(self._process.stdout.readline())

    def ended(self, run: Run) -> int:
        """The same for a run from its beginning to its end."""
        self.begin(run)
        return self.wait()

    def run(self, words: list[str]) -> subprocess.CompletedProcess[str]:
        """Runs the command line to its end, with what it wrote."""
        with tempfile.TemporaryDirectory() as folder:
            out, err = Path(folder) / "out", Path(folder) / "err"
            code = self.ended(Run(words, out=str(out), err=str(err)))
            return subprocess.CompletedProcess(words, code, out.read_text("utf-8"), err.read_text("utf-8"))

    def close(self) -> None:
        """Ends it."""
        self._process.kill()
        self._process.communicate()


def _child(run: Run) -> None:
    from diadoche.main import main as command_line

    os.environ.clear()
    os.environ.update(run.environment)
    for stream, path in ((0, os.devnull), (1, run.out), (2, run.err)):
        os.dup2(os.open(path, os.O_RDWR | os.O_CREAT), stream)
    _fork_the_fork_server()
    sys.argv = ["diadoche", *run.words]
    if run.step:
        follow = _killer(run)
        threading.setprofile(follow)
        sys.setprofile(follow)
    command_line()


def _fork_the_fork_server() -> None:
    """The run's own server of processes, as the program starts one; forked from what is loaded, and not begun anew."""
    from diadoche.services.processes import fork_server

    ours, theirs = socket.socketpair(socket.AF_UNIX, socket.SOCK_SEQPACKET)
    if os.fork() == 0:
        os.setpgid(0, 0)
        ours.close()
        os.dup2(theirs.fileno(), 0)
        theirs.close()
        try:
            fork_server.main()
        finally:
            os._exit(0)
    theirs.close()
    ours.settimeout(_ANSWERING_S)
    FORK_SERVER.take_over(ours)


def _killer(run: Run) -> Any:
    left = run.times
    lock = threading.Lock()

    def follow(frame: FrameType, event: str, _argument: Any) -> None:
        nonlocal left
        if event == run.moment and frame.f_code.co_name == run.step and "diadoche" in frame.f_code.co_filename:
            with lock:
                left -= 1
                if left <= 0:
                    os.kill(os.getpid(), signal.SIGKILL)

    return follow


def main() -> None:
    """Serves until it is killed."""
    import diadoche.core.offload.waybill_pdf
    import diadoche.main
    import diadoche.services.ledger.upgrade  # noqa: F401  # loaded once for all children
    from diadoche.cli.app import VERBS
    from diadoche.services.processes.fork_server import load_all

    for verb in VERBS:
        verb.loaded()
    load_all()

    for line in sys.stdin:
        run = Run(**json.loads(line))
        child = os.fork()
        if child == 0:
            code = 1
            try:
                _child(run)
                code = 0
            except SystemExit as end:
                code = int(end.code or 0)
            finally:
                sys.stdout.flush()
                sys.stderr.flush()
                os._exit(code)
        if run.killed_after_ms is not None:
            time.sleep(run.killed_after_ms / 1000)
            with contextlib.suppress(ProcessLookupError):
                os.kill(child, run.signal)
        _pid, status = os.waitpid(child, 0)
        print(os.waitstatus_to_exitcode(status), flush=True)  # noqa: T201  # the answer


if __name__ == "__main__":
    main()
