"""What is known of each place for copies at this moment, asked on a thread of its own for each: a disk may hang.

Whoever shows it reads values and never waits. What a place said before it fell silent is not said of it any more. At
most one thread is stuck for each place; one that nobody asks for ends.
"""

from __future__ import annotations

import queue
import shutil
import threading
import time
from collections.abc import Callable
from contextlib import suppress
from dataclasses import dataclass
from pathlib import Path

from diadoche.core.answering import Calls

# A disk that is well answers sooner; what one knew before is worth nothing from then on.
SILENT_S = 5.0
_LOOK_EVERY_S = 1.0
# A disk that is well answers within this: nothing is shown as unknown for a moment at the beginning.
_FIRST_ANSWER_S = 0.1
# Whether a file is there is asked again after this.
_OLD_S = 2.0
# For answers to come, no more than `_FIRST_ANSWER_S` is waited for in this time.
_PATIENT_AGAIN_S = 2.0
_MOST_FILES = 20_000
_IDLE_S, _ENDING_S = 30.0, 0.5


@dataclass(frozen=True, slots=True)
class Room:
    """A place as it was seen last.

    Args:
        path: the place.
        here: whether its disk answers at all, so that something could be written.
        free, total: bytes of the filesystem that it is on, or would be made on.
    """

    path: Path
    here: bool
    free: int = 0
    total: int = 0


class PlaceWatch:
    """Looks after places; its methods may be called on any thread, and never touch a disk."""

    def __init__(self, on_room: Callable[[], None] = lambda: None, on_files: Callable[[], None] = lambda: None) -> None:
        """Either is called on any thread: when something else is known of a place's room, or of files."""
        self._told = on_room, on_files
        self._watchers: dict[Path, _Watcher] = {}
        self._making = threading.Lock()

    def room(self, place: Path) -> Room | None:
        """What is known of a place; None while it has not answered, or is silent."""
        return self._watcher(place).room()

    def is_there(self, path: Path, place: Path, *, now: bool = False, wait: bool = True) -> bool | None:
        """Whether a file or folder below a place is there, as it was seen last; None while that is not known.

        Args:
            path: what is asked for.
            place: on whose thread.
            now: what was seen before does not count: something is to be started by it.
            wait: for a moment, where nothing is known yet; else `on_files` tells when it is.
        """
        return self._watcher(place).is_there(path, now=now, wait=wait)

    def silent_for_s(self, place: Path) -> float:
        """For how long a question to a place has not been answered, in seconds; 0 where none is open."""
        watcher = self._watchers.get(place)
        return watcher.calls.silent_for_s() if watcher is not None else 0.0

    def close(self) -> None:
        """Ends all threads; one that hangs is left behind."""
        with self._making:
            watchers = list(self._watchers.values())
            self._watchers.clear()
        for watcher in watchers:
            watcher.stop()
        for watcher in watchers:
            watcher.join()

    def _watcher(self, place: Path) -> _Watcher:
        with self._making:
            watcher = self._watchers.get(place)
            if watcher is None or not watcher.goes_on():
                watcher = self._watchers[place] = _Watcher(place, *self._told)
            return watcher


class _Watcher:
    """One place and its thread."""

    def __init__(self, place: Path, on_room: Callable[[], None], on_files: Callable[[], None]) -> None:
        self._place, self._on_room, self._on_files = place, on_room, on_files
        self.calls = Calls()
        self._room: Room | None = None
        # Whether a path is there, and when that was seen; written by the thread, read by others.
        self._files: dict[Path, tuple[bool, float]] = {}
        self._wanted: queue.SimpleQueue[Path | None] = queue.SimpleQueue()
        self._asked: set[Path] = set()
        self._stopped = self._ended = False
        self._last_asked_s = self._room_asked_s = time.monotonic()
        self._ending = threading.Lock()
        self._patience_s, self._waited_since_s = 0.0, float("-inf")
        self._answered = threading.Event()
        self._thread = threading.Thread(target=self._run, name=f"place {place.name}", daemon=True)
        self._thread.start()

    def goes_on(self) -> bool:
        """Whether it takes another question; if so, it does not end before that is asked."""
        with self._ending:
            self._last_asked_s = time.monotonic()
            return not self._ended

    def room(self) -> Room | None:
        self._room_asked_s = time.monotonic()
        self._wait_first()
        return None if self._is_silent() else self._room

    def is_there(self, path: Path, *, now: bool, wait: bool) -> bool | None:
        known = self._files.get(path)
        if now:
            self._asked.add(path)
            self._wanted.put(path)
            known = self._soon_known(path, time.monotonic())
        elif (known is None or time.monotonic() - known[1] > _OLD_S) and path not in self._asked:
            self._asked.add(path)
            self._wanted.put(path)
            if known is None and wait:
                known = self._soon_known(path, 0.0)
        return None if known is None or self._is_silent() else known[0]

    def stop(self) -> None:
        self._stopped = True
        self._wanted.put(None)

    def join(self) -> None:
        self._thread.join(_ENDING_S)

    def _is_silent(self) -> bool:
        return self.calls.silent_for_s() > SILENT_S

    def _soon_known(self, path: Path, since_s: float) -> tuple[bool, float] | None:
        """What was seen since a moment.

        A disk that is well answers at once; all waiting together is short, or a window would stand still.
        """
        self._wait_first()
        begun_s = time.monotonic()
        if begun_s - self._waited_since_s > _PATIENT_AGAIN_S:
            self._waited_since_s, self._patience_s = begun_s, _FIRST_ANSWER_S
        while (known := self._files.get(path)) is None or known[1] < since_s:
            if time.monotonic() - begun_s >= self._patience_s:
                known = None
                break
            time.sleep(0.0005)
        self._patience_s -= time.monotonic() - begun_s
        return known

    def _wait_first(self) -> None:
        """Once, and not for long."""
        if not self._answered.is_set():
            self._answered.wait(_FIRST_ANSWER_S)
            self._answered.set()

    def _run(self) -> None:
        looked_s, news = float("-inf"), False
        while not self._stopped:
            now_s = time.monotonic()
            if now_s - looked_s >= _LOOK_EVERY_S and now_s - self._room_asked_s < _IDLE_S:
                before, self._room = self._room, self._look()
                looked_s = time.monotonic()
                if before != self._room:
                    self._tell(self._on_room)
            self._answered.set()
            try:
                path = self._wanted.get(timeout=_LOOK_EVERY_S)
            except queue.Empty:
                if self._may_end():
                    return
                continue
            news |= path is not None and self._see(path)
            # Thousands of files may be asked for at once: what came of them is told together.
            if news and self._wanted.empty():
                news = False
                self._tell(self._on_files)

    def _may_end(self) -> bool:
        with self._ending:
            self._ended = time.monotonic() - self._last_asked_s > _IDLE_S and self._wanted.empty()
            return self._ended

    def _look(self) -> Room:
        with self.calls, suppress(OSError):
            standing = self._place
            while not standing.exists() and standing != standing.parent:
                standing = standing.parent
            usage = shutil.disk_usage(standing)
            return Room(self._place, True, usage.free, usage.total)
        return Room(self._place, False)

    def _see(self, path: Path) -> bool:
        """Looks for a file, and tells whether that is news."""
        there = False
        with self.calls, suppress(OSError):
            there = path.exists()
        if len(self._files) >= _MOST_FILES:
            self._files.clear()
        before, self._files[path] = self._files.get(path), (there, time.monotonic())
        self._asked.discard(path)
        return before is None or before[0] != there

    def _tell(self, told: Callable[[], None]) -> None:
        # Nobody may be there any more to be told.
        if not self._stopped:
            told()
