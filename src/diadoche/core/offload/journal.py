"""What an unfinished copy knows about itself, so that it can go on and never passes for whole.

The journal lies at the top of the copy under a name of its own until everything is proven. A line
for a file is synced before the file gets its final name: a final name without a line cannot come
from us. A torn last line is what a power cut leaves; it is ignored.

A journal is read from a disk that anybody may have written to: each line is parsed into typed values
that cannot leave their folder, or passed over.
"""

from __future__ import annotations

import errno
import fcntl
import json
import os
from collections.abc import Iterable
from contextlib import suppress
from dataclasses import dataclass, field
from pathlib import Path

from diadoche.core.diskfiles import sync_filesystem
from diadoche.core.names import is_inside
from diadoche.core.offload.digests import DIGESTS
from diadoche.core.offload.identity import NO_IDENTITY, CopyIdentity, checked_id, new_id
from diadoche.core.open_folder import OpenFolder

MANIFEST_FOLDER = "ascmhl"
JOURNAL_NAME = ".not-whole-diadoche.jsonl"
# Beside the manifests, where copying without hidden files does not lose it: whose unfinished copy this is.
UNFINISHED_NAME = "unfinished-copy.json"
_UNFINISHED = f"{MANIFEST_FOLDER}/{UNFINISHED_NAME}"
_WORDS = "This copy is not whole. Offload the same card again to complete it."
_LARGEST_BYTES = 1 << 30
# Some shares and FUSE filesystems keep no locks; there the exclusive making of the folder has to do.
_NO_LOCKS = {errno.ENOLCK, errno.ENOSYS, errno.ENOTSUP, errno.EINVAL}


@dataclass(frozen=True, slots=True)
class CopiedFile:
    """A file that has arrived. `path` is the name on the card, `kept_as` the name in the copy."""

    path: str
    kept_as: str
    size_bytes: int
    digests: dict[str, str]


@dataclass(slots=True)
class Journal:
    """The journal of one copy. `unlisted` are folders of the card that could not be listed. One thread writes."""

    root: Path
    fingerprint: str
    copied: dict[str, CopiedFile] = field(default_factory=dict)
    unlisted: tuple[str, ...] = ()
    identity: CopyIdentity = NO_IDENTITY
    # What it had when it was gone on with.
    earlier: str = ""
    # Whether only the mark beside the manifests was left of it: what stands in the copy is not known then.
    is_lost: bool = False
    _descriptor: int = -1
    _folder: OpenFolder | None = None

    def begin(self, folder: OpenFolder) -> None:
        """Makes the journal in the copy's folder, and holds it.

        Raises:
            FileExistsError: there is one already: the folder is somebody else's.
            OSError: the folder cannot be written to.
        """
        self._open(folder, os.O_CREAT | os.O_EXCL)
        self.note_card(self.fingerprint)

    def go_on(self, folder: OpenFolder, fingerprint: str, unlisted: tuple[str, ...], taking: str) -> None:
        """Holds the one that is there; the card may show more now than when it was begun.

        Raises:
            BlockingIOError: another offload holds it at this moment.
            OSError: the folder cannot be written to.
        """
        self._open(folder, os.O_CREAT | os.O_EXCL if self.is_lost else 0)
        # The line break first: after a torn line, ours must not be glued to it.
        self._write(b"\n")
        self.identity = CopyIdentity(taking, self.identity.copy or new_id())
        self.earlier, self.unlisted = self.fingerprint, unlisted
        self.note_card(fingerprint)

    def _open(self, folder: OpenFolder, flags: int) -> None:
        descriptor = folder.open(JOURNAL_NAME, os.O_WRONLY | os.O_APPEND | flags)
        try:
            fcntl.flock(descriptor, fcntl.LOCK_EX | fcntl.LOCK_NB)
        except OSError as error:
            if error.errno not in _NO_LOCKS:
                os.close(descriptor)
                raise
        self._descriptor, self._folder = descriptor, folder
        # Whoever held it before us may have finished the copy and removed it between the opening and the lock.
        if not os.path.samestat(os.fstat(descriptor), folder.stat(JOURNAL_NAME)):
            self.close(whole=False)
            raise FileNotFoundError(errno.ENOENT, os.strerror(errno.ENOENT), str(self.root / JOURNAL_NAME))

    def note_card(self, fingerprint: str) -> None:
        """Writes down which card it is of: in itself, and beside the manifests."""
        assert self._folder is not None
        self.fingerprint = fingerprint
        line = _line(
            {
                "card": self.fingerprint,
                "unlisted": list(self.unlisted),
                "taking": self.identity.taking,
                "copy": self.identity.copy,
                "note": _WORDS,
            }
        )
        self._write(line)
        os.fsync(self._descriptor)
        self._folder.sync()
        self._folder.make_folder(MANIFEST_FOLDER)
        self._folder.write_whole(_UNFINISHED, line)

    def note(self, files: Iterable[CopiedFile]) -> None:
        """Writes down that the bytes of some files are on the disk under their temporary names."""
        lines = []
        for file in files:
            self.copied[file.path] = file
            lines.append(
                _line(
                    {"path": file.path, "kept_as": file.kept_as, "size_bytes": file.size_bytes, "digests": file.digests}
                )
            )
        self._write(b"".join(lines))

    def forget(self, path: str) -> None:
        """Writes down that a file does not stand there any more."""
        if self.copied.pop(path, None) is not None:
            self._write(_line({"gone": path}))

    def sync(self) -> None:
        """Makes all notes so far durable: files may get their final names only after this."""
        os.fdatasync(self._descriptor)

    def sync_filesystem(self) -> None:
        """Makes everything durable that was written to the journal's filesystem since it was opened.

        Raises:
            OSError: something could not be written.
        """
        sync_filesystem(self._descriptor)

    def close(self, *, whole: bool) -> None:
        """Ends it; a whole copy needs none any more."""
        if whole and self._folder is not None and self._descriptor >= 0:
            # Before the lock is let go: nobody may take the folder for an unfinished one meanwhile.
            for name in (_UNFINISHED, JOURNAL_NAME):
                with suppress(FileNotFoundError):
                    self._folder.unlink(name)
                self._folder.sync(name.rpartition("/")[0])
        if self._descriptor >= 0:
            os.close(self._descriptor)
            self._descriptor = -1

    def take_back(self) -> None:
        """Undoes `begin`, where nothing was written yet: the folder is free again."""
        if self._folder is not None:
            with suppress(OSError):
                self._folder.forget(_UNFINISHED)
                self._folder.remove_folder(MANIFEST_FOLDER)
            with suppress(OSError):
                self._folder.unlink(JOURNAL_NAME)
                self.root.rmdir()
        self.close(whole=False)

    def _write(self, data: bytes) -> None:
        while data:
            data = data[os.write(self._descriptor, data) :]


def _line(value: dict[str, object]) -> bytes:
    # ASCII with escapes: names that are no UTF-8 survive as lone surrogates.
    return json.dumps(value, ensure_ascii=True).encode("ascii") + b"\n"


def read_journal(root: Path) -> Journal | None:
    """The journal of an unfinished copy, or None where there is none that says which card it is of.

    Raises:
        OSError: the folder does not tell.
    """
    try:
        with OpenFolder.at(root) as folder:
            journal = _read(root, folder, JOURNAL_NAME)
            if journal is None and (journal := _read(root, folder, _UNFINISHED)) is not None:
                journal.is_lost = not folder.exists(JOURNAL_NAME)
            return journal
    except (FileNotFoundError, NotADirectoryError):
        return None


def _read(root: Path, folder: OpenFolder, name: str) -> Journal | None:
    try:
        lines = folder.read(name, _LARGEST_BYTES).split(b"\n")
    except OSError as error:
        # A link, a pipe or something huge of that name is no journal of ours.
        if error.errno in {errno.ENOENT, errno.ENOTDIR, errno.ELOOP, errno.EINVAL, errno.EFBIG, errno.ENXIO}:
            return None
        raise
    journal: Journal | None = None
    for line in lines:
        try:
            value = json.loads(line)
        except (ValueError, RecursionError):
            continue
        if not isinstance(value, dict):
            continue
        if isinstance(value.get("card"), str):
            journal = journal or Journal(root, "")
            journal.fingerprint, journal.unlisted = value["card"], _paths(value.get("unlisted"))
            journal.identity = CopyIdentity(checked_id(value.get("taking")), checked_id(value.get("copy")))
        elif journal is not None and isinstance(value.get("gone"), str):
            journal.copied.pop(value["gone"], None)
        elif journal is not None and (file := _copied_file(value)) is not None:
            journal.copied[file.path] = file
    return journal


def _paths(value: object) -> tuple[str, ...]:
    listed = value if isinstance(value, list) else []
    return tuple(each for each in listed if isinstance(each, str) and is_inside(each))


def _copied_file(value: dict[str, object]) -> CopiedFile | None:
    """A line's file, or None where the line says nothing that could be meant."""
    path, kept_as, size = value.get("path"), value.get("kept_as"), value.get("size_bytes")
    if not (isinstance(path, str) and isinstance(kept_as, str) and is_inside(path) and is_inside(kept_as)):
        return None
    digests = checked_digest_texts(value.get("digests"))
    if not isinstance(size, int) or isinstance(size, bool) or size < 0 or not digests:
        return None
    return CopiedFile(path, kept_as, size, digests)


def checked_digest_texts(value: object) -> dict[str, str]:
    """Digests by name as a file from outside gives them; nothing where any of it is none."""
    if not isinstance(value, dict):
        return {}
    known = {str(name): text for name, text in value.items() if name in DIGESTS and isinstance(text, str) and text}
    return known if len(known) == len(value) else {}


def is_unfinished(root: Path) -> bool:
    """Whether the copy at `root` says of itself that it is not whole, or cannot be asked."""
    for name in (JOURNAL_NAME, _UNFINISHED):
        try:
            (root / name).lstat()
        except (FileNotFoundError, NotADirectoryError):
            continue
        except OSError:
            # It may well be there: what is not known to be finished is not called so.
            return True
        return True
    return False
