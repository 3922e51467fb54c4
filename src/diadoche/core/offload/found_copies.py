"""Copies as they are found on disks: their folders, and what is in them but for what we added."""

from __future__ import annotations

import os
from dataclasses import replace
from pathlib import Path

from diadoche.core.cards.tree import Tree, list_tree
from diadoche.core.diskfiles import PART_SUFFIX
from diadoche.core.offload.journal import JOURNAL_NAME
from diadoche.core.offload.mhl import FOLDER
from diadoche.core.watch import Watch


def copy_tree(root: Path, watch: Watch | None = None) -> Tree:
    """A copy as it came off the card: without the manifests, the journal and what was on its way."""
    tree = list_tree(root, watch)
    return replace(
        tree,
        files=tuple(file for file in tree.files if not is_ours(file.path)),
        folders=tuple(folder for folder in tree.folders if not is_ours(folder.path)),
    )


def is_ours(path: str) -> bool:
    """Whether something in a copy was added by us."""
    return path.split("/")[0] in {FOLDER, PART_SUFFIX} or path == JOURNAL_NAME


def copies_below(folder: Path) -> list[Path]:
    """Every folder below that has manifests or a journal of its own, in order; not copies within copies."""
    found: list[Path] = []
    for here, folders, files in os.walk(folder):
        if FOLDER in folders or JOURNAL_NAME in files:
            found.append(Path(here))
            folders.clear()
        folders.sort()
    return found
