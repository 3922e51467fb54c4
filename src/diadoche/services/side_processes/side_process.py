"""A process apart that answers one question after another: what crashes or hangs there takes nothing else with it.

A module that serves runs `serve` with a function from question to answer, both of them JSON, a line each.
"""

from __future__ import annotations

import json
import os
import select
import sys
import time
from collections.abc import Callable
from types import TracebackType
from typing import Any

from diadoche.core.watch import Watch
from diadoche.services.processes.forked_process import FORK_SERVER, ForkedProcess

_STEP_S = 0.2
_ENDING_S = 3.0


class SideProcess:
    """One such process, started when it is first asked, and again after it died; used on one thread."""

    def __init__(self, module: str, nicer: int = 0) -> None:
        """
        Args:
            module: that serves.
            nicer: by how much more it gives way on the processor than whoever asks.
        """
        self._module, self._nicer = module, nicer
        self._child: ForkedProcess | None = None

    def __enter__(self) -> SideProcess:
        return self

    def __exit__(
        self, kind: type[BaseException] | None, error: BaseException | None, trace: TracebackType | None
    ) -> None:
        self.close()

    def ask(self, question: object, longest_s: float, watch: Watch | None = None, most_bytes: int = 0) -> Any:
        """The answer, or None when the process died over the question or did not answer in time.

        Args:
            question: what it is asked.
            longest_s: how long it may take.
            watch: is stopped by whoever does not want the answer any more.
            most_bytes: until it has read so many, only the time counts in which it reads nothing: a large file on a
                slow disk takes hours, and one that is read over and over again ends all the same.

        Raises:
            Cancelled: the watch was stopped meanwhile.
        """
        if self._child is None or self._child.ended:
            self.close()
            self._child = FORK_SERVER.fork(self._module, self._nicer)
        line = _exchange(self._child, question, _Patience(self._child, longest_s, most_bytes), watch)
        if line is None:
            self.close()
            return None
        return json.loads(line)

    def close(self) -> None:
        """Ends the process."""
        child, self._child = self._child, None
        if child is not None:
            child.kill()
            child.wait(_ENDING_S)
            child.close()


class _Patience:
    """How long an answer is waited for."""

    def __init__(self, child: ForkedProcess, longest_s: float, most_bytes: int) -> None:
        self._child, self._longest_s = child, longest_s
        self._until_s = time.monotonic() + longest_s
        self._seen = child.bytes_read() if most_bytes else 0
        self._most = self._seen + most_bytes

    @property
    def is_over(self) -> bool:
        if self._seen < self._most:
            read = self._child.bytes_read()
            if read > self._seen:
                self._seen, self._until_s = read, time.monotonic() + self._longest_s
        return time.monotonic() > self._until_s


def _exchange(child: ForkedProcess, question: object, patience: _Patience, watch: Watch | None) -> bytes | None:
    line = b""
    try:
        child.write(json.dumps(question).encode("ascii") + b"\n")
        while not line.endswith(b"\n"):
            if watch is not None:
                watch.check()
            if patience.is_over:
                return None
            if select.select([child.stdout], [], [], _STEP_S)[0]:
                piece = os.read(child.stdout.fileno(), 1 << 16)
                if not piece:
                    return None
                line += piece
    except BrokenPipeError:
        return None
    return line


def serve(answer: Callable[[Any], object]) -> None:
    """Answers every line on standard input until it is closed."""
    # What a library prints must not get between the lines.
    out = os.fdopen(os.dup(1), "w", encoding="ascii")
    os.dup2(2, 1)
    for line in sys.stdin:
        out.write(json.dumps(answer(json.loads(line))) + "\n")
        out.flush()
