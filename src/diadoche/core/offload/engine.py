"""The copying engine: one reader, a ring of buffers, digests on the way, a writer and a prover for each destination."""

from __future__ import annotations

import os
import queue
import threading
import time
from dataclasses import dataclass, field
from pathlib import Path

from diadoche.core.cards.tree import FileEntry
from diadoche.core.diskfiles import close_read, open_unseen
from diadoche.core.errors import Problem, SourceLost, SourceUnreadable, reading
from diadoche.core.names import shown
from diadoche.core.offload.destination import Destination
from diadoche.core.offload.digests import DIGESTS
from diadoche.core.offload.messages import Begin, End, FileRun, Message, Pack
from diadoche.core.offload.ring import BUFFER_BYTES, Ring, RingBuffer
from diadoche.core.watch import Cancelled, Progress, Watch

_TRIES = 3
_STEP_S = 0.1
PATIENCE_S = 20.0
# Files up to this size share a buffer: handing one on costs as much for 4 MB as for nothing.
_SMALL_BYTES = 512 * 1024
_PACK_FILES = 256


@dataclass(slots=True)
class PassResult:
    """What one pass over the source read, and what went wrong on the reading side."""

    read: dict[str, FileRun] = field(default_factory=dict)
    problems: list[Problem] = field(default_factory=list)
    lost: Problem | None = None
    cancelled: bool = False


class _Digester:
    """Computes one digest of everything that passes, in a thread of its own."""

    def __init__(self, name: str) -> None:
        self.name = name
        self.inbox: queue.SimpleQueue[Message] = queue.SimpleQueue()
        self.thread = threading.Thread(target=self._run, name=f"digest {name}", daemon=True)
        self.thread.start()

    def _run(self) -> None:
        digest = DIGESTS[self.name]()
        while (message := self.inbox.get()) is not None:
            if isinstance(message, RingBuffer):
                digest.update(message.data)
                message.let_go()
            elif isinstance(message, Pack):
                self._take_pack(message)
            elif isinstance(message, Begin):
                digest = DIGESTS[self.name]()
            else:
                message.run.digested(self.name, digest.hexdigest())

    def _take_pack(self, pack: Pack) -> None:
        for run, data in pack.parts():
            digest = DIGESTS[self.name]()
            digest.update(data)
            run.digested(self.name, digest.hexdigest())
        pack.buffer.let_go()


class CopyPass:
    """Reads each of `files` below `source` once and hands it to every destination."""

    def __init__(
        self,
        source: Path,
        files: tuple[FileEntry, ...],
        destinations: list[Destination],
        digests: tuple[str, ...],
        watch: Watch,
        *,
        note: str = "copying",
        patience_s: float = PATIENCE_S,
        pace_bytes_s: int = 0,
    ) -> None:
        """`pace_bytes_s`: read no faster than that; 0 sets no limit."""
        self._pace_bytes_s = pace_bytes_s
        self._due_s = 0.0
        self._source = source
        self._files = files
        self._destinations = destinations
        self._watch = watch
        self._note = note
        self._patience_s = patience_s
        self._ring = Ring()
        self._digesters = [_Digester(name) for name in digests]
        self._last_step_s = 0.0
        self._result = PassResult()

    def run(self) -> PassResult:
        """Copies and proves everything; always ends with every thread ended."""
        for destination in self._destinations:
            destination.start()
        try:
            small: list[FileEntry] = []
            room = BUFFER_BYTES
            for entry in self._files:
                if entry.size_bytes > _SMALL_BYTES or self._pace_bytes_s:
                    self._copy(entry)
                    continue
                if entry.size_bytes >= room or len(small) == _PACK_FILES:
                    self._copy_pack(small)
                    small, room = [], BUFFER_BYTES
                small.append(entry)
                # One byte more than is listed is asked for, to see whether the file has grown.
                room -= entry.size_bytes + 1
            self._copy_pack(small)
        except Cancelled:
            self._result.cancelled = True
        except SourceLost as error:
            self._result.lost = error.problem
        finally:
            self._finish()
            self._ring.close()
        return self._result

    def _finish(self) -> None:
        for destination in self._destinations:
            destination.finish()
        for digester in self._digesters:
            digester.inbox.put(None)
        for digester in self._digesters:
            digester.thread.join()
        while any(destination.busy() for destination in self._destinations):
            time.sleep(_STEP_S / 5)
            if not self._result.cancelled:
                try:
                    self._step()
                except Cancelled:
                    self._result.cancelled = True
                    for destination in self._destinations:
                        destination.drop(_cancelled_problem())

    def _copy_pack(self, entries: list[FileEntry]) -> None:
        """Hands on many small files together; those that cannot be read as listed go the long way, alone."""
        if not entries:
            return
        self._step()
        buffer = self._free_buffer()
        runs, odd, end = [], [], 0
        for entry in entries:
            if self._read_small(entry, buffer.view[end : end + entry.size_bytes + 1]):
                runs.append(FileRun(entry, len(self._digesters), size_bytes=entry.size_bytes))
                end += entry.size_bytes
            else:
                odd.append(entry)
        self._hand(Pack(buffer, tuple(runs)))
        self._result.read.update((run.entry.path, run) for run in runs)
        for entry in odd:
            self._copy(entry)

    def _copy(self, entry: FileEntry) -> None:
        for left in range(_TRIES - 1, -1, -1):
            run = FileRun(entry, entry_digests=len(self._digesters))
            self._tell(Begin(run))
            try:
                self._read(run)
            except SourceUnreadable as error:
                self._give_up(run)
                if left == 0:
                    self._result.problems.append(error.problem)
                continue
            except BaseException:
                self._give_up(run)
                raise
            self._tell(End(run))
            self._result.read[entry.path] = run
            if run.size_bytes != entry.size_bytes:
                self._result.problems.append(_changed_size(run))
            return

    def _give_up(self, run: FileRun) -> None:
        run.given_up = True
        run.ready.set()
        self._tell(End(run))

    def _tell(self, message: Begin | End) -> None:
        for inbox in self._inboxes():
            inbox.put(message)

    def _read_small(self, entry: FileEntry, room: memoryview) -> bool:
        """Reads a whole file into a place one byte longer than it; false when it is not as it was listed."""
        try:
            descriptor = open_unseen(f"{self._source}/{entry.path}", os.O_RDONLY | os.O_NOFOLLOW)
        except OSError:
            return False
        try:
            return os.readv(descriptor, [room]) == entry.size_bytes
        except OSError:
            return False
        finally:
            close_read(descriptor)

    def _read(self, run: FileRun) -> None:
        path = self._source / run.entry.path
        with reading(path, self._source):
            descriptor = open_unseen(path, os.O_RDONLY | os.O_NOFOLLOW)
        try:
            before = os.fstat(descriptor)
            os.posix_fadvise(descriptor, 0, 0, os.POSIX_FADV_SEQUENTIAL)
            while True:
                self._step()
                buffer = self._free_buffer()
                try:
                    with reading(path, self._source):
                        buffer.size_bytes = os.readv(descriptor, [self._room_in(buffer)])
                except BaseException:
                    buffer.hand_to(0)
                    raise
                if buffer.size_bytes == 0:
                    buffer.hand_to(0)
                    with reading(path, self._source):
                        after = os.fstat(descriptor)
                    if (after.st_size, after.st_mtime_ns) != (run.size_bytes, before.st_mtime_ns):
                        raise _still_written(run)
                    return
                run.size_bytes += buffer.size_bytes
                size_bytes = buffer.size_bytes
                self._hand(buffer)
                self._keep_pace(size_bytes)
        finally:
            # The card's bytes are of no more use to anyone in memory.
            close_read(descriptor)

    def _inboxes(self, *, without_dropped: bool = False) -> list[queue.SimpleQueue[Message]]:
        wanted = [each for each in self._destinations if each.dropped is None or not without_dropped]
        return [*(digester.inbox for digester in self._digesters), *(each.inbox for each in wanted)]

    def _room_in(self, buffer: RingBuffer) -> memoryview:
        """All of a buffer; at a set pace a tenth of a second's worth, so that progress stays smooth."""
        return buffer.view[: max(64 * 1024, self._pace_bytes_s // 10)] if self._pace_bytes_s else buffer.view

    def _keep_pace(self, size_bytes: int) -> None:
        if self._pace_bytes_s == 0:
            return
        self._due_s = max(self._due_s, time.monotonic()) + size_bytes / self._pace_bytes_s
        while (wait_s := self._due_s - time.monotonic()) > 0:
            self._step()
            time.sleep(min(wait_s, _STEP_S))

    def _hand(self, message: RingBuffer | Pack) -> None:
        inboxes = self._inboxes(without_dropped=True)
        buffer = message.buffer if isinstance(message, Pack) else message
        buffer.hand_to(len(inboxes))
        for inbox in inboxes:
            inbox.put(message)

    def _free_buffer(self) -> RingBuffer:
        waiting_since_s = time.monotonic()
        while (buffer := self._ring.take(_STEP_S)) is None:
            self._step()
            if time.monotonic() - waiting_since_s > self._patience_s:
                self._drop_laggards()
                waiting_since_s = time.monotonic()
        return buffer

    def _drop_laggards(self) -> None:
        """Drops who holds the whole ring, unless they all do: then nobody would be left to go on with."""
        active = [each for each in self._destinations if each.dropped is None]
        behind = [each for each in active if each.is_backlogged()]
        if 0 < len(behind) < len(active):
            for destination in behind:
                destination.drop(
                    Problem(
                        f"{destination.place} fell too far behind the others.",
                        str(destination.place),
                        "The other destinations went on; the card is unchanged.",
                        "It is filled from a finished copy afterwards.",
                    )
                )

    def _step(self) -> None:
        now_s = time.monotonic()
        if now_s - self._last_step_s < _STEP_S:
            self._watch.check()
            return
        self._last_step_s = now_s
        self._watch.step(progress_of(self._destinations, self._note))


def progress_of(destinations: list[Destination], note: str) -> Progress:
    """All destinations together: each byte counts once when copied and once when proven."""
    parts = tuple(destination.part() for destination in destinations)
    return Progress(
        sum(part.copied + part.proven for part in parts), sum(2 * part.total for part in parts), note, parts
    )


def _still_written(run: FileRun) -> SourceUnreadable:
    return SourceUnreadable(
        f"{shown(run.entry.path)} is still being written: it changed while it was read.",
        path=run.entry.path,
        safe="It is not counted as kept; the other files are not affected.",
        do="Let whatever writes to it finish, and offload again: it goes on where it stopped.",
    )


def _changed_size(run: FileRun) -> Problem:
    return Problem(
        f"{shown(run.entry.path)} changed after the card was listed: "
        f"{run.entry.size_bytes} bytes listed, {run.size_bytes} read.",
        run.entry.path,
        "What was read is kept and proven.",
        "If something still writes to the card, let it finish and offload again.",
    )


def _cancelled_problem() -> Problem:
    return Problem(
        "The offload was stopped.",
        "",
        "What had arrived whole is kept; the copy says that it is not whole.",
        "Offload the same card again to complete it.",
    )
