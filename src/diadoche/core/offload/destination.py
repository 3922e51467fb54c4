"""One destination of an offload: a thread that writes and a thread that proves.

The writer takes buffers from the ring and writes them under temporary names. The prover makes the
bytes durable, gives files their final names, and reads every one back from the disk. Nothing here
touches the card.
"""

from __future__ import annotations

import os
import queue
import threading
import time
from contextlib import suppress
from dataclasses import dataclass
from pathlib import Path, PurePosixPath

from diadoche.core.diskfiles import (
    BLOCK_BYTES,
    PART_SUFFIX,
    DirectReader,
    HeldFolder,
    begin_writeback,
    rename_new,
    sync_folder,
)
from diadoche.core.errors import DiadocheError, Problem, TargetUnusable, writing
from diadoche.core.names import LONGEST_NAME_BYTES, shown, unique_name
from diadoche.core.offload.digests import DIGESTS
from diadoche.core.offload.journal import CopiedFile, Journal
from diadoche.core.offload.messages import Begin, FileRun, Message, Pack
from diadoche.core.offload.plan import Target
from diadoche.core.offload.ring import RingBuffer
from diadoche.core.watch import Part

# Files are made durable together: one sync of the filesystem instead of one for each. Waiting longer
# for more of them would keep finished clips from being usable.
_BATCH_FILES = 1024
_BATCH_BYTES = 64 * 1024 * 1024
_BATCH_S = 0.5
_FEW_FILES = 4
_WRITEBACK_BYTES = 32 * 1024 * 1024


@dataclass(slots=True)
class _Written:
    """A file under its temporary name. The descriptor is -1 where it is closed already."""

    run: FileRun
    part: str
    descriptor: int


class Destination:
    """Writes and proves what it is handed, until it fails; then it lets everything pass."""

    def __init__(self, target: Target, journal: Journal, total_bytes: int, already: dict[str, CopiedFile]) -> None:
        """`already` are files of an earlier, interrupted run: not written again, but proven again."""
        self.target = target
        self.place, self.root = target.place, target.root
        self.journal = journal
        self.total_bytes = total_bytes
        self.copied_bytes = sum(file.size_bytes for file in already.values())
        self.already = already
        self.proven: dict[str, CopiedFile] = {}
        self.proven_bytes = 0
        self.renamed: list[tuple[str, str]] = []
        self.problems: list[Problem] = []
        self.dropped: Problem | None = None
        self.passed_cache = True
        self.inbox: queue.SimpleQueue[Message] = queue.SimpleQueue()
        self._to_prove: queue.SimpleQueue[list[_Written] | None] = queue.SimpleQueue()
        self._held: HeldFolder | None = None
        self._base = f"{target.root}/"
        self._threads: list[threading.Thread] = []

    # -- called by the reader's thread -------------------------------------------------------

    def hold(self) -> None:
        """From now on everything is reached through the folder itself, and never lands on another disk.

        Raises:
            OSError: it is not there.
        """
        self._held = HeldFolder(self.root)
        self._base = self._held.base

    def check_there(self) -> None:
        """What was written can be reached by its path.

        Raises:
            TargetUnusable: the disk is gone, or another one is mounted in its place.
        """
        if self._held is not None and not self._held.is_still_there():
            raise TargetUnusable(
                f"{self.place} went away while it was written to.",
                path=self.place,
                safe="The other destinations are not affected; nothing was written elsewhere in its place.",
                do="Bring the disk back and offload again: it goes on where it stopped.",
            )

    def let_go(self) -> None:
        """Nothing more is done there. A thread that still hangs keeps the folder: its number must mean nothing else."""
        if self._held is not None and not self.busy():
            self._held.close()

    def remove(self, file: CopiedFile) -> None:
        """Takes a file that arrived out again; where the disk is gone there is nothing to take out."""
        with suppress(OSError):
            Path(self._base + file.kept_as).unlink(missing_ok=True)

    def start(self) -> None:
        """Begins taking messages."""
        self._threads = [
            threading.Thread(target=self._write_all, name=f"write {self.place.name}", daemon=True),
            threading.Thread(target=self._prove_all, name=f"prove {self.place.name}", daemon=True),
        ]
        for thread in self._threads:
            thread.start()

    def revive(self) -> None:
        """Makes it ready for another pass; what is proven stays proven and is not written again."""
        self.dropped = None
        self.already = dict(self.proven)
        self.copied_bytes = self.proven_bytes
        self.inbox, self._to_prove = queue.SimpleQueue(), queue.SimpleQueue()

    def busy(self) -> bool:
        """Whether it still writes or proves."""
        return any(thread.is_alive() for thread in self._threads)

    def finish(self) -> None:
        """No more files come."""
        self.inbox.put(None)

    def drop(self, problem: Problem) -> None:
        """Takes it out of this pass; what it holds of the ring is let go."""
        if self.dropped is None:
            self.dropped = problem

    def refused(self, problem: Problem) -> Destination:
        """Itself, after it could not even be opened."""
        self.drop(problem)
        return self

    def part(self) -> Part:
        """How far it is."""
        state = "dropped" if self.dropped else "under way"
        return Part(str(self.place), self.copied_bytes, self.proven_bytes, self.total_bytes, state)

    def is_backlogged(self) -> bool:
        """Whether messages wait for it: it is what the reader waits for."""
        return not self.inbox.empty()

    # -- writer's thread ---------------------------------------------------------------------

    def _write_all(self) -> None:
        current: _Written | None = None
        unflushed = 0
        while (message := self.inbox.get()) is not None:
            if isinstance(message, RingBuffer):
                if current is not None and self.dropped is None:
                    unflushed = self._write_on(current, message, unflushed)
                message.let_go()
            elif isinstance(message, Pack):
                self._write_pack(message)
            elif isinstance(message, Begin):
                current, unflushed = self._begin(message.run), 0
            elif current is not None:
                self._to_prove.put([current])
                current = None
        self._to_prove.put(None)

    def _write_on(self, current: _Written, buffer: RingBuffer, unflushed_bytes: int) -> int:
        """Writes the next bytes; starts the disk early, so that the sync at the end of a large file is short."""
        try:
            with writing(self.root / current.run.entry.path):
                _write_fully(current.descriptor, buffer.data)
        except DiadocheError as error:
            self.drop(error.problem)
        self.copied_bytes += buffer.size_bytes
        unflushed_bytes += buffer.size_bytes
        if unflushed_bytes < _WRITEBACK_BYTES:
            return unflushed_bytes
        begin_writeback(current.descriptor)
        return 0

    def _write_pack(self, pack: Pack) -> None:
        written: list[_Written] = []
        for run, data in pack.parts():
            file = self._begin(run)
            if file is None:
                continue
            written.append(file)
            try:
                _write_fully(file.descriptor, data)
                os.utime(file.descriptor, ns=(run.entry.changed_ns, run.entry.changed_ns))
            except OSError as error:
                self._drop_for(self.root / run.entry.path, error)
            os.close(file.descriptor)
            file.descriptor = -1
            self.copied_bytes += run.size_bytes
        pack.buffer.let_go()
        self._to_prove.put(written)

    def _begin(self, run: FileRun) -> _Written | None:
        if self.dropped is not None or run.entry.path in self.already:
            return None
        part = f"{self._base}{self.target.kept_as(run.entry.path)}{PART_SUFFIX}"
        folder, _, name = part.rpartition("/")
        if len(os.fsencode(name)) > LONGEST_NAME_BYTES:
            # The longest names leave no room for a suffix.
            part = f"{folder}/{PART_SUFFIX}{abs(hash(name))}"
        try:
            return _Written(run, part, _created(part))
        except OSError as error:
            self._drop_for(Path(self.root / run.entry.path), error)
            return None

    def _drop_for(self, path: Path, error: OSError) -> None:
        try:
            with writing(path):
                raise error
        except DiadocheError as translated:
            self.drop(translated.problem)

    # -- prover's thread ---------------------------------------------------------------------

    def _prove_all(self) -> None:
        reader = DirectReader()
        try:
            for file in self.already.values():
                if file.path not in self.proven and self.dropped is None:
                    self.prove(file, reader)
            open_ended = True
            while open_ended:
                batch, open_ended = self._next_batch()
                self._settle(batch, reader)
        finally:
            self.passed_cache = reader.passed_cache
            reader.close()

    def _next_batch(self) -> tuple[list[_Written], bool]:
        """What can be made durable together, and whether more may follow."""
        item = self._to_prove.get()
        batch: list[_Written] = []
        size_bytes, until_s = 0, time.monotonic() + _BATCH_S
        while item is not None:
            batch += item
            size_bytes += sum(written.run.size_bytes for written in item)
            left_s = until_s - time.monotonic()
            if len(batch) >= _BATCH_FILES or size_bytes >= _BATCH_BYTES or left_s <= 0:
                return batch, True
            try:
                item = self._to_prove.get(timeout=left_s)
            except queue.Empty:
                return batch, True
        return batch, False

    def _settle(self, batch: list[_Written], reader: DirectReader) -> None:
        try:
            arrived = self._make_durable(batch)
            named = [self._name_finally(written) for written in arrived]
        except DiadocheError as error:
            self.drop(error.problem)
            for written in batch:
                _forget(written.part)
            return
        for file in named:
            self.prove(file, reader)

    def _make_durable(self, batch: list[_Written]) -> list[_Written]:
        for written in batch:
            written.run.ready.wait()
        arrived = [written for written in batch if not written.run.given_up and self.dropped is None]
        try:
            with writing(self.root / batch[0].run.entry.path if batch else self.root):
                self._sync(arrived)
        finally:
            for written in batch:
                if written.descriptor >= 0:
                    with suppress(OSError):
                        os.close(written.descriptor)
        for written in batch:
            if written.run.given_up or self.dropped is not None:
                _forget(written.part)
        with writing(self.root):
            self.journal.note([self._copied(written.run) for written in arrived])
            self.journal.sync()
        return arrived

    def _sync(self, arrived: list[_Written]) -> None:
        for written in arrived:
            if written.descriptor >= 0:
                changed = written.run.entry.changed_ns
                os.utime(written.descriptor, ns=(changed, changed))
        if len(arrived) > _FEW_FILES:
            self.journal.sync_filesystem()
            return
        for written in arrived:
            descriptor = written.descriptor if written.descriptor >= 0 else os.open(written.part, os.O_RDONLY)
            try:
                os.fsync(descriptor)
            finally:
                if descriptor != written.descriptor:
                    os.close(descriptor)

    def _name_finally(self, written: _Written) -> CopiedFile:
        file = self._copied(written.run)
        final = self._base + file.kept_as
        try:
            rename_new(written.part, final)
        except FileExistsError:
            with writing(self.root / file.kept_as):
                return self._beside(written, file)
        except OSError as error:
            with writing(self.root / file.kept_as):
                raise error
        return self._with_remark(file)

    def _with_remark(self, file: CopiedFile) -> CopiedFile:
        """Itself; that it is kept under another name is noted for the waybill."""
        if file.kept_as != file.path:
            self.renamed.append((file.path, file.kept_as))
        return file

    def _copied(self, run: FileRun) -> CopiedFile:
        return _copied(run, self.target.kept_as(run.entry.path))

    def _beside(self, written: _Written, file: CopiedFile) -> CopiedFile:
        """Something has the name already: the same content is counted, other content stays and ours moves."""
        standing = Path(self._base + file.kept_as)
        if standing.is_file() and standing.stat().st_size == file.size_bytes and self._reads_as(file, standing):
            _forget(written.part)
            return self._with_remark(file)
        name = unique_name(standing.name, lambda taken: os.path.lexists(standing.with_name(taken)))
        rename_new(written.part, standing.with_name(name))
        folder = file.kept_as.rpartition("/")[0]
        moved = _copied(written.run, f"{folder}/{name}" if folder else name)
        self.journal.note([moved])
        self.journal.sync()
        return self._with_remark(moved)

    def _reads_as(self, file: CopiedFile, standing: Path) -> bool:
        reader = DirectReader()
        try:
            return _digest_of(standing, next(iter(file.digests)), reader) == next(iter(file.digests.values()))
        finally:
            reader.close()

    def prove(self, file: CopiedFile, reader: DirectReader) -> None:
        """Reads one file back and compares it with what came off the card.

        The first digest is compared: it covers every byte, and a second would only cost time.
        """
        name, wanted = next(iter(file.digests.items()))
        try:
            found = _digest_of(self._base + file.kept_as, name, reader, file.size_bytes)
        except OSError as error:
            standing = self.root / file.kept_as
            self.problems.append(
                Problem(
                    f"{shown(file.kept_as)} cannot be read back from {self.place}: {error.strerror or error}.",
                    str(standing),
                    "It is not counted as kept there; the card is unchanged.",
                    "Offload again, or replace the disk.",
                )
            )
            return
        if found == wanted:
            self.proven[file.path] = file
            self.proven_bytes += file.size_bytes
            return
        standing = self.root / file.kept_as
        self.remove(file)
        self.problems.append(
            Problem(
                f"{shown(file.kept_as)} read back differently from {self.place}; that copy of the file was removed.",
                str(standing),
                "It is not counted as kept there; the card is unchanged.",
                "Leave the card in and offload it again. If it happens twice, do not trust this disk.",
            )
        )

    def sync_folders(self) -> None:
        """Makes all names durable.

        Raises:
            TargetUnusable: the disk failed or is gone.
        """
        folders = {""}
        for file in self.proven.values():
            folders.update(str(parent) for parent in PurePosixPath(file.kept_as).parents)
        with writing(self.root):
            for folder in folders:
                sync_folder(Path(self._base + folder))


def _copied(run: FileRun, kept_as: str) -> CopiedFile:
    # The quickest digest first: that one is compared when the file is read back.
    digests = {name: run.digests[name] for name in DIGESTS if name in run.digests}
    return CopiedFile(run.entry.path, kept_as, run.size_bytes, digests)


def _write_fully(descriptor: int, data: memoryview) -> None:
    while data:
        data = data[os.write(descriptor, data) :]


def _created(part: str) -> int:
    flags = os.O_WRONLY | os.O_CREAT | os.O_TRUNC | os.O_CLOEXEC | os.O_NOFOLLOW
    try:
        return os.open(part, flags, 0o644)
    except FileNotFoundError:
        Path(part).parent.mkdir(parents=True, exist_ok=True)
        return os.open(part, flags, 0o644)


def _forget(part: str) -> None:
    with suppress(OSError):
        Path(part).unlink(missing_ok=True)


def _digest_of(path: Path | str, name: str, reader: DirectReader, size_bytes: int = BLOCK_BYTES) -> str:
    digest = DIGESTS[name]()
    for block in reader.blocks(path, size_bytes):
        digest.update(block)
    return digest.hexdigest()


def digest_of(path: Path, name: str) -> str:
    """The digest of one file, read past the page cache where that is possible.

    Raises:
        OSError: as the system says it.
    """
    reader = DirectReader()
    try:
        return _digest_of(path, name, reader)
    finally:
        reader.close()
