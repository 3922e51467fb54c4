"""First pictures of clips for tables, decoded in a process of their own: a damaged file or a hung disk takes no window
with it.
"""

from __future__ import annotations

import base64
import threading
import time
from collections import Counter, OrderedDict
from collections.abc import Callable
from pathlib import Path

from diadoche.core.disks import mounts
from diadoche.core.footage.trial import first_picture
from diadoche.services.side_processes.side_process import SideProcess, serve

_LONGEST_S, _AGAIN_S, _HANGS_AFTER = 10.0, 60.0, 2
# What was scrolled past is not worth decoding; and a few thousand small JPEGs are a few megabytes.
_MOST_WANTED, _MOST_KEPT = 60, 4_000
_ROOT = Path("/")


class FirstPictures:
    """Pictures by the file that they are in. What is asked for last is decoded first."""

    def __init__(self, came: Callable[[Path], None]) -> None:
        """`came` is called, on a thread of its own, for each file of which there is something to be shown now."""
        self._came = came
        self._known: OrderedDict[Path, bytes] = OrderedDict()
        # From when on one that has no picture is asked for again.
        self._again_s: dict[Path, float] = {}
        self._wanted: OrderedDict[Path, None] = OrderedDict()
        # How many files in a row gave no answer, by where their disk is mounted; and until when it is left alone.
        self._unanswered: Counter[Path] = Counter()
        self._silent_until_s: dict[Path, float] = {}
        self._changed = threading.Condition()
        self._closed = False
        self._thread: threading.Thread | None = None

    def of(self, path: Path) -> bytes:
        """A small JPEG, or nothing: where there is no picture, or none yet; then it is asked for."""
        with self._changed:
            known = self._known.get(path)
            if known == b"" and time.monotonic() > self._again_s.get(path, 0.0):
                # Its disk may have come back.
                known = None
            if known is not None:
                self._known.move_to_end(path)
                return known
            if self._closed or self._is_silent(path):
                return b""
            self._wanted[path] = None
            self._wanted.move_to_end(path)
            while len(self._wanted) > _MOST_WANTED:
                self._wanted.popitem(last=False)
            if self._thread is None:
                self._thread = threading.Thread(target=self._decode_all, name="first pictures", daemon=True)
                self._thread.start()
            self._changed.notify()
        return b""

    @property
    def busy(self) -> bool:
        """Whether anything is asked for and not decoded yet."""
        with self._changed:
            return bool(self._wanted)

    def close(self) -> None:
        """No more pictures; a disk that hangs holds nobody up."""
        with self._changed:
            self._closed = True
            self._changed.notify()

    def _decode_all(self) -> None:
        with SideProcess("diadoche.services.side_processes.first_pictures", nicer=5) as side_process:
            while True:
                with self._changed:
                    self._changed.wait_for(lambda: self._closed or self._wanted)
                    if self._closed:
                        return
                    path = next(reversed(self._wanted))
                began_s = time.monotonic()
                told = side_process.ask(str(path), _LONGEST_S)
                picture = base64.b64decode(told) if told else b""
                with self._changed:
                    self._wanted.pop(path, None)
                    self._note_answer(path, in_time=time.monotonic() - began_s < _LONGEST_S)
                    # Where it cannot be read now, it is not asked again at every painting.
                    self._known[path] = picture
                    self._again_s[path] = time.monotonic() + _AGAIN_S
                    while len(self._known) > _MOST_KEPT:
                        gone, _picture = self._known.popitem(last=False)
                        self._again_s.pop(gone, None)
                if picture and not self._closed:
                    self._came(path)

    def _is_silent(self, path: Path) -> bool:
        now_s = time.monotonic()
        return any(now_s < until_s and path.is_relative_to(at) for at, until_s in self._silent_until_s.items())

    def _note_answer(self, path: Path, *, in_time: bool) -> None:
        """A disk that hangs is left alone for a while: each of its files would keep all others waiting as long."""
        # By its name alone: asking the disk itself would hang here.
        point = max((mount.point for mount in mounts() if path.is_relative_to(mount.point)), key=_depth, default=_ROOT)
        if in_time or point == _ROOT:
            self._unanswered.pop(point, None)
            return
        self._unanswered[point] += 1
        # One may only take long to decode.
        if self._unanswered[point] >= _HANGS_AFTER:
            self._silent_until_s[point] = time.monotonic() + _AGAIN_S
            for each in [each for each in self._wanted if each.is_relative_to(point)]:
                del self._wanted[each]


def _depth(path: Path) -> int:
    return len(path.parts)


def _answer(path: str) -> str:
    return base64.b64encode(first_picture(Path(path))).decode("ascii")


def main() -> None:
    """Answers until nobody asks any more."""
    serve(_answer)
