"""Copies with manifests come back into the ledger."""

from __future__ import annotations

from dataclasses import dataclass, replace
from pathlib import Path

from diadoche.core.errors import DiadocheError, Problem, RequestError
from diadoche.core.names import shown
from diadoche.core.offload.found_copies import copies_below
from diadoche.core.offload.manifest_chain import generations
from diadoche.core.offload.manifest_words import FOLDER
from diadoche.core.open_folder import OpenFolder
from diadoche.core.watch import Watch
from diadoche.services.jobs.adopt_folder import AdoptedFolder, as_adopted
from diadoche.services.jobs.copy_on import ORIGINALS, checked_folder
from diadoche.services.jobs.job_kind import JobKind
from diadoche.services.jobs.list_card import list_card_at


@dataclass(frozen=True, slots=True)
class RebuildRequest:
    """Disks, or places for copies; the copies that the ledger knows already; the person's own layouts."""

    folders: tuple[Path, ...]
    known: frozenset[str]
    own_layouts: Path | None = None


@dataclass(frozen=True, slots=True)
class FoundCopies:
    """Copies that the ledger did not know, and what could not be read."""

    taken: tuple[AdoptedFolder, ...]
    problems: tuple[Problem, ...]


def perform_rebuild(request: RebuildRequest, watch: Watch) -> FoundCopies:
    """Reads the manifests of every copy below the folders that the ledger does not know.

    A copy that says it is not whole is noted as such. The others count as listed, not as proven: nothing of them is
    read. To be sure of them, verify them.

    Raises:
        RequestError: one of the folders is not there.
        Cancelled: the watch was stopped.
    """
    taken: list[AdoptedFolder] = []
    problems: list[Problem] = []
    for folder in [checked_folder(each.absolute()) for each in request.folders]:
        below = copies_below(folder, watch)
        problems += below.unlisted
        for root in below.roots:
            watch.check()
            if shown(str(root)) in request.known:
                continue
            try:
                taken.append(_found(folder, root, request.own_layouts, watch))
            except DiadocheError as error:
                problems.append(error.problem)
            except OSError as error:
                problems.append(Problem(f"{root} cannot be read: {error.strerror or error}.", str(root)))
    return FoundCopies(tuple(taken), tuple(problems))


KIND = JobKind("rebuild", RebuildRequest, FoundCopies, perform_rebuild, rank=1)


def _found(place: Path, root: Path, own_layouts: Path | None, watch: Watch) -> AdoptedFolder:
    inside = root.relative_to(place).parts
    shoot = inside[inside.index(ORIGINALS) - 1] if ORIGINALS in inside[1:] else place.name
    card = list_card_at(root, own_layouts, watch)
    with OpenFolder.at(root) as copy:
        manifests = generations(copy)
    if not manifests:
        raise RequestError(f"{root} has no manifest.", path=root)
    taken = as_adopted(card, root, root / FOLDER / manifests[-1], place, 0.0, 0)
    return replace(taken, name=inside[-2] if len(inside) > 1 else root.name, shoot=shoot)
