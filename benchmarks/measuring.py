"""Rows of the table, and how a ratio is measured: both sides in turn, several times, the median quoted."""

from __future__ import annotations

import os
import statistics
import subprocess
import time
from collections.abc import Callable
from dataclasses import asdict, dataclass
from pathlib import Path

TURNS = 3


@dataclass(frozen=True, slots=True)
class Row:
    """One line of the table."""

    work: str
    against: str
    goal: str
    measured: str
    met: bool | None

    def as_dict(self) -> dict[str, object]:
        """The row for the JSON file."""
        return asdict(self)


def timed(work: Callable[[], object]) -> float:
    """Seconds that one run takes."""
    began = time.perf_counter()
    work()
    return time.perf_counter() - began


def ratio(
    ours: Callable[[], object], theirs: Callable[[], object], before: Callable[[], object] = lambda: None
) -> float:
    """Our time over theirs: the median over several turns, `before` each run and not counted."""
    found = []
    for _ in range(TURNS):
        before()
        theirs_s = timed(theirs)
        before()
        found.append(timed(ours) / theirs_s)
    return statistics.median(found)


def at_most(work: str, against: str, limit: float, measured: float) -> Row:
    """A row whose ratio may not be above a limit."""
    return Row(work, against, f"≤ {limit:.2f}× the time", f"{measured:.2f}×", measured <= limit)


def run(*words: str | Path, **options: object) -> None:
    """Runs a public tool; it must succeed."""
    subprocess.run([str(word) for word in words], check=True, capture_output=True, **options)  # type: ignore[call-overload]


def quiet_disks() -> None:
    """Writes out what is pending and forgets what was read, so that each turn begins alike."""
    os.sync()
    try:
        Path("/proc/sys/vm/drop_caches").write_text("3")
    except OSError:
        return
