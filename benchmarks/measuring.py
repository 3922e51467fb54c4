"""Rows of the table, and how a ratio is measured: both sides in turn, two or three times, the median quoted."""

from __future__ import annotations

import os
import statistics
import subprocess
import time
from collections.abc import Callable, Sequence
from dataclasses import asdict, dataclass
from pathlib import Path

TURNS = 3
# Two turns that differ by less than this share of themselves need no third, nor do two that are so far from a limit.
_ALIKE, _CLEAR = 0.08, 0.25


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
    ours: Callable[[], object],
    theirs: Callable[[], object],
    before: Callable[[], object] = lambda: None,
    limit: float | None = None,
) -> float:
    """Our time over theirs: the median over turns, `before` each run and not counted; `limit` is what it should be."""
    return ratios(ours, [theirs], before, [limit])[0]


def ratios(
    ours: Callable[[], object],
    others: Sequence[Callable[[], object]],
    before: Callable[[], object] = lambda: None,
    limits: Sequence[float | None] = (),
) -> list[float]:
    """Our time over that of each of several others, all in the same turns; see `ratio`."""
    found: list[list[float]] = [[] for _other in others]
    for turn in range(TURNS):
        if turn >= 2 and all(map(is_clear, found, limits or [None] * len(found))):
            break
        times_s = []
        for work in (*others, ours):
            before()
            times_s.append(timed(work))
        for own, other_s in zip(found, times_s[:-1], strict=True):
            own.append(times_s[-1] / other_s)
    return [statistics.median(own) for own in found]


def is_clear(found: Sequence[float], limit: float | None) -> bool:
    """Whether ratios that were measured need no further turn: they are alike, or far from what they should be."""
    low, high = min(found), max(found)
    alike = high - low <= _ALIKE * low
    return alike or (limit is not None and (high * (1 + _CLEAR) < limit or low > limit * (1 + _CLEAR)))


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


def high_water_bytes() -> int:
    """The most memory that this process has held so far. By the kernel's own mark: `getrusage` counts its parent's."""
    return int(Path("/proc/self/status").read_text().split("VmHWM:")[1].split()[0]) * 1024
