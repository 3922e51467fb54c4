"""The player's process, seen from the window: commands go in, pictures come out through shared memory.

Decoding lives in a process of its own, so that a damaged file cannot take the window with it.
"""

from __future__ import annotations

import json
import subprocess
import sys
import threading
from collections.abc import Callable
from contextlib import suppress
from dataclasses import dataclass
from multiprocessing.shared_memory import SharedMemory
from pathlib import Path
from typing import Any, cast

import numpy as np

from diadoche.core.footage.display import Rgb
from diadoche.core.identify.facts import Facts
from diadoche.services.wire import to_text

VIEW_PX = (1280, 720)
SLOTS = 6
# 64 pixels of a picture become 192 on the screen: lines of fields are plain to see.
COMBING_TIMES = 3
SLOT_BYTES = VIEW_PX[0] * VIEW_PX[1] * 3


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
        self._process = subprocess.Popen(
            [sys.executable, "-m", "diadoche.services.side_processes.player_process", self._memory.name],
            stdin=subprocess.PIPE,
            stdout=subprocess.PIPE,
            text=True,
            encoding="ascii",
            start_new_session=True,
        )
        self._thread = threading.Thread(target=self._listen, name="player", daemon=True)
        self._thread.start()

    def open(self, clip: int, paths: tuple[Path, ...], facts: Facts) -> None:
        """Opens a clip at its first picture."""
        self._say({"open": [str(path) for path in paths], "facts": to_text(facts), "clip": clip})

    def show(self, moment: int) -> None:
        """Stops playing and shows one moment."""
        self._say({"show": moment})

    def play(self, speed: float) -> None:
        """Plays on from where it is; a negative speed runs backwards, zero stops."""
        self._say({"play": speed})

    def show_combing(self) -> None:
        """Asks for the place where fields were seen, enlarged; it comes as a picture of its own."""
        self._say({"combing": COMBING_TIMES})

    def close(self) -> None:
        """Ends the process."""
        if self._process.stdin is not None:
            with suppress(BrokenPipeError):
                self._process.stdin.close()
        try:
            self._process.wait(timeout=5)
        except subprocess.TimeoutExpired:
            self._process.kill()
            self._process.wait()
        self._thread.join(timeout=5)
        if self._process.stdout is not None:
            self._process.stdout.close()
        self._memory.close()
        self._memory.unlink()

    def _say(self, command: dict[str, object]) -> None:
        if self._process.stdin is None or self._process.poll() is not None:
            return
        try:
            self._process.stdin.write(json.dumps(command) + "\n")
            self._process.stdin.flush()
        except (BrokenPipeError, ValueError):
            return

    def _listen(self) -> None:
        assert self._process.stdout is not None
        for line in self._process.stdout:
            message = json.loads(line)
            if "problem" in message:
                self._told(Shown(message["clip"], problem=message["problem"]))
                continue
            picture = None
            if message.get("slot") is not None:
                size = message["height"] * message["width"] * 3
                start = message["slot"] * SLOT_BYTES
                flat = np.frombuffer(cast(Any, self._memory.buf), np.uint8, size, start).copy()
                picture = flat.reshape(message["height"], message["width"], 3)
            self._told(
                Shown(
                    message["clip"],
                    message["moment"],
                    picture,
                    message["playing"],
                    message.get("rate", 0.0),
                    is_combing=message.get("combing", False),
                )
            )
