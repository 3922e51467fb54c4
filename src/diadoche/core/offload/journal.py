"""What an unfinished copy knows about itself, so that it can go on and never passes for whole.

The journal lies at the top of the copy under a name of its own until everything is proven. A line
for a file is synced before the file gets its final name: a final name without a line cannot come
from us. A torn last line is what a power cut leaves; it is ignored.
"""

from __future__ import annotations

import json
import os
from collections.abc import Iterable
from dataclasses import dataclass, field
from pathlib import Path

from diadoche.core.diskfiles import sync_filesystem, sync_folder

JOURNAL_NAME = ".not-whole-diadoche.jsonl"
_WORDS = "This copy is not whole. Offload the same card again to complete it."


@dataclass(frozen=True, slots=True)
class CopiedFile:
    """A file that has arrived. `path` is the name on the card, `kept_as` the name in the copy."""

    path: str
    kept_as: str
    size_bytes: int
    digests: dict[str, str]


@dataclass(slots=True)
class Journal:
    """An open journal. One thread writes."""

    root: Path
    fingerprint: str
    copied: dict[str, CopiedFile] = field(default_factory=dict)
    _descriptor: int = -1

    def open(self) -> None:
        """Begins the journal, or goes on with the one that is there.

        Raises:
            OSError: the folder cannot be written to.
        """
        path = self.root / JOURNAL_NAME
        new = not path.exists()
        self._descriptor = os.open(path, os.O_WRONLY | os.O_CREAT | os.O_APPEND | os.O_CLOEXEC, 0o644)
        # The line break first: after a torn line, ours must not be glued to it.
        self._write(b"\n" + _line({"card": self.fingerprint, "note": _WORDS}) if new else b"\n")
        os.fsync(self._descriptor)
        sync_folder(self.root)

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
        if self._descriptor >= 0:
            os.close(self._descriptor)
            self._descriptor = -1
        if whole:
            (self.root / JOURNAL_NAME).unlink(missing_ok=True)
            sync_folder(self.root)

    def _write(self, data: bytes) -> None:
        while data:
            data = data[os.write(self._descriptor, data) :]


def _line(value: dict[str, object]) -> bytes:
    # ASCII with escapes: names that are no UTF-8 survive as lone surrogates.
    return json.dumps(value, ensure_ascii=True).encode("ascii") + b"\n"


def read_journal(root: Path) -> Journal | None:
    """The journal of an unfinished copy, or None where there is none that says which card it is of."""
    try:
        lines = (root / JOURNAL_NAME).read_bytes().split(b"\n")
    except OSError:
        return None
    journal: Journal | None = None
    for line in lines:
        try:
            value = json.loads(line)
        except ValueError:
            continue
        if "card" in value:
            journal = Journal(root, str(value["card"]))
        elif journal is not None and "path" in value:
            journal.copied[value["path"]] = CopiedFile(**value)
    return journal


def is_unfinished(root: Path) -> bool:
    """Whether the copy at `root` says of itself that it is not whole."""
    return (root / JOURNAL_NAME).exists()
