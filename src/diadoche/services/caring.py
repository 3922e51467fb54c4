"""What is done with copies after the offload: copied on, completed, brought level."""

from __future__ import annotations

from dataclasses import dataclass
from datetime import UTC, date, datetime
from pathlib import Path

from diadoche.core.errors import DiadocheError, Problem, RequestError
from diadoche.core.offload.naming import Taking
from diadoche.core.offload.offload import Copy, OffloadResult, offload
from diadoche.core.offload.onward import compare_places, plan_onward, restore
from diadoche.core.watch import Watch
from diadoche.services.queue.kinds import JobKind
from diadoche.services.version import VERSION

ORIGINALS = "Originals"


@dataclass(frozen=True, slots=True)
class CopyOnRequest:
    """A proven copy, and the folders that new copies of it get below their places."""

    root: Path
    targets: tuple[tuple[Path, Path], ...]


@dataclass(frozen=True, slots=True)
class CopyOnOutcome:
    """What became of it."""

    root: Path
    result: OffloadResult


def perform_copy_on(request: CopyOnRequest, watch: Watch) -> CopyOnOutcome:
    """Copies a proven copy on, or completes an unfinished one from it; see `plan_onward` for what it raises."""
    plan = plan_onward(request.root, dict(request.targets), Taking("", date.min, request.root.name), watch)
    result = offload(plan, watch, version=VERSION, now=lambda: datetime.now(UTC))
    return CopyOnOutcome(request.root, result)


COPY_ON = JobKind("copy on", CopyOnRequest, CopyOnOutcome, perform_copy_on, rank=1)


def checked_folder(folder: Path) -> Path:
    """The folder, when it is there.

    Raises:
        RequestError: it is not.
    """
    if not folder.is_dir():
        raise RequestError(
            f"There is no folder at {folder}.", path=folder, safe="Nothing was changed.", do="Plug its disk in."
        )
    return folder


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

    Raises:
        RequestError: one of the places is not there.
        MediaError: a manifest cannot be read.
        Cancelled: the watch was stopped; what was finished stays.
    """
    here, there = checked_folder(request.here), checked_folder(request.there)
    unlike = compare_places(here, there, watch)
    made: list[CopyOnOutcome] = []
    restored: list[str] = []
    problems: list[Problem] = []
    for copies, source, target in ((unlike.only_here, here, there), (unlike.only_there, there, here)):
        for copy in copies:
            try:
                outcome = perform_copy_on(CopyOnRequest(source / copy, ((target, target / copy),)), watch)
            except DiadocheError as error:
                problems.append(error.problem)
                continue
            made.append(outcome)
            problems += outcome.result.problems
    for missing, source, target in ((unlike.missing_there, here, there), (unlike.missing_here, there, here)):
        for copy, paths in missing.items():
            back = restore(source / copy, paths, target / copy, watch)
            restored += [str(path) for path in back.files.values()]
            problems += back.problems
    return Levelled(tuple(made), tuple(restored), unlike.differing, tuple(problems))


LEVEL = JobKind("level", LevelRequest, Levelled, perform_level, rank=1)
