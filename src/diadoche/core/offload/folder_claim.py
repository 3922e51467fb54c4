"""The folder that a card gets at a destination: taken by one offload alone, and held while it writes there."""

from __future__ import annotations

import os
from pathlib import Path

from diadoche.core.answering import Calls
from diadoche.core.diskfiles import make_folders, sync_folder
from diadoche.core.errors import TargetUnusable, writing
from diadoche.core.offload.journal import JOURNAL_NAME, Journal, read_journal


class FolderTaken(Exception):
    """Somebody else has the folder: another number has to be taken."""


def take_new_folder(root: Path, fingerprint: str, unlisted: tuple[str, ...], calls: Calls) -> Journal:
    """Makes a folder that nobody else has, with its journal in it.

    Two offloads that want the same folder at one moment are told apart twice: `mkdir` succeeds for one of them, and
    where the folder stood there empty, the exclusive making of the journal does.

    Raises:
        FolderTaken: something is in it, or somebody else was quicker.
        TargetError: it cannot be made.
    """
    with writing(root):
        make_folders(root.parent, calls)
        with calls:
            try:
                root.mkdir()
                sync_folder(root.parent)
            except FileExistsError:
                # An empty folder is one that a run made and had no time to write into.
                if root.is_symlink() or not root.is_dir() or os.listdir(root):
                    raise FolderTaken from None
            journal = Journal(root, fingerprint, unlisted=unlisted)
            try:
                journal.begin()
            except (FileExistsError, BlockingIOError):
                raise FolderTaken from None
            if set(os.listdir(root)) != {JOURNAL_NAME}:
                journal.take_back()
                raise FolderTaken
    return journal


def take_unfinished_folder(root: Path, fingerprint: str, unlisted: tuple[str, ...], calls: Calls) -> Journal:
    """Goes on with an unfinished copy, held from now on.

    Raises:
        TargetUnusable: another offload writes there now, or it is no unfinished copy any more.
        TargetError: it cannot be written to.
    """
    with writing(root), calls:
        journal = read_journal(root)
        if journal is None:
            raise _not_unfinished(root)
        try:
            journal.go_on(fingerprint, unlisted)
        except FileNotFoundError:
            raise _not_unfinished(root) from None
        except BlockingIOError:
            raise TargetUnusable(
                f"Another offload writes to {root} at this moment.",
                path=root,
                safe="Nothing was written by this one; the card is unchanged.",
                do="Wait until the other one has ended.",
            ) from None
    return journal


def _not_unfinished(root: Path) -> TargetUnusable:
    return TargetUnusable(
        f"{root} is no unfinished copy any more.",
        path=root,
        safe="Nothing was written there.",
        do="Offload the card again.",
    )
