"""Everything below a folder, listed once, without following links and without leaving a trace."""

from __future__ import annotations

import hashlib
import os
import stat
from collections.abc import Collection
from contextlib import nullcontext, suppress
from dataclasses import dataclass, field, replace
from functools import cached_property
from pathlib import Path

from diadoche.core.diskfiles import open_unseen
from diadoche.core.errors import Problem, reading
from diadoche.core.names import shown
from diadoche.core.open_folder import OpenFolder
from diadoche.core.watch import Watch

LISTING_TRIES = 3


@dataclass(frozen=True, slots=True)
class FileEntry:
    """A file on a card. `path` is relative to the top, with slashes; times in ns since 1970 (UTC)."""

    path: str
    size_bytes: int
    changed_ns: int
    # When anything was done to it, its time set back included. Some mounts make that up, so it says that a file has to
    # be read again, and never that it is another. (Inodes tell less: on FAT they are made up at every look.)
    touched_ns: int = field(default=0, compare=False)

    @property
    def name(self) -> str:
        """The last part of the path."""
        return self.path.rpartition("/")[2]

    @property
    def stem(self) -> str:
        """The name without its ending."""
        return self.name.rpartition(".")[0] or self.name

    @property
    def ending(self) -> str:
        """The ending in capitals, with its dot, or nothing."""
        stem, dot, ending = self.name.rpartition(".")
        return f"{dot}{ending}".upper() if stem else ""


@dataclass(frozen=True, slots=True)
class FolderEntry:
    """A folder on a card; the path is relative to the top."""

    path: str
    changed_ns: int


# Without slots: what its files sum up to is kept beside them.
@dataclass(frozen=True)
class Tree:
    """What lies below `root`, in the order of the names."""

    root: Path
    files: tuple[FileEntry, ...] = ()
    folders: tuple[FolderEntry, ...] = ()
    left_out: tuple[Problem, ...] = ()
    # Folders that are there and cannot be listed: nobody knows what is in them.
    unlisted: tuple[Problem, ...] = ()

    @cached_property
    def size_bytes(self) -> int:
        """All files together; a board of cards asks for it many times a second."""
        return sum(file.size_bytes for file in self.files)

    def below(self, top: str) -> Tree:
        """The part below one of its folders, by paths from there."""
        start = f"{top}/"
        return Tree(
            self.root / top,
            tuple(replace(each, path=each.path[len(start) :]) for each in self.files if each.path.startswith(start)),
            tuple(replace(each, path=each.path[len(start) :]) for each in self.folders if each.path.startswith(start)),
            self.left_out,
            # What cannot be listed may belong to any part of the card: no part is called whole then.
            self.unlisted,
        )

    def changed_from(self, earlier: Tree) -> tuple[FileEntry, ...]:
        """Files that are new or other than in an earlier listing, by name, size and time."""
        known = set(earlier.files)
        return tuple(file for file in self.files if file not in known)

    def fingerprint(self, without: Collection[str] = ()) -> str:
        """Tells this content from another by names, sizes and times; nothing is read for it.

        Args:
            without: folders that are left aside, because they could not be listed at another time.
        """
        aside = tuple(f"{folder}/" for folder in without)
        digest = hashlib.sha256()
        for file in self.files:
            if aside and file.path.startswith(aside):
                continue
            digest.update(f"{file.path}\0{file.size_bytes}\0{file.changed_ns}\n".encode("utf-8", "surrogateescape"))
        return digest.hexdigest()


def list_tree(root: Path, watch: Watch | None = None) -> Tree:
    """Lists files, folders and what can be neither copied nor followed.

    A folder that cannot be listed is tried again, like a file that cannot be read, and is a problem then.

    Raises:
        OSError: the top folder cannot be listed.
        Cancelled: the watch was stopped.
    """
    files: list[FileEntry] = []
    folders: list[FolderEntry] = []
    left_out: list[Problem] = []
    unlisted: list[Problem] = []
    calls = watch.calls if watch is not None else nullcontext()
    with calls:
        top = OpenFolder.at(root)
    waiting = [""]
    with top:
        while waiting:
            if watch is not None:
                watch.check()
            folder = waiting.pop()
            try:
                with calls:
                    entries = _listed(top, folder)
            except OSError as error:
                if not folder:
                    raise
                unlisted.append(_cannot_list(folder, error))
                continue
            for name, info in entries:
                path = f"{folder}/{name}" if folder else name
                if stat.S_ISDIR(info.st_mode):
                    folders.append(FolderEntry(path, info.st_mtime_ns))
                    waiting.append(path)
                elif stat.S_ISREG(info.st_mode):
                    files.append(FileEntry(path, info.st_size, info.st_mtime_ns, info.st_ctime_ns))
                else:
                    left_out.append(_not_a_file(path, info.st_mode))
    files.sort(key=lambda file: os.fsencode(file.path))
    folders.sort(key=lambda folder: os.fsencode(folder.path))
    return Tree(root, tuple(files), tuple(folders), tuple(left_out), tuple(unlisted))


def _listed(top: OpenFolder, folder: str) -> list[tuple[str, os.stat_result]]:
    for _ in range(LISTING_TRIES - 1):
        with suppress(OSError):
            return top.listed(folder)
    return top.listed(folder)


def inner_folders(folder: Path) -> list[str]:
    """The names of the folders in a folder.

    Raises:
        OSError: it cannot be listed.
    """
    with OpenFolder.at(folder) as top:
        return [name for name, info in top.listed() if stat.S_ISDIR(info.st_mode)]


def _cannot_list(folder: str, error: OSError) -> Problem:
    return Problem(
        f"The folder {shown(folder)} cannot be listed: {error.strerror or error}.",
        folder,
        "Everything outside it is copied, but the card is not whole in any copy: do not format it.",
        "Try the card in another reader, and offload it again.",
    )


def _not_a_file(path: str, mode: int) -> Problem:
    kind = "a link" if stat.S_ISLNK(mode) else "neither a file nor a folder"
    return Problem(
        f"{shown(path)} is {kind}: it is listed, not copied.",
        path,
        "What a link points to may lie outside the card and is left alone.",
        "Offload the place it points to by itself if it is needed.",
    )


_LARGEST_INDEX_BYTES = 4 * 1024 * 1024


def read_small(tree: Tree, file: FileEntry) -> bytes:
    """The content of an index file, up to 4 MiB.

    Raises:
        SourceError: it cannot be read.
    """
    path = tree.root / file.path
    with reading(path, tree.root):
        descriptor = open_unseen(path, os.O_RDONLY | os.O_NOFOLLOW)
        try:
            return os.read(descriptor, _LARGEST_INDEX_BYTES)
        finally:
            os.close(descriptor)
