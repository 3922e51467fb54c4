"""Footage becomes a copy where it lies."""

from __future__ import annotations

from dataclasses import dataclass
from datetime import UTC, datetime
from pathlib import Path

from diadoche.core.cards.card import Card
from diadoche.core.disks import ReadBack, disk_of
from diadoche.core.offload.adopt import adopt_folder
from diadoche.core.offload.copies import Copy, CopyState
from diadoche.core.offload.found_copies import copy_tree
from diadoche.core.offload.journal import is_unfinished
from diadoche.core.offload.mhl import Listed, read_history
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
    manifest, _tree = adopt_folder(card.root, watch, version=VERSION)
    seconds = (datetime.now(UTC) - began).total_seconds()
    return as_adopted(card, card.root, manifest, card.root.parent, seconds, request.shoot_id, was_read=True)


KIND = JobKind("take in", AdoptFolderRequest, AdoptedFolder, perform_adopt_folder, rank=1)


def as_adopted(
    card: Card, root: Path, manifest: Path, place: Path, seconds: float, shoot_id: int, *, was_read: bool
) -> AdoptedFolder:
    """A folder with a manifest as the result of an offload that made one copy.

    It claims what the manifests and a look at the sizes allow, and that it is proven only where it was read.

    Raises:
        MediaError: its manifests cannot be read.
        OSError: it cannot be listed.
    """
    listed = read_history(root)
    tree = copy_tree(root)
    kept = tuple(
        KeptFile(file.path, file.size_bytes, listed.digests[file.path])
        for file in tree.files
        if listed.digests.get(file.path) and listed.sizes.get(file.path, file.size_bytes) == file.size_bytes
    )
    disk = disk_of(root)
    copy = Copy(
        str(place),
        str(root),
        str(manifest),
        len(kept) if was_read else 0,
        sum(file.size_bytes for file in kept) if was_read else 0,
        _state(root, listed, len(kept), unlisted=bool(tree.unlisted), was_read=was_read),
        ReadBack.CACHE,
        disk.key,
        disk.words,
    )
    now, whole = datetime.now(UTC), not listed.less_than_whole and not tree.unlisted
    result = OffloadResult(
        str(root), len(listed.digests), sum(listed.sizes.values()), seconds, now, (copy,), kept, whole, False, (), (),
        tree.unlisted,
    )  # fmt: skip
    return AdoptedFolder(card, card_name(card), tree.fingerprint(), result, shoot_id)


def _state(root: Path, listed: Listed, kept: int, *, unlisted: bool, was_read: bool) -> CopyState:
    if is_unfinished(root) or listed.not_whole:
        return CopyState.INCOMPLETE
    if kept < len(listed.digests) or unlisted:
        return CopyState.DAMAGED
    return CopyState.PROVEN if was_read else CopyState.LISTED
