"""Two places brought to the same state: what one lacks is copied and proven, differences are named."""

from __future__ import annotations

from dataclasses import dataclass
from pathlib import Path

from diadoche.core.errors import DiadocheError, Problem
from diadoche.core.offload.compare_places import compare_places
from diadoche.core.offload.copies import Copy
from diadoche.core.offload.restore import restore
from diadoche.core.watch import Watch
from diadoche.services.jobs.copy_on import CopyOnOutcome, CopyOnRequest, checked_folder, perform_copy_on
from diadoche.services.jobs.job_kind import JobKind


@dataclass(frozen=True, slots=True)
class LevelRequest:
    """Two places for copies."""

    here: Path
    there: Path


@dataclass(frozen=True, slots=True)
class Levelled:
    """What bringing two places to the same state did."""

    made: tuple[CopyOnOutcome, ...]
    restored: tuple[str, ...]
    differing: tuple[str, ...]
    problems: tuple[Problem, ...]

    @property
    def copied(self) -> tuple[Copy, ...]:
        """Every copy that was made."""
        return tuple(copy for outcome in self.made for copy in outcome.result.copies)


def perform_level(request: LevelRequest, watch: Watch) -> Levelled:
    """Copies to each of two places what only the other has, and proves it; nothing is deleted or overwritten.

    Every file of the copies that both have is read: what differs is named, and left as it is.

    Raises:
        RequestError: one of the places is not there.
        Cancelled: the watch was stopped; what was finished stays.
    """
    here, there = checked_folder(request.here), checked_folder(request.there)
    unlike = compare_places(here, there, watch)
    made: list[CopyOnOutcome] = []
    restored: list[str] = []
    problems = list(unlike.problems)
    for pairs, place in ((unlike.wanting_there, there), (unlike.wanting_here, here)):
        for pair in pairs:
            try:
                outcome = perform_copy_on(CopyOnRequest(pair.source, ((place, pair.target),)), watch)
            except DiadocheError as error:
                problems.append(error.problem)
                continue
            made.append(outcome)
            problems += outcome.result.problems
            # A stopped copy is part of the result of a stop, which ends the rest too.
            watch.check()
    for pair, paths in [*unlike.missing_there.items(), *unlike.missing_here.items()]:
        try:
            back = restore(pair.source, paths, pair.target, watch)
        except DiadocheError as error:
            problems.append(error.problem)
            continue
        restored += [str(path) for path in back.files.values()]
        problems += back.problems
    return Levelled(tuple(made), tuple(restored), tuple(unlike.differing), tuple(problems))


KIND = JobKind("level", LevelRequest, Levelled, perform_level, rank=1)
