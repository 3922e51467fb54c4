"""Footage becomes a copy where it lies."""

from __future__ import annotations

from dataclasses import dataclass
from datetime import UTC, datetime
from pathlib import Path

from diadoche.core.cards.card import Card
from diadoche.core.disks import disk_of
from diadoche.core.offload.journal import is_unfinished
from diadoche.core.offload.mhl import read_history
from diadoche.core.offload.offload import Copy, KeptFile, OffloadResult
from diadoche.core.offload.onward import copy_tree, take_in
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


@dataclass(frozen=True, slots=True)
class AdoptedFolder:
    """A folder that has become a copy where it lies."""

    card: Card
    name: str
    fingerprint: str
    result: OffloadResult
    shoot_id: int
    shoot: str = ""


def perform_adopt_folder(request: AdoptFolderRequest, watch: Watch) -> AdoptedFolder:
    """Reads and lists a folder where it lies; see `take_in` for what it raises."""
    began = datetime.now(UTC)
    card = list_card_at(request.root, request.own_layouts, watch)
    manifest, _tree = take_in(card.root, watch, version=VERSION)
    seconds = (datetime.now(UTC) - began).total_seconds()
    return as_adopted(card, card.root, manifest, card.root.parent, seconds, request.shoot_id)


KIND = JobKind("take in", AdoptFolderRequest, AdoptedFolder, perform_adopt_folder, rank=1)


def as_adopted(card: Card, root: Path, manifest: Path, place: Path, seconds: float, shoot_id: int) -> AdoptedFolder:
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
    return AdoptedFolder(card, card_name(card), tree.fingerprint(), result, shoot_id)
