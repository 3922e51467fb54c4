"""What the person did and may take back, the newest first."""

from __future__ import annotations

from collections import deque
from collections.abc import Callable

_MOST = 100


class Undo:
    """Changes that can be taken back; files on disks are never among them."""

    def __init__(self) -> None:
        self._done: deque[tuple[str, Callable[[], object]]] = deque(maxlen=_MOST)

    def note(self, what: str, take_back: Callable[[], object]) -> None:
        """Remembers a change.

        Args:
            what: the change in words that go on from "Taken back: ".
            take_back: makes everything as it was before.
        """
        self._done.append((what, take_back))

    def take_back(self) -> str:
        """Takes the newest change back, and says which; nothing where there is none."""
        if not self._done:
            return ""
        what, take_back = self._done[-1]
        take_back()
        # Only now: what could not be taken back can be tried again.
        self._done.pop()
        return what

    def forget(self) -> None:
        """Another shoot is at hand: what was done in the last one stays."""
        self._done.clear()
