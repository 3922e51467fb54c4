"""The process that decodes for the player: reads commands as JSON lines, and writes pictures to shared memory."""

from __future__ import annotations

import json
import os
import queue
import sys
import threading
import time
from collections.abc import Callable
from multiprocessing import resource_tracker
from multiprocessing.shared_memory import SharedMemory
from pathlib import Path
from typing import Any, cast

import numpy as np

from diadoche.core.errors import DiadocheError, MediaError
from diadoche.core.footage.display import Rgb
from diadoche.core.footage.frames import FrameReader, SequenceReader, reader_for
from diadoche.core.footage.picture_stream import PictureStream
from diadoche.core.identify.facts import CombEvidence, Facts
from diadoche.core.names import shown
from diadoche.services.side_processes.player import SLOT_BYTES, SLOTS, VIEW_PX
from diadoche.services.wire import from_text

_RATE_OVER_S = 1.0
# Nobody waits longer for the window to take a picture out: it is left out then.
_SLOT_S = 2.0


class _Player:
    def __init__(self, memory: SharedMemory, say: Any, wake: Callable[[], None]) -> None:
        self._memory = memory
        self._say = say
        self._wake = wake
        self._stream: PictureStream | None = None
        self._speed = 0.0
        self._reader: FrameReader | SequenceReader | None = None
        self._evidence: CombEvidence | None = None
        self._clip = 0
        self._moment = 0
        # Slots of the shared memory that the window has taken its pictures out of.
        self.free: queue.SimpleQueue[int] = queue.SimpleQueue()
        for slot in range(SLOTS):
            self.free.put(slot)
        self._shown_at: list[float] = []

    def obey(self, command: dict[str, Any]) -> None:
        if "number" in command:
            # All that was wished before it is done.
            self._say({"done": command["number"]})
            return
        speed = self._speed
        self._stop()
        if "open" in command:
            self._open(command)
        elif "show" in command and self._reader is not None:
            self._show(command["show"])
        elif "combing" in command and self._reader is not None:
            self._show_combing(command["combing"])
            if speed:
                self._play(self._reader, speed)
        elif "play" in command and self._reader is not None:
            self._play(self._reader, command["play"])

    def _play(self, reader: FrameReader | SequenceReader, speed: float) -> None:
        if speed == 0:
            self._show(self._moment)
            return
        # At its end, from the other one.
        last = reader.shape.moments - 1
        first = (0 if self._moment >= last else self._moment + 1) if speed > 0 else (self._moment or last + 1) - 1
        self._shown_at, self._speed = [], speed
        self._stream = PictureStream(reader, first, speed, self._wake)

    def _stop(self) -> None:
        if self._stream is not None:
            self._stream.close()
            self._stream, self._speed = None, 0.0

    def _open(self, command: dict[str, Any]) -> None:
        if self._reader is not None:
            self._reader.close()
            self._reader = None
        self._clip = command["clip"]
        facts = from_text(Facts, command["facts"])
        self._evidence = facts.video[0].evidence
        paths = [Path(path) for path in command["open"]]
        try:
            self._reader = reader_for(paths, facts, VIEW_PX)
        except OSError as error:
            raise MediaError(
                f"{shown(paths[0].name)} cannot be read: {error.strerror or error}.",
                path=paths[0],
                safe="Nothing was changed.",
                do="Plug in the disk that it lies on, or look at its other copies.",
            ) from error
        self._show(0)

    def wait_s(self) -> float | None:
        """How long until the next picture is due; None when nothing plays, or it is not ready yet."""
        return self._stream.wait_s() if self._stream is not None else None

    def go_on(self) -> None:
        """Shows the picture that is due now; those that are late already are left out."""
        if self._stream is None:
            return
        came = self._stream.take()
        if came is not None:
            self._moment = came.moment
            now_s = time.monotonic()
            self._shown_at = [each for each in self._shown_at if now_s - each < _RATE_OVER_S] + [now_s]
            self._tell(came.picture, rate=len(self._shown_at) / max(0.2, now_s - self._shown_at[0]))
        if self._stream.ended:
            reached = self._stream.reached
            self._stop()
            # That it stands; and on the last picture, also where that one came too late to be seen.
            self._show(reached)

    def _show(self, moment: int) -> None:
        assert self._reader is not None
        self._moment = min(self._reader.shape.moments - 1, max(0, moment))
        self._tell(self._reader.at(self._moment))

    def _tell(self, picture: Rgb | None, rate: float = 0.0) -> None:
        message = self._message(picture)
        if message is not None:
            self._say(message | {"rate": rate})

    def _show_combing(self, times: int) -> None:
        assert self._reader is not None
        if self._evidence is not None:
            message = self._message(self._reader.combing(self._evidence, times))
            if message is not None:
                self._say(message | {"combing": True})

    def _message(self, picture: Rgb | None) -> dict[str, Any] | None:
        """The news of a picture; its samples go into a slot of the shared memory. None where nobody takes any out."""
        message: dict[str, Any] = {"clip": self._clip, "moment": self._moment, "playing": self._stream is not None}
        if picture is not None:
            try:
                slot = self.free.get(timeout=_SLOT_S)
            except queue.Empty:
                return None
            flat = np.frombuffer(cast(Any, self._memory.buf), np.uint8, picture.size, slot * SLOT_BYTES)
            flat[:] = picture.reshape(-1)
            message |= {"slot": slot, "width": picture.shape[1], "height": picture.shape[0]}
        return message

    def failed(self, what: str) -> None:
        self._stop()
        self._say({"clip": self._clip, "problem": what})


def main() -> None:
    """Obeys until standard input ends."""
    out = os.fdopen(os.dup(1), "w", encoding="ascii")
    os.dup2(2, 1)

    def say(message: dict[str, Any]) -> None:
        out.write(json.dumps(message) + "\n")
        out.flush()

    memory = SharedMemory(sys.argv[1])
    # The window owns the memory; this process must not remove it at its end.
    resource_tracker.unregister(memory._name, "shared_memory")  # type: ignore[attr-defined]  # no public way before 3.13
    commands: queue.SimpleQueue[dict[str, Any] | None] = queue.SimpleQueue()

    player = _Player(memory, say, lambda: commands.put({}))

    def listen() -> None:
        for line in sys.stdin:
            command = json.loads(line)
            if "free" in command:
                player.free.put(command["free"])
            else:
                commands.put(command)
        commands.put(None)

    threading.Thread(target=listen, daemon=True).start()
    while True:
        try:
            command = commands.get(timeout=player.wait_s())
        except queue.Empty:
            command = {}
        if command is None:
            break
        try:
            if command:
                player.obey(command)
            else:
                player.go_on()
        except DiadocheError as error:
            player.failed(error.problem.sentence())
        except OSError as error:
            player.failed(f"It cannot be read any more: {error.strerror or error}. Nothing was changed.")
        except Exception as error:  # noqa: BLE001  # a clip that nobody foresaw ends neither the player nor the view
            player.failed(f"It cannot be shown: {type(error).__name__}: {error}.")
    os._exit(0)


if __name__ == "__main__":
    main()
