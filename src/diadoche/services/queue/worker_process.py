"""A job's process from the queue's side: started, asked, heard, stopped. What it says is believed line by line."""

from __future__ import annotations

import json
import threading
from collections.abc import Iterator
from typing import Any

from diadoche.core.answering import HANGS_S
from diadoche.core.watch import Part, Progress
from diadoche.services.processes.forked_process import FORK_SERVER, ForkedProcess

_WORKER = "diadoche.services.queue.worker"
# The window comes first: it needs little, but it needs that at once. Other programs leave a copy a third, not a tenth.
# Each further job gives way a little more: eight offloads are two dozen busy threads, and the window one beside them.
_NICENESS, _NICEST = 5, 10
PATIENCE_S = 10.0
_HANGING_PATIENCE_S = 3.0
_KILLED_S = 3.0
_ENDING_S = 3.0
_LAST_WORDS = {"result", "stopped", "problem"}


class WorkerProcess:
    """One job's process. Started on the thread that listens to it; the others only tell it things."""

    def __init__(self, beside: int = 0) -> None:
        """
        Args:
            beside: how many other jobs are at work.
        """
        self._niceness = min(_NICENESS + beside, _NICEST)
        self.progress = Progress(0, 0)
        self.paused = False
        self.silent_s = 0.0
        self.was_killed = False
        self._process: ForkedProcess | None = None
        self._asked_to_stop = False
        self._lock = threading.Lock()

    def lines(self, question: dict[str, Any]) -> Iterator[dict[str, Any]]:
        """Starts the process and gives what it says, until it has ended. A line that was cut off is passed over."""
        process = FORK_SERVER.fork(_WORKER, self._niceness)
        with self._lock:
            self._process = process
            asked_to_stop = self._asked_to_stop
        try:
            self._write(json.dumps(question))
            if asked_to_stop:
                self._write("stop")
            for line in process.stdout:
                message = _parsed(line)
                if message is None:
                    continue
                yield message
                if message.keys() & _LAST_WORDS:
                    break
            # A process that has a hanging disk open may not be able to end; what it had to say was said.
            process.wait(_ENDING_S)
        finally:
            process.close()

    def note(self, value: dict[str, Any]) -> None:
        """Takes in its newest progress."""
        parts = tuple(Part(**part) for part in value["parts"])
        self.progress = Progress(value["done"], value["total"], value["note"], parts)

    @property
    def ended(self) -> bool:
        """Whether it has ended, or never began."""
        return self._process is None or self._process.ended

    def pause(self, *, paused: bool) -> None:
        """Lets it stand still, or go on."""
        self.paused = paused
        self._write("pause" if paused else "resume")

    def ask_to_stop(self) -> float:
        """Asks it to stop; gives how long it is to be waited for, in seconds: not for long where it hangs.

        Work that hangs in one thread can still say in another how far it had come.
        """
        with self._lock:
            self._asked_to_stop = True
        self._write("stop")
        return _HANGING_PATIENCE_S if self.silent_s > HANGS_S else PATIENCE_S

    def kill(self) -> float:
        """Ends it; gives how long that may take. The system itself cannot end what a device owes an answer."""
        self.was_killed = True
        if self._process is not None:
            self._process.kill()
        return _KILLED_S

    def _write(self, word: str) -> None:
        process = self._process
        try:
            if process is not None:
                process.write(word.encode("ascii") + b"\n")
        except (BrokenPipeError, ValueError):
            # It ended a moment ago by itself.
            return


def _parsed(line: bytes) -> dict[str, Any] | None:
    """What a line says; nothing for one that a killed process left half, or that is none of ours."""
    try:
        message = json.loads(line) if line.endswith(b"\n") else None
    except ValueError:
        return None
    return message if isinstance(message, dict) else None
