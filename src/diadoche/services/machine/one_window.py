"""One window on one ledger: held by a lock on a file beside it, which the system lets go however the program ends."""

from __future__ import annotations

import fcntl
import os
from contextlib import suppress
from pathlib import Path


class OneWindow:
    """The right to run the jobs of a ledger. Whoever comes second asks the first to come to the front."""

    def __init__(self, ledger: Path) -> None:
        """`ledger`: the database that the window works on."""
        self._lock = ledger.with_name(f"{ledger.name}.window")
        self._descriptor = -1

    @property
    def name(self) -> str:
        """What the window that has the right listens under, for those who come later."""
        info = self._lock.stat()
        return f"diadoche-{info.st_dev}-{info.st_ino}"

    def take(self) -> bool:
        """Whether this is the first; held until `let_go` or the end of the process.

        Raises:
            OSError: the folder cannot be written to.
        """
        self._lock.parent.mkdir(parents=True, exist_ok=True)
        descriptor = os.open(self._lock, os.O_RDWR | os.O_CREAT | os.O_CLOEXEC, 0o600)
        try:
            fcntl.flock(descriptor, fcntl.LOCK_EX | fcntl.LOCK_NB)
        except BlockingIOError:
            os.close(descriptor)
            return False
        self._descriptor = descriptor
        return True

    def let_go(self) -> None:
        """Another window may come."""
        if self._descriptor >= 0:
            with suppress(OSError):
                os.close(self._descriptor)
            self._descriptor = -1
