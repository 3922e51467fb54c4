"""Fetching a clip or a file back from a proven copy."""

from __future__ import annotations

from dataclasses import dataclass, replace
from pathlib import Path

from diadoche.core.errors import DiadocheError, MediaError, Problem, RequestError
from diadoche.core.offload.mhl import read_history
from diadoche.core.offload.restore import Restored, restore
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
    """Fetches it from the first copy that has it whole; copies that cannot be read are passed over, and named.

    Raises:
        RequestError: none of the copies has it.
        Cancelled: the watch was stopped.
    """
    last: RestoreOutcome | None = None
    unreadable: list[Problem] = []
    for root in request.roots:
        watch.check()
        try:
            paths = _matching(root, request.wanted)
            found = restore(root, paths, request.to, watch) if paths else None
        except (DiadocheError, OSError) as error:
            unreadable.append(_problem(root, error))
            continue
        if found is not None:
            last = RestoreOutcome(root, found)
            if not found.problems:
                return last
    if last is not None:
        return replace(last, found=replace(last.found, problems=(*last.found.problems, *unreadable)))
    if unreadable:
        raise MediaError(unreadable[0].what, path=unreadable[0].path, safe=unreadable[0].safe, do=unreadable[0].do)
    raise RequestError(
        f"No proven copy of {request.wanted} is here now.",
        safe="Nothing was changed.",
        do="Name a clip or a file as the waybill does, and plug in a disk that has it.",
    )


def _matching(root: Path, wanted: str) -> list[str]:
    """The paths in a copy that are meant; none where the copy is the one that is to be repaired."""
    if wanted.startswith(f"{root}/"):
        return []
    listed = read_history(root).digests
    paths = [path for path in listed if path == wanted or path.rpartition("/")[2] == wanted]
    paths = paths or _files_of_clip(root, wanted, listed)
    if not paths and Path(wanted).is_absolute():
        # A damaged file of a copy, named where it stands.
        paths = [path for path in listed if wanted.endswith(f"/{path}")]
    return paths


def _problem(root: Path, error: DiadocheError | OSError) -> Problem:
    if isinstance(error, DiadocheError):
        return error.problem
    return Problem(f"{root} cannot be read: {error.strerror or error}.", str(root), "Nothing was changed.", "")


def _files_of_clip(root: Path, wanted: str, listed: dict[str, dict[str, str]]) -> list[str]:
    card = list_card_at(root, None, Watch())
    return [path for clip in card.clips if clip.name == wanted for path in clip.files if path in listed]


KIND = JobKind("restore", RestoreRequest, RestoreOutcome, perform_restore, rank=1)
