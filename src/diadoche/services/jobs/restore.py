"""Fetching a clip or a file back from a proven copy."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass
from pathlib import Path

from diadoche.core.errors import RequestError
from diadoche.core.offload.mhl import read_history
from diadoche.core.offload.onward import Restored, restore
from diadoche.core.watch import Watch
from diadoche.services.jobs.job_kind import JobKind
from diadoche.services.jobs.list_card import list_card_at


@dataclass(frozen=True, slots=True)
class RestoreRequest:
    """What is wanted, by its name or its path on the card, where it goes, and the copies that may have it."""

    wanted: str
    to: Path
    roots: tuple[Path, ...]


@dataclass(frozen=True, slots=True)
class RestoreOutcome:
    """What was fetched, and from which copy."""

    root: Path
    found: Restored


def perform_restore(request: RestoreRequest, watch: Watch) -> RestoreOutcome:
    """Fetches it from the first copy that has it whole.

    Raises:
        RequestError: none of the copies has it.
        Cancelled: the watch was stopped.
    """
    last: RestoreOutcome | None = None
    for root, paths in _matching(request):
        watch.check()
        last = RestoreOutcome(root, restore(root, paths, request.to, watch))
        if not last.found.problems:
            return last
    if last is not None:
        return last
    raise RequestError(
        f"No proven copy of {request.wanted} is here now.",
        safe="Nothing was changed.",
        do="Name a clip or a file as the waybill does, and plug in a disk that has it.",
    )


def _matching(request: RestoreRequest) -> Iterator[tuple[Path, list[str]]]:
    wanted = request.wanted
    for root in request.roots:
        listed = read_history(root).digests
        paths = [path for path in listed if path == wanted or path.rpartition("/")[2] == wanted]
        paths = paths or _files_of_clip(root, wanted, listed)
        if not paths and Path(wanted).is_absolute():
            # A damaged file of a copy, named where it stands.
            paths = [path for path in listed if wanted.endswith(f"/{path}")]
        if paths and not wanted.startswith(f"{root}/"):
            yield root, paths


def _files_of_clip(root: Path, wanted: str, listed: dict[str, dict[str, str]]) -> list[str]:
    card = list_card_at(root, None, Watch())
    return [path for clip in card.clips if clip.name == wanted for path in clip.files if path in listed]


KIND = JobKind("restore", RestoreRequest, RestoreOutcome, perform_restore, rank=1)
