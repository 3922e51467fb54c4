"""The folder that a card gets at a destination: taken by one offload alone, and held while it writes there."""

from __future__ import annotations

import errno
from contextlib import suppress
from pathlib import Path

from diadoche.core.answering import Calls
from diadoche.core.diskfiles import make_folders, sync_folder
from diadoche.core.errors import TargetUnusable, writing
from diadoche.core.offload.identity import CopyIdentity, new_id
from diadoche.core.offload.journal import JOURNAL_NAME, MANIFEST_FOLDER, Journal, read_journal
from diadoche.core.open_folder import OpenFolder


class FolderTaken(Exception):
    """Somebody else has the folder: another number has to be taken."""


class SameFolder(Exception):
    """Another destination of this very run has the folder: two ways lead to it."""


def take_new_folder(
    root: Path, fingerprint: str, unlisted: tuple[str, ...], taking: str, calls: Calls
) -> tuple[Journal, OpenFolder]:
    """Makes a folder that nobody else has, with its journal in it.

    Two offloads that want the same folder at one moment are told apart twice: `mkdir` succeeds for one of them, and
    where the folder stood there empty, the exclusive making of the journal does.

    Raises:
        FolderTaken: something is in it, or somebody else was quicker.
        SameFolder: a destination of this very run was quicker, by another way to the same folder.
        TargetError: it cannot be made.
    """
    with writing(root):
        make_folders(root.parent, calls)
        with calls:
            with suppress(FileExistsError):
                root.mkdir()
                sync_folder(root.parent)
            try:
                folder = _opened(root)
            except OSError as error:
                if error.errno in {errno.ENOTDIR, errno.ELOOP}:
                    raise FolderTaken from error
                raise
            try:
                # An empty folder is one that a run made and had no time to write into.
                if folder.names():
                    raise _taken(root, taking)
                journal = Journal(root, fingerprint, unlisted=unlisted, identity=CopyIdentity(taking, new_id()))
                try:
                    journal.begin(folder)
                except (FileExistsError, BlockingIOError):
                    raise _taken(root, taking) from None
                if set(folder.names()) != {JOURNAL_NAME, MANIFEST_FOLDER}:
                    journal.take_back()
                    raise FolderTaken
            except BaseException:
                folder.close()
                raise
    return journal, folder


def _opened(root: Path) -> OpenFolder:
    """The folder itself, and never what a link of its name leads to."""
    with OpenFolder.at(root.parent) as above:
        found = above.folder(root.name)
    return OpenFolder(found.release(), root)


def _taken(root: Path, taking: str) -> FolderTaken | SameFolder:
    journal = read_journal(root)
    return SameFolder() if journal is not None and journal.identity.taking == taking else FolderTaken()


def take_unfinished_folder(
    root: Path, fingerprint: str, unlisted: tuple[str, ...], taking: str, calls: Calls
) -> tuple[Journal, OpenFolder]:
    """Goes on with an unfinished copy, held from now on.

    Raises:
        TargetUnusable: another offload writes there now, or it is no unfinished copy any more.
        TargetError: it cannot be written to.
    """
    with writing(root), calls:
        journal = read_journal(root)
        if journal is None:
            raise _not_unfinished(root)
        folder = _opened(root)
        try:
            journal.go_on(folder, fingerprint, unlisted, taking)
        except FileNotFoundError:
            folder.close()
            raise _not_unfinished(root) from None
        except BlockingIOError:
            folder.close()
            raise TargetUnusable(
                f"Another offload writes to {root} at this moment.",
                path=root,
                safe="Nothing was written by this one; the card is unchanged.",
                do="Wait until the other one has ended.",
            ) from None
    return journal, folder


def _not_unfinished(root: Path) -> TargetUnusable:
    return TargetUnusable(
        f"{root} is no unfinished copy any more.",
        path=root,
        safe="Nothing was written there.",
        do="Offload the card again.",
    )
