"""Footage becomes a copy where it lies."""

from __future__ import annotations

from dataclasses import dataclass
from datetime import UTC, datetime
from pathlib import Path

from diadoche.core.cards.card import Card
from diadoche.core.disks import ReadBack, disk_of
from diadoche.core.offload.adopt import TakenIn, adopt_folder
from diadoche.core.offload.copies import Copy, CopyState
from diadoche.core.offload.expected import CardTruth, Promise
from diadoche.core.offload.found_copies import copy_tree
from diadoche.core.offload.journal import is_unfinished
from diadoche.core.offload.manifest_reading import read_history
from diadoche.core.offload.offload import KeptFile, OffloadResult
from diadoche.core.watch import Watch
from diadoche.services.jobs.job_kind import JobKind
from diadoche.services.jobs.list_card import list_card_at
from diadoche.services.jobs.offload import card_name
from diadoche.services.version import VERSION


@dataclass(frozen=True, slots=True)
class AdoptFolderRequest:
    """Footage that lies on a good disk already."""

    root: Path
    shoot_id: int
    own_layouts: Path | None = None
    # What the ledger kept of the card that this is a copy of, where it knows one.
    card: CardTruth | None = None


@dataclass(frozen=True, slots=True)
class AdoptedFolder:
    """A folder that is a copy where it lies."""

    card: Card
    name: str
    fingerprint: str
    result: OffloadResult
    shoot_id: int
    shoot: str = ""


def perform_adopt_folder(request: AdoptFolderRequest, watch: Watch) -> AdoptedFolder:
    """Reads and lists a folder where it lies; see `adopt_folder` for what it raises."""
    began = datetime.now(UTC)
    card = list_card_at(request.root, request.own_layouts, watch)
    taken = adopt_folder(card.root, watch, version=VERSION, card=request.card)
    seconds = (datetime.now(UTC) - began).total_seconds()
    return as_adopted(card, card.root, taken.manifest, card.root.parent, seconds, request.shoot_id, taken)


KIND = JobKind("take in", AdoptFolderRequest, AdoptedFolder, perform_adopt_folder, rank=1)


def as_adopted(
    card: Card, root: Path, manifest: Path, place: Path, seconds: float, shoot_id: int, taken: TakenIn | None = None
) -> AdoptedFolder:
    """A folder with a manifest as the result of an offload that made one copy.

    It claims what the manifests and a look at the sizes allow, and that it is proven only where it was read (`taken`).

    Raises:
        MediaError: its manifests cannot be read.
        OSError: it cannot be listed.
    """
    listed, was_read = read_history(root), taken is not None
    tree = copy_tree(root, listed=listed.files)
    expected = [(file, listed.files[file.path]) for file in tree.files if file.path in listed.files]
    kept = tuple(
        KeptFile(known.path, file.size_bytes, dict(known.digests))
        for file, known in expected
        if known.digests and known.size_bytes in {None, file.size_bytes}
    )
    disk = disk_of(root)
    copy = Copy(
        str(place),
        str(root),
        str(manifest),
        len(kept) if was_read else 0,
        sum(file.size_bytes for file in kept) if was_read else 0,
        _state(root, listed, len(kept), unlisted=bool(tree.unlisted), taken=taken),
        ReadBack.CACHE,
        disk.key,
        disk.words,
        identity=listed.identity,
        renamed={known.path: known.kept_as for _file, known in expected if known.path != known.kept_as},
        wanting=len(listed.files) - len(kept),
    )
    now, whole = datetime.now(UTC), not listed.less_than_whole and not tree.unlisted
    result = OffloadResult(
        str(root), len(listed.files), listed.size_bytes, seconds, now, (copy,), kept, whole, False, (), (),
        tree.unlisted, taking=listed.identity.taking,
    )  # fmt: skip
    return AdoptedFolder(card, card_name(card), tree.fingerprint(), result, shoot_id)


def _state(root: Path, listed: Promise, kept: int, *, unlisted: bool, taken: TakenIn | None) -> CopyState:
    if is_unfinished(root) or listed.not_whole:
        return CopyState.INCOMPLETE
    if kept < len(listed.files) or unlisted:
        return CopyState.DAMAGED
    if taken is not None:
        return CopyState.PROVEN
    return CopyState.ALTERED if listed.altered else CopyState.LISTED
