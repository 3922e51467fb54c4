"""Copies as they are found on disks: their folders, and what is in them but for what we added."""

from __future__ import annotations

import stat
from collections.abc import Collection
from dataclasses import dataclass, replace
from pathlib import Path

from diadoche.core.cards.tree import Tree, list_tree
from diadoche.core.diskfiles import PART_SUFFIX
from diadoche.core.errors import Problem
from diadoche.core.offload.journal import JOURNAL_NAME, is_unfinished
from diadoche.core.offload.manifest_reading import identity_of
from diadoche.core.offload.manifest_words import FOLDER
from diadoche.core.open_folder import OpenFolder
from diadoche.core.watch import Watch


def copy_tree(root: Path, watch: Watch | None = None, listed: Collection[str] = ()) -> Tree:
    """A copy as it came off the card: without the manifests, the journal and what was on its way.

    `listed` are names that its manifests list: those are the card's, whatever they are called.
    """
    tree = list_tree(root, watch)
    cards = {part for name in listed for part in _with_folders(name)}
    return replace(
        tree,
        files=tuple(file for file in tree.files if file.path in cards or not is_ours(file.path)),
        folders=tuple(folder for folder in tree.folders if folder.path in cards or not is_ours(folder.path)),
    )


def _with_folders(name: str) -> list[str]:
    parts = name.split("/")
    return ["/".join(parts[:count]) for count in range(1, len(parts) + 1)]


def is_ours(path: str) -> bool:
    """Whether something in a copy was added by us."""
    return path.split("/")[0] in {FOLDER, PART_SUFFIX} or path == JOURNAL_NAME


@dataclass(frozen=True, slots=True)
class FoundBelow:
    """Copies below a folder, in order; and the folders that nobody could look into: there may be more in those."""

    roots: tuple[Path, ...]
    unlisted: tuple[Problem, ...]


def copies_below(folder: Path, watch: Watch | None = None) -> FoundBelow:
    """Every folder below that has manifests or a journal of its own; not copies within copies.

    Raises:
        OSError: the folder itself cannot be listed.
        Cancelled: the watch was stopped.
    """
    roots: list[Path] = []
    unlisted: list[Problem] = []
    waiting = [""]
    with OpenFolder.at(folder) as top:
        while waiting:
            if watch is not None:
                watch.check()
            here = waiting.pop()
            try:
                entries = top.listed(here)
            except OSError as error:
                if not here:
                    raise
                unlisted.append(_cannot_look(folder / here, error))
                continue
            inner = [name for name, info in entries if stat.S_ISDIR(info.st_mode)]
            if FOLDER in inner or any(name == JOURNAL_NAME for name, _info in entries):
                roots.append(folder / here)
            else:
                waiting += [f"{here}/{name}" if here else name for name in reversed(inner)]
    return FoundBelow(tuple(roots), tuple(unlisted))


def copy_around(path: Path) -> Path | None:
    """The copy that a path lies in, by its own journal or a manifest that says which copy it is; None where in none.

    Manifests of other tools may stand at the top of whole disks: those are no copies of ours.
    """
    for folder in (path, *path.parents):
        if is_unfinished(folder) or identity_of(folder).copy:
            return folder
    return None


def _cannot_look(folder: Path, error: OSError) -> Problem:
    return Problem(
        f"{folder} cannot be listed: {error.strerror or error}.",
        str(folder),
        "Nothing is known of what is in it; nothing was changed.",
        "Look at its disk and its rights, and try again.",
    )
