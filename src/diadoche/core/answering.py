"""Whatever can wait has an end: calls to disks that may never return, made where that harms nobody.

*Hangs* is defined here, for the engine and for everything that is said of it: no call returns for `HANGS_S`.
"""

from __future__ import annotations

import threading
import time
from collections.abc import Callable
from types import TracebackType
from typing import Generic, TypeVar

T = TypeVar("T")

HANGS_S = 30.0
_STEP_S = 0.05


class NoAnswer(OSError):
    """A disk or mount did not answer within `HANGS_S`; the thread that asked was left behind."""


class Calls:
    """Follows the calls that threads make to one disk; any thread may ask how long one has not returned.

    Used as a context manager around each call, or each few, that may hang.
    """

    def __init__(self) -> None:
        self._since_s: dict[int, float] = {}

    def __enter__(self) -> None:
        self._since_s[threading.get_ident()] = time.monotonic()

    def __exit__(
        self, kind: type[BaseException] | None, error: BaseException | None, trace: TracebackType | None
    ) -> None:
        self._since_s.pop(threading.get_ident(), None)

    def silent_for_s(self) -> float:
        """For how long the oldest open call has not returned, in seconds; 0 where none is open."""
        begun = list(self._since_s.values())
        return time.monotonic() - min(begun) if begun else 0.0

    @property
    def hang(self) -> bool:
        """Whether a call has not returned for so long that nobody waits for it any more."""
        return self.silent_for_s() > HANGS_S


class Errand(Generic[T]):
    """Work that may hang, in a thread that can be left behind."""

    def __init__(self, work: Callable[[], T], calls: Calls, name: str = "errand") -> None:
        """`work` wraps what may hang in `calls`."""
        self._calls = calls
        self._result: list[T] = []
        self._error: BaseException | None = None
        self._work = work
        self._thread = threading.Thread(target=self._run, name=name, daemon=True)
        self._thread.start()

    def _run(self) -> None:
        try:
            self._result.append(self._work())
        except BaseException as error:  # noqa: BLE001  # handed to whoever waits for the result
            self._error = error

    @property
    def ended(self) -> bool:
        """Whether there is a result, or an error."""
        return not self._thread.is_alive()

    def result(self, step: Callable[[], None] = lambda: None) -> T:
        """The result, waited for as long as the calls return; `step` is called meanwhile.

        Raises:
            NoAnswer: one of the calls did not return; the thread is left behind.
            BaseException: what the work raised.
        """
        while not self.ended:
            if self._calls.hang:
                raise NoAnswer("it does not answer")
            step()
            self._thread.join(_STEP_S)
        if self._error is not None:
            raise self._error
        return self._result[0]


def answered(work: Callable[[], T], name: str = "errand") -> T:
    """The result of one short question to a disk.

    Raises:
        NoAnswer: it did not answer within `HANGS_S`; the thread is left behind.
        BaseException: what the work raised.
    """
    calls = Calls()

    def asked() -> T:
        with calls:
            return work()

    return Errand(asked, calls, name).result()
