"""A proven copy copied on to other places, or an unfinished one completed from it."""

from __future__ import annotations

from dataclasses import dataclass
from datetime import UTC, date, datetime
from pathlib import Path

from diadoche.core.errors import RequestError
from diadoche.core.offload.expected import CardTruth
from diadoche.core.offload.naming import NamingValues
from diadoche.core.offload.offload import OffloadResult, offload
from diadoche.core.offload.onward import plan_onward
from diadoche.core.watch import Watch
from diadoche.services.jobs.job_kind import JobKind
from diadoche.services.version import VERSION

ORIGINALS = "Originals"


@dataclass(frozen=True, slots=True)
class CopyOnRequest:
    """A proven copy, and the folders that new copies of it get below their places."""

    root: Path
    targets: tuple[tuple[Path, Path], ...]
    # What the ledger kept of the card's own reading, where manifests alone do not say it.
    card: CardTruth | None = None


@dataclass(frozen=True, slots=True)
class CopyOnOutcome:
    """What became of it."""

    root: Path
    result: OffloadResult


def perform_copy_on(request: CopyOnRequest, watch: Watch) -> CopyOnOutcome:
    """Copies a proven copy on, or completes an unfinished one from it; see `plan_onward` for what it raises."""
    filed_under = NamingValues("", date.min, request.root.name)
    plan = plan_onward(request.root, dict(request.targets), filed_under, watch, card=request.card)
    result = offload(plan, watch, version=VERSION, now=lambda: datetime.now(UTC))
    return CopyOnOutcome(request.root, result)


KIND = JobKind(
    "copy on", CopyOnRequest, CopyOnOutcome, perform_copy_on, rank=1, was_stopped=lambda outcome: outcome.result.stopped
)


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
