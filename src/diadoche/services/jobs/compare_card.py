"""Reading a card that was here before in full, to be sure that it is what the ledger says: no copy is made."""

from __future__ import annotations

from dataclasses import dataclass
from pathlib import Path

from diadoche.core.cards.tree import FileEntry
from diadoche.core.diskfiles import DirectReader
from diadoche.core.errors import reading
from diadoche.core.names import shown
from diadoche.core.offload.digest_file import digests_of
from diadoche.core.watch import Progress, Watch
from diadoche.services.jobs.job_kind import JobKind


@dataclass(frozen=True, slots=True)
class CompareCardRequest:
    """The card, and the digests that its proven copies have."""

    source: Path
    files: tuple[FileEntry, ...]
    digests: dict[str, dict[str, str]]


@dataclass(frozen=True, slots=True)
class ComparedCard:
    """How many files are what the copies hold, and which are not."""

    same: int
    differing: tuple[str, ...]


def perform_compare_card(request: CompareCardRequest, watch: Watch) -> ComparedCard:
    """Reads every file and compares its digest.

    Raises:
        SourceError: the card cannot be read.
        Cancelled: the watch was stopped.
    """
    total, done, same = sum(file.size_bytes for file in request.files), 0, 0
    differing: list[str] = []
    reader = DirectReader(watch.calls)
    try:
        for file in request.files:
            watch.step(Progress(done, total, f"reading {shown(file.path)}"))
            wanted = request.digests.get(file.path, {})
            if wanted and _reads_as(request.source, file, wanted, reader, watch, Progress(done, total)):
                same += 1
            else:
                differing.append(file.path)
            done += file.size_bytes
    finally:
        reader.close()
    return ComparedCard(same, tuple(differing))


def _reads_as(
    source: Path, file: FileEntry, wanted: dict[str, str], reader: DirectReader, watch: Watch, so_far: Progress
) -> bool:
    done = so_far.done

    def step(count: int) -> None:
        nonlocal done
        done += count
        watch.step(Progress(done, so_far.total, f"reading {shown(file.path)}"))

    path = source / file.path
    with reading(path, source):
        return digests_of(path, wanted, reader, size_bytes=file.size_bytes, step=step) == wanted


KIND = JobKind("recognise", CompareCardRequest, ComparedCard, perform_compare_card, rank=0)
