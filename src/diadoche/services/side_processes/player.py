"""The player's process, seen from the window: wishes go in, pictures come out through shared memory.

Decoding lives in a process of its own, so that a damaged file cannot take the window with it, nor a disk that hangs:
one that dies or does not answer is ended, which is told, and the next wish starts another. Of several wishes only the
newest counts; the window's thread never writes to a pipe.
"""

from __future__ import annotations

import json
import subprocess
import sys
import threading
import time
from collections.abc import Callable
from contextlib import suppress
from dataclasses import dataclass
from multiprocessing.shared_memory import SharedMemory
from pathlib import Path
from typing import IO, Any, cast

import numpy as np
import psutil

from diadoche.core.footage.display import Rgb
from diadoche.core.identify.facts import Facts
from diadoche.services.wire import to_text

VIEW_PX = (1280, 720)
SLOTS = 6
# 64 pixels of a picture become 192 on the screen: lines of fields are plain to see.
COMBING_TIMES = 3
SLOT_BYTES = VIEW_PX[0] * VIEW_PX[1] * 3
# An answer comes within this; the first one takes the start of a process with it. A process that is busy after that
# decodes: the way back through a long group of large pictures takes longer on some machines, up to the second limit.
_LONGEST_S, _MOST_S = 15.0, 120.0
# Over how long it is watched for that, and from which share of one processor's time it is called busy.
_WATCHED_S, _BUSY, _LOOKS = 0.5, 0.2, 20
_MOST_UNDONE = 20
_ENDING_S, _KILLED_S = 5.0, 0.5
_DIED = "The player ended at this clip, which may be damaged. Choose it again to try once more."
_HANGS = "This clip cannot be read: its disk does not answer. Choose it again when that is mended."
_TOO_LONG = f"A picture of this clip takes over {_MOST_S:.0f} s to decode here, and was given up. It is untouched."


@dataclass(frozen=True, slots=True)
class Shown:
    """A picture to be shown, or the news that the clip was opened or ended, or a problem in words."""

    clip: int
    moment: int = 0
    picture: Rgb | None = None
    playing: bool = False
    rate_reached: float = 0.0
    problem: str = ""
    is_combing: bool = False


class PlayerProcess:
    """One player. Its callback is called from a thread of its own."""

    def __init__(self, told: Callable[[Shown], None]) -> None:
        self._told = told
        self._memory = SharedMemory(create=True, size=SLOTS * SLOT_BYTES)
        self._news = threading.Condition()
        # What is wished and not said yet: a clip, what is to be seen of it, the enlarged place; each the newest only.
        self._wishes: dict[str, dict[str, object]] = {}
        # Slots whose pictures were taken out.
        self._free: list[int] = []
        self._opened: dict[str, object] = {}
        self._process: subprocess.Popen[str] | None = None
        # Until when the process must have said something; None where nothing is asked.
        self._due_s: float | None = None
        # Since when nothing that was asked for has come.
        self._asked_s = 0.0
        # How often something was wished of this process, and how much of that it has done, by its own word.
        self._wished = self._done = 0
        self._closed = self._playing = False
        # Killed, and not ended yet.
        self._left: list[subprocess.Popen[str]] = []
        self._thread = threading.Thread(target=self._attend, name="player", daemon=True)
        self._thread.start()

    def open(self, clip: int, paths: tuple[Path, ...], facts: Facts) -> None:
        """Opens a clip at its first picture."""
        wish: dict[str, object] = {"open": [str(path) for path in paths], "facts": to_text(facts), "clip": clip}
        with self._news:
            self._wishes = {"open": wish}
            self._news.notify()

    def show(self, moment: int) -> None:
        """Stops playing and shows one moment."""
        self._wish("see", {"show": moment})

    def play(self, speed: float) -> None:
        """Plays on from where it is; a negative speed runs backwards, zero stops."""
        self._wish("see", {"play": speed})

    def show_combing(self) -> None:
        """Asks for the place where fields were seen, enlarged; it comes as a picture of its own."""
        self._wish("combing", {"combing": COMBING_TIMES})

    def close(self) -> None:
        """Ends the process."""
        with self._news:
            self._closed = True
            self._news.notify()
        self._thread.join(_ENDING_S)
        for process in self._left:
            _has_ended(process, _ENDING_S)
        with self._news:
            # Nobody takes a picture out any more: memory that is looked at cannot be closed.
            self._memory.close()
        with suppress(FileNotFoundError):
            self._memory.unlink()

    def _wish(self, name: str, wish: dict[str, object]) -> None:
        with self._news:
            self._wishes[name] = wish
            self._news.notify()

    # -- on the thread that looks after the process --------------------------------------------

    def _attend(self) -> None:
        while True:
            with self._news:
                while not (self._closed or self._may_say() or self._free or self._is_late()):
                    left_s = None if self._due_s is None else max(0.0, self._due_s - time.monotonic())
                    self._news.wait(left_s)
                closed, late = self._closed, self._is_late()
                wishes = self._wishes if self._may_say() or late else {}
                self._wishes = {} if wishes else self._wishes
                free, self._free = self._free, []
            if closed:
                self._end()
                return
            if late:
                busy = self._is_busy()
                if not self._is_late():
                    # It answered while it was watched, and was busy no more for that.
                    pass
                elif busy and "open" in wishes:
                    # Nobody waits for that clip any more, and nothing is wrong with it.
                    self._end()
                elif busy and time.monotonic() - self._asked_s < _MOST_S:
                    self._give_time(wishes, free)
                    continue
                else:
                    self._fail(_TOO_LONG if busy else _HANGS)
                # What was wished meanwhile is tried with a new one.
            self._say_all(wishes, free)

    def _is_busy(self) -> bool:
        """Whether the process decodes: one that waits for a disk uses no processor, and asks for none.

        Asked of the kernel, now. Where others leave it no processor, it still waits for one.
        """
        if self._process is None:
            return False
        looks = runs = 0
        try:
            seen = psutil.Process(self._process.pid)
            before, until_s = seen.cpu_times(), time.monotonic() + _WATCHED_S
            while time.monotonic() < until_s:
                looks += 1
                runs += _wants_processor(self._process.pid)
                time.sleep(_WATCHED_S / _LOOKS)
            after = seen.cpu_times()
        except psutil.Error:
            return False
        used_s: float = after.user + after.system - before.user - before.system
        return used_s >= _BUSY * _WATCHED_S or 2 * runs >= looks > 0

    def _give_time(self, wishes: dict[str, dict[str, object]], free: list[int]) -> None:
        with self._news:
            # What it has answered while it was watched is over; what is wished since counts instead of what was.
            if self._due_s is not None:
                self._due_s = time.monotonic() + _LONGEST_S
            self._wishes = self._wishes if "open" in self._wishes else wishes | self._wishes
            self._free = free + self._free

    def _may_say(self) -> bool:
        # A process that hangs would let the pipe fill up, and whoever writes to it wait.
        return bool(self._wishes) and self._wished - self._done < _MOST_UNDONE

    def _is_late(self) -> bool:
        return self._due_s is not None and time.monotonic() > self._due_s

    def _say_all(self, wishes: dict[str, dict[str, object]], free: list[int]) -> None:
        lines: list[dict[str, object]] = [{"free": slot} for slot in free] if self._process is not None else []
        opening = wishes.get("open")
        if opening is not None:
            self._opened = opening
        if wishes and (self._process is None or self._process.poll() is not None):
            self._start()
            lines = []
            if opening is None and self._opened:
                lines.append(self._opened)
        lines += [wishes[name] for name in ("open", "see", "combing") if name in wishes]
        if not lines or self._process is None:
            return
        if wishes:
            with self._news:
                self._wished += 1
                self._asked_s = time.monotonic()
                self._due_s = self._asked_s + _LONGEST_S
            lines.append({"number": self._wished})
        # A process that hangs reads nothing; what it is told lies in the pipe, or the write is left when it is killed.
        stdin = cast(IO[str], self._process.stdin)
        with suppress(BrokenPipeError, ValueError, OSError):
            stdin.write("".join(json.dumps(line) + "\n" for line in lines))
            stdin.flush()

    def _start(self) -> None:
        self._end()
        process = subprocess.Popen(
            [sys.executable, "-m", "diadoche.services.side_processes.player_process", self._memory.name],
            stdin=subprocess.PIPE,
            stdout=subprocess.PIPE,
            text=True,
            encoding="ascii",
            start_new_session=True,
        )
        self._process = process
        threading.Thread(target=self._listen, args=(process,), name="player hears", daemon=True).start()

    def _fail(self, words: str) -> None:
        """The process is of no use any more; why is told of the clip that it was at."""
        clip = self._opened.get("clip")
        self._end()
        if isinstance(clip, int):
            self._told(Shown(clip, problem=words))

    def _end(self) -> None:
        with self._news:
            process, self._process, self._due_s = self._process, None, None
            self._done = self._wished
        if process is None:
            return
        # Nothing of it is worth waiting for; a disk that hangs may hold it for longer than anybody waits.
        process.kill()
        with suppress(BrokenPipeError, OSError):
            cast(IO[str], process.stdin).close()
        # One that a disk holds ends when that answers: it is looked after again at the end.
        self._left = [each for each in (*self._left, process) if not _has_ended(each, _KILLED_S)]

    # -- on the thread that hears a process ----------------------------------------------------

    def _listen(self, process: subprocess.Popen[str]) -> None:
        out = cast(IO[str], process.stdout)
        for line in out:
            with self._news:
                # What one that was given up still says is of no clip that is open.
                if process is not self._process or self._closed:
                    break
            self._hear(json.loads(line))
        out.close()
        with self._news:
            died = process is self._process and not self._closed
        if died:
            self._fail(_DIED)

    def _hear(self, message: dict[str, Any]) -> None:
        if "done" in message:
            with self._news:
                self._done = max(self._done, message["done"])
                if self._done == self._wished and not self._playing:
                    self._due_s = None
                self._news.notify()
            return
        picture = None
        if message.get("slot") is not None:
            size = message["height"] * message["width"] * 3
            start = message["slot"] * SLOT_BYTES
            with self._news:
                if self._closed:
                    return
                flat = np.frombuffer(cast(Any, self._memory.buf), np.uint8, size, start).copy()
            picture = flat.reshape(message["height"], message["width"], 3)
        with self._news:
            # Each picture of a clip that plays gives the next one its time; all else is over when it is done.
            playing = self._playing = message.get("playing", False)
            if playing:
                self._asked_s = time.monotonic()
                self._due_s = self._asked_s + _LONGEST_S
            elif self._done == self._wished:
                self._due_s = None
            if picture is not None:
                self._free.append(message["slot"])
            self._news.notify()
        if "problem" in message:
            self._told(Shown(message["clip"], problem=message["problem"]))
            return
        self._told(
            Shown(
                message["clip"],
                message["moment"],
                picture,
                playing,
                message.get("rate", 0.0),
                is_combing=message.get("combing", False),
            )
        )


def _has_ended(process: subprocess.Popen[str], longest_s: float) -> bool:
    with suppress(subprocess.TimeoutExpired):
        process.wait(timeout=longest_s)
    return process.returncode is not None


def _wants_processor(pid: int) -> bool:
    """Whether a thread of a process runs, or could if it had a processor [proc(5), /proc/pid/stat: R]."""
    for path in Path(f"/proc/{pid}/task").glob("*/stat"):
        # A thread that ends just then says nothing of the others.
        with suppress(OSError):
            # The name before the state may hold spaces and brackets of its own.
            if path.read_text().rpartition(")")[2].split()[0] == "R":
                return True
    return False
