"""What the window's thread asks of disks while it is used: noted where it happens, however deep below a screen."""

from __future__ import annotations

import os
import sys
import threading
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from pathlib import Path
from types import FrameType
from typing import Any

import pytest

import diadoche

_SOURCE = str(Path(diadoche.__file__).parent)
_EVENTS = {"open", "os.listdir", "os.scandir", "os.mkdir", "os.rename", "os.remove", "os.rmdir"}
# What no audit event tells of.
_UNTOLD = ("stat", "lstat", "statvfs", "access", "readlink")
# Who waits for what is asked now, if anybody.
_listening: list[Callable[[str, str], None]] = []
_hooked: list[bool] = []


def _audit(event: str, given: tuple[Any, ...]) -> None:
    # Descriptors are of files that are open already.
    if _listening and event in _EVENTS and given and isinstance(given[0], str | bytes | os.PathLike):
        _listening[-1](event, os.fsdecode(given[0]))


@contextmanager
def disks_asked(monkeypatch: pytest.MonkeyPatch) -> Iterator[list[str]]:
    """Gives every call by which this thread asks a disk out of a window's code, with the path and who asked.

    Left out are the program's own files, what the simulated bench does in place of a card reader, and loading modules.

    Args:
        monkeypatch: puts back what is listened through.
    """
    if not _hooked:
        # It can never be taken away again.
        sys.addaudithook(_audit)
        _hooked.append(True)
    here, found = threading.get_ident(), list[str]()

    def note(call: str, path: str) -> None:
        if threading.get_ident() != here or path.startswith((_SOURCE, sys.prefix, sys.base_prefix, "/proc/")):
            return
        who = list(_callers(sys._getframe(1)))
        if any(each.startswith("ui/") for each in who) and not any(each.startswith("demo/") for each in who):
            found.append(f"{call} {path}: {' < '.join(who[:4])}")

    with monkeypatch.context() as listening:
        for name in _UNTOLD:
            real = getattr(os, name)

            def told(path: Any, *given: Any, real: Any = real, name: str = name, **named: Any) -> Any:
                if isinstance(path, str | bytes | os.PathLike):
                    note(f"os.{name}", os.fsdecode(path))
                return real(path, *given, **named)

            listening.setattr(os, name, told)
        _listening.append(note)
        try:
            yield found
        finally:
            _listening.pop()


def _callers(frame: FrameType | None) -> Iterator[str]:
    """The product's own code that led here, the innermost first; nothing while a module is loaded."""
    found = []
    while frame is not None:
        name = frame.f_code.co_filename
        if name.startswith("<frozen importlib"):
            return
        if name.startswith(_SOURCE):
            found.append(f"{name[len(_SOURCE) + 1 :]}:{frame.f_lineno}")
        frame = frame.f_back
    yield from found
