"""Fetching a clip or a file back from a proven copy."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, replace
from pathlib import Path

from diadoche.core.errors import DiadocheError, MediaError, Problem, RequestError
from diadoche.core.offload.expected import CardTruth, ExpectedFile, Outcome
from diadoche.core.offload.found_copies import copy_around
from diadoche.core.offload.manifest_reading import identity_of, read_history
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
    # What the ledger kept of the card of each of these, where its manifests alone do not say it.
    cards: tuple[CardTruth | None, ...] = ()


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
    cards = dict(zip(request.roots, request.cards, strict=False))
    for root in _of_one_card(request, cards, unreadable, watch):
        try:
            paths = _matching(root, request.wanted, cards.get(root))
            found = restore(root, paths, request.to, watch, cards.get(root)) if paths else None
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


def _of_one_card(
    request: RestoreRequest, cards: dict[Path, CardTruth | None], unreadable: list[Problem], watch: Watch
) -> list[Path]:
    """The copies that may give what is wanted: all of one taking of a card.

    Where the place is a copy, or the wanted file is named where it stands in one, it is that copy's card. Else several
    cards may have something of that name: then the person has to say which is meant.

    Raises:
        RequestError: things of that name on several cards are not the same.
        Cancelled: the watch was stopped.
    """
    taking = identity_of(request.to).taking
    if not taking and Path(request.wanted).is_absolute() and (around := copy_around(Path(request.wanted).parent)):
        taking = identity_of(around).taking
    found: list[Path] = []
    meant: dict[str, tuple[Path, list[ExpectedFile]]] = {}
    for root in request.roots:
        watch.check()
        try:
            promise = read_history(root, card=cards.get(root))
            paths = _matching(root, request.wanted, cards.get(root))
        except (DiadocheError, OSError) as error:
            unreadable.append(_problem(root, error))
            continue
        if taking and promise.identity.taking and promise.identity.taking != taking:
            continue
        found.append(root)
        if paths:
            meant.setdefault(promise.identity.taking or str(root), (root, [promise.files[path] for path in paths]))
    (first_root, first), *others = list(meant.values()) or [(Path(), [])]
    for root, files in others:
        if not _alike(first, files):
            raise _several(request.wanted, first_root, root)
    return found


def _alike(one: list[ExpectedFile], other: list[ExpectedFile]) -> bool:
    """Whether what two copies have under a name is the same."""
    return len(one) == len(other) and all(
        any(file.outcome(each.digests) is Outcome.EQUAL for each in other) for file in one
    )


def _several(wanted: str, one: Path, other: Path) -> RequestError:
    return RequestError(
        f"Several cards have something called {wanted}, and not the same: {one} and {other}, among others.",
        safe="Nothing was changed.",
        do="Say which is meant by its whole path in a copy.",
    )


def _matching(root: Path, wanted: str, card: CardTruth | None) -> list[str]:
    """The paths in a copy that are meant; none where the copy is the one that is to be repaired."""
    if wanted.startswith(f"{root}/"):
        return []
    files = read_history(root, card=card).files
    names = {name: (name, file.path) for name, file in files.items()}
    paths = [name for name, known in names.items() if wanted in known]
    paths = paths or [name for name, known in names.items() if wanted in {each.rpartition("/")[2] for each in known}]
    paths = paths or _files_of_clip(root, wanted, files)
    if not paths and Path(wanted).is_absolute() and (around := copy_around(Path(wanted).parent)) is not None:
        # A damaged file of a copy, named where it stands.
        theirs = read_history(around).files.get(Path(wanted).relative_to(around).as_posix())
        paths = [name for name, file in files.items() if theirs is not None and file.path == theirs.path]
    return paths


def _problem(root: Path, error: DiadocheError | OSError) -> Problem:
    if isinstance(error, DiadocheError):
        return error.problem
    return Problem(f"{root} cannot be read: {error.strerror or error}.", str(root), "Nothing was changed.", "")


def _files_of_clip(root: Path, wanted: str, listed: Mapping[str, ExpectedFile]) -> list[str]:
    card = list_card_at(root, None, Watch())
    return [path for clip in card.clips if clip.name == wanted for path in clip.files if path in listed]


KIND = JobKind("restore", RestoreRequest, RestoreOutcome, perform_restore, rank=1)
