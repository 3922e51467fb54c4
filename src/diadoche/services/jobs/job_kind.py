"""Kinds of jobs. A new kind is a new use-case module with a `KIND`, and one line in ALL_KINDS."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from typing import Any

from diadoche.core.watch import Watch


def _never(_result: Any) -> bool:
    return False


@dataclass(frozen=True, slots=True)
class JobKind:
    """A plain function of a frozen request that runs in a process of its own.

    `gentle` work gives way to everything else on the processor; work that is `alone` has its resource for itself.
    """

    name: str
    request: type[Any]
    result: type[Any]
    perform: Callable[[Any, Watch], Any]
    rank: int
    gentle: bool = False
    alone: bool = False
    # What it gives before its end, where it gives anything.
    part: Any = None
    # Whether a result says that the work was stopped before its end: it is written down, and the job is no done one.
    was_stopped: Callable[[Any], bool] = _never
