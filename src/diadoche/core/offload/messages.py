"""What the reader of an offload hands to its digesters and destinations."""

from __future__ import annotations

import threading
from collections.abc import Iterator, Mapping
from dataclasses import dataclass, field

from diadoche.core.cards.tree import FileEntry
from diadoche.core.offload.digest_file import agree
from diadoche.core.offload.ring import RingBuffer


@dataclass(slots=True)
class FileRun:
    """One try at one file on its way. `ready` is set when all `entry_digests` are known, or when it was given up.

    `expected` are digests that are known already: what reads otherwise must get no final name anywhere.
    """

    entry: FileEntry
    entry_digests: int
    expected: Mapping[str, str] = field(default_factory=dict)
    digests: dict[str, str] = field(default_factory=dict)
    size_bytes: int = 0
    given_up: bool = False
    ready: threading.Event = field(default_factory=threading.Event)

    def digested(self, name: str, text: str) -> None:
        """Notes one digest; called by one thread a name, and the last of them makes the run ready."""
        self.digests[name] = text
        if len(self.digests) == self.entry_digests:
            self.ready.set()

    @property
    def unexpected(self) -> bool:
        """Whether what was read is not known to be what it had to be: nothing in common proves nothing."""
        return bool(self.expected) and not agree(self.expected, self.digests)


@dataclass(frozen=True, slots=True)
class Begin:
    """The file's blocks follow."""

    run: FileRun


@dataclass(frozen=True, slots=True)
class End:
    """The file's last block was handed over, or it was given up."""

    run: FileRun


@dataclass(frozen=True, slots=True)
class Pack:
    """Whole small files, one behind another in one buffer: a message for many files."""

    buffer: RingBuffer
    runs: tuple[FileRun, ...]

    def parts(self) -> Iterator[tuple[FileRun, memoryview]]:
        """Each file with its bytes."""
        begin = 0
        for run in self.runs:
            yield run, self.buffer.view[begin : begin + run.size_bytes]
            begin += run.size_bytes


Message = Begin | End | Pack | RingBuffer | None
