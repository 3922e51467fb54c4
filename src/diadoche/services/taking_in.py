"""Footage becomes a copy where it lies; copies with manifests come back into the ledger."""

from __future__ import annotations

from dataclasses import dataclass, replace
from datetime import UTC, datetime
from pathlib import Path

from diadoche.core.cards.card import Card
from diadoche.core.disks import disk_of
from diadoche.core.errors import DiadocheError, Problem, RequestError
from diadoche.core.names import shown
from diadoche.core.offload.journal import is_unfinished
from diadoche.core.offload.mhl import read_history
from diadoche.core.offload.offload import Copy, KeptFile, OffloadResult
from diadoche.core.offload.onward import copies_below, copy_tree, take_in
from diadoche.core.watch import Watch
from diadoche.services.caring import ORIGINALS, checked_folder
from diadoche.services.looking import look_at
from diadoche.services.offloading import card_name
from diadoche.services.queue.kinds import JobKind
from diadoche.services.version import VERSION


@dataclass(frozen=True, slots=True)
class TakeInRequest:
    """Footage that lies on a good disk already."""

    root: Path
    shoot_id: int
    own_layouts: Path | None = None


@dataclass(frozen=True, slots=True)
class TakenIn:
    """A folder that has become a copy where it lies."""

    card: Card
    name: str
    fingerprint: str
    result: OffloadResult
    shoot_id: int
    shoot: str = ""


def perform_take_in(request: TakeInRequest, watch: Watch) -> TakenIn:
    """Reads and lists a folder where it lies; see `take_in` for what it raises."""
    began = datetime.now(UTC)
    card = look_at(request.root, request.own_layouts, watch)
    manifest, _tree = take_in(card.root, watch, version=VERSION)
    seconds = (datetime.now(UTC) - began).total_seconds()
    return _as_taken(card, card.root, manifest, card.root.parent, seconds, request.shoot_id)


TAKE_IN = JobKind("take in", TakeInRequest, TakenIn, perform_take_in, rank=1)


def _as_taken(card: Card, root: Path, manifest: Path, place: Path, seconds: float, shoot_id: int) -> TakenIn:
    """A folder with a manifest as the result of an offload that made one copy."""
    listed = read_history(root).digests
    tree = copy_tree(root)
    kept = tuple(KeptFile(file.path, file.size_bytes, listed[file.path]) for file in tree.files if file.path in listed)
    whole = not is_unfinished(root) and len(kept) == len(listed)
    disk = disk_of(root)
    copy = Copy(
        str(place),
        str(root),
        str(manifest),
        len(kept),
        sum(file.size_bytes for file in kept),
        "proven" if whole else "incomplete",
        True,
        disk.key,
        disk.words,
    )
    now = datetime.now(UTC)
    result = OffloadResult(
        str(root), len(listed), tree.size_bytes, seconds, now, (copy,), kept, whole, False, (), (), ()
    )
    return TakenIn(card, card_name(card), tree.fingerprint(), result, shoot_id)


@dataclass(frozen=True, slots=True)
class RebuildRequest:
    """Disks, or places for copies; the copies that the ledger knows already; the person's own layouts."""

    folders: tuple[Path, ...]
    known: frozenset[str]
    own_layouts: Path | None = None


@dataclass(frozen=True, slots=True)
class FoundCopies:
    """Copies that the ledger did not know, and what could not be read."""

    taken: tuple[TakenIn, ...]
    problems: tuple[Problem, ...]


def perform_rebuild(request: RebuildRequest, watch: Watch) -> FoundCopies:
    """Reads the manifests of every copy below the folders that the ledger does not know.

    A copy that says it is not whole is noted as such. Copies count as proven as of their manifests: to be
    sure of them today, verify them.

    Raises:
        RequestError: one of the folders is not there.
        Cancelled: the watch was stopped.
    """
    taken: list[TakenIn] = []
    problems: list[Problem] = []
    for folder in [checked_folder(each.absolute()) for each in request.folders]:
        for root in copies_below(folder):
            watch.check()
            if shown(str(root)) in request.known:
                continue
            try:
                taken.append(_found(folder, root, request.own_layouts, watch))
            except DiadocheError as error:
                problems.append(error.problem)
    return FoundCopies(tuple(taken), tuple(problems))


REBUILD = JobKind("rebuild", RebuildRequest, FoundCopies, perform_rebuild, rank=1)


def _found(place: Path, root: Path, own_layouts: Path | None, watch: Watch) -> TakenIn:
    inside = root.relative_to(place).parts
    shoot = inside[inside.index(ORIGINALS) - 1] if ORIGINALS in inside[1:] else place.name
    card = look_at(root, own_layouts, watch)
    manifests = sorted((root / "ascmhl").glob("*.mhl"))
    if not manifests:
        raise RequestError(f"{root} has no manifest.", path=root)
    taken = _as_taken(card, root, manifests[-1], place, 0.0, 0)
    return replace(taken, name=inside[-2] if len(inside) > 1 else root.name, shoot=shoot)
