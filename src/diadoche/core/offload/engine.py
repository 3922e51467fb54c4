"""The copying engine: one reader, a ring of buffers, digests on the way, a writer and a prover for each destination."""

from __future__ import annotations

import os
import queue
import threading
import time
from collections import deque
from collections.abc import Callable, Mapping
from dataclasses import dataclass, field
from pathlib import Path

from diadoche.core.answering import HANGS_S, Calls, Errand
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
_SUPERVISE_S = 0.01
# What a stop waits for: one call that is under way.
_STOPPING_S = 0.7
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
    """Reads each of `files` below `source` once and hands it to every destination.

    A thread reads; the one who calls `run` supervises. Neither a source nor a destination that hangs holds it up: a
    destination that does not answer is left behind, and so is the source when the work is stopped.
    """

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
        expected: Mapping[str, Mapping[str, str]] | None = None,
        waits_for_source: bool = True,
    ) -> None:
        """
        Args:
            source: the card's top, or a copy's.
            files: what is read, in this order.
            destinations: who takes it.
            digests: which are computed, by name.
            watch: told the progress.
            note: what is told with it.
            patience_s: over how long the pace of a destination that everybody waits for is measured.
            pace_bytes_s: read no faster than that; 0 sets no limit.
            expected: digests that files have by all that is known; what reads otherwise gets no final name.
            waits_for_source: a person decides about a card that hangs; a copy that hangs is given up.
        """
        self._pace_bytes_s = pace_bytes_s
        self._due_s = 0.0
        self._source = source
        self._files = files
        self._destinations = destinations
        self._watch = watch
        self._note = note
        self._expected = expected or {}
        self._waits_for_source = waits_for_source
        self._total_bytes = sum(file.size_bytes for file in files)
        self._read_bytes = 0
        self._waiting = WaitingTimes(patience_s)
        self._ring = Ring()
        self._digesters = [_Digester(name) for name in digests]
        self._stopped = threading.Event()
        # What is read of a card is told to those who watch it; a copy that is read from concerns nobody but us.
        self._source_calls = watch.calls if waits_for_source else Calls()
        self._result = PassResult()

    def run(self) -> PassResult:
        """Copies and proves everything that can be; every thread has ended then, or was left behind."""
        for destination in self._destinations:
            destination.start()
        reading_thread = Errand(self._read_all, self._source_calls, "read")
        try:
            self._read_to_the_end(reading_thread)
            self._finish()
        except Cancelled:
            self._result.cancelled = True
            self._stop_all()
        finally:
            self._stopped.set()
            self._ring.close()
        return self._result

    def _read_to_the_end(self, reading_thread: Errand[None]) -> None:
        """Supervises until everything was read, or the source is lost."""
        try:
            self._supervise(lambda: not reading_thread.ended and not self._source_hangs())
            if not reading_thread.ended:
                raise SourceLost(
                    f"{self._source} has not answered for {HANGS_S:.0f} seconds.",
                    path=self._source,
                    safe="What had arrived whole is kept.",
                    do="Look at its disk, then try again.",
                )
            reading_thread.result()
        except SourceLost as error:
            self._result.lost = error.problem

    def _source_hangs(self) -> bool:
        return not self._waits_for_source and self._source_calls.hang

    def _supervise(self, goes_on: Callable[[], bool]) -> None:
        """Tells the progress and leaves behind who does not answer, while something goes on."""
        self._watch.step(progress_of(self._destinations, self._note))
        told_s = time.monotonic()
        while goes_on():
            time.sleep(_SUPERVISE_S)
            for destination in self._destinations:
                if destination.calls.hang and not destination.abandoned:
                    destination.leave_behind()
            if time.monotonic() - told_s >= _STEP_S:
                self._watch.step(progress_of(self._destinations, self._note))
                told_s = time.monotonic()

    def _finish(self) -> None:
        """Everything was read: the destinations end what they have."""
        self._end_threads()
        for digester in self._digesters:
            digester.thread.join()
        self._supervise(lambda: self._drop_stragglers() or any(each.busy() for each in self._destinations))

    def _end_threads(self) -> None:
        self._stopped.set()
        for destination in self._destinations:
            destination.finish()
        for digester in self._digesters:
            digester.inbox.put(None)

    def _stop_all(self) -> None:
        """Stopped: nothing more is proven now; what has arrived under a final name was proven before it got that."""
        for destination in self._destinations:
            destination.cancel(_cancelled_problem())
        self._end_threads()
        until_s = time.monotonic() + _STOPPING_S
        while any(destination.busy() for destination in self._destinations) and time.monotonic() < until_s:
            time.sleep(_SUPERVISE_S)
        for destination in self._destinations:
            if destination.busy():
                destination.leave_behind()

    # -- the reader's thread -------------------------------------------------------------------

    def _read_all(self) -> None:
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

    def _check(self) -> None:
        """Waits while the work is paused; ends the thread when it is stopped."""
        if self._stopped.is_set():
            raise Cancelled
        self._watch.check()

    def _run_of(self, entry: FileEntry, size_bytes: int = 0) -> FileRun:
        expected = self._expected.get(entry.path, {})
        return FileRun(entry, len(self._digesters), expected, size_bytes=size_bytes)

    def _copy_pack(self, entries: list[FileEntry]) -> None:
        """Hands on many small files together; those that cannot be read as listed go the long way, alone."""
        if not entries:
            return
        self._check()
        buffer = self._free_buffer()
        runs, odd, end = [], [], 0
        for entry in entries:
            if self._read_small(entry, buffer.view[end : end + entry.size_bytes + 1]):
                runs.append(self._run_of(entry, entry.size_bytes))
                end += entry.size_bytes
            else:
                odd.append(entry)
        self._hand(Pack(buffer, tuple(runs)))
        self._read_bytes += end
        self._result.read.update((run.entry.path, run) for run in runs)
        for entry in odd:
            self._copy(entry)

    def _copy(self, entry: FileEntry) -> None:
        for left in range(_TRIES - 1, -1, -1):
            run = self._run_of(entry)
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
        with self._source_calls:
            try:
                descriptor = open_unseen(f"{self._source}/{entry.path}", os.O_RDONLY | os.O_NOFOLLOW)
            except OSError:
                return False
            try:
                before = os.fstat(descriptor)
                return (
                    os.readv(descriptor, [room]) == entry.size_bytes
                    and os.fstat(descriptor).st_mtime_ns == before.st_mtime_ns
                )
            except OSError:
                return False
            finally:
                close_read(descriptor)

    def _read(self, run: FileRun) -> None:
        path = self._source / run.entry.path
        with reading(path, self._source), self._source_calls:
            descriptor = open_unseen(path, os.O_RDONLY | os.O_NOFOLLOW)
        try:
            with reading(path, self._source), self._source_calls:
                before = os.fstat(descriptor)
                os.posix_fadvise(descriptor, 0, 0, os.POSIX_FADV_SEQUENTIAL)
            while True:
                self._check()
                buffer = self._free_buffer()
                try:
                    with reading(path, self._source), self._source_calls:
                        buffer.size_bytes = os.readv(descriptor, [self._room_in(buffer)])
                except BaseException:
                    buffer.hand_to(0)
                    raise
                if buffer.size_bytes == 0:
                    buffer.hand_to(0)
                    with reading(path, self._source), self._source_calls:
                        after = os.fstat(descriptor)
                    if (after.st_size, after.st_mtime_ns) != (run.size_bytes, before.st_mtime_ns):
                        raise _still_written(run)
                    return
                run.size_bytes += buffer.size_bytes
                self._read_bytes += buffer.size_bytes
                size_bytes = buffer.size_bytes
                self._hand(buffer)
                self._keep_pace(size_bytes)
        finally:
            # The card's bytes are of no more use to anyone in memory.
            with self._source_calls:
                close_read(descriptor)

    def _inboxes(self, *, without_dropped: bool = False) -> list[queue.SimpleQueue[Message]]:
        wanted = [each for each in self._destinations if each.dropped is None or not without_dropped]
        wanted = [each for each in wanted if not each.abandoned]
        return [*(digester.inbox for digester in self._digesters), *(each.inbox for each in wanted)]

    def _room_in(self, buffer: RingBuffer) -> memoryview:
        """All of a buffer; at a set pace a tenth of a second's worth, so that progress stays smooth."""
        return buffer.view[: max(64 * 1024, self._pace_bytes_s // 10)] if self._pace_bytes_s else buffer.view

    def _keep_pace(self, size_bytes: int) -> None:
        if self._pace_bytes_s == 0:
            return
        self._due_s = max(self._due_s, time.monotonic()) + size_bytes / self._pace_bytes_s
        while (wait_s := self._due_s - time.monotonic()) > 0:
            self._check()
            time.sleep(min(wait_s, _STEP_S))

    def _hand(self, message: RingBuffer | Pack) -> None:
        inboxes = self._inboxes(without_dropped=True)
        buffer = message.buffer if isinstance(message, Pack) else message
        buffer.hand_to(len(inboxes))
        for inbox in inboxes:
            inbox.put(message)
        for destination in self._destinations:
            # It was left behind between the asking and the handing: nobody else lets go of what it was handed.
            if destination.abandoned:
                destination.leave_behind()

    def _free_buffer(self) -> RingBuffer:
        while True:
            laggards, since_s = self._laggards(), time.monotonic()
            buffer = self._ring.take(_STEP_S)
            self._waiting.note(time.monotonic() - since_s, laggards)
            if buffer is not None:
                return buffer
            self._check()
            self._drop_laggards()

    def _laggards(self) -> list[Destination]:
        """Who is waited for alone: not where all are, for then nobody would be left to go on with."""
        active = [each for each in self._destinations if each.dropped is None]
        behind = [each for each in active if each.is_backlogged()]
        return behind if 0 < len(behind) < len(active) else []

    def _drop_laggards(self) -> None:
        """Drops who holds the card longer than all others together do; see `WaitingTimes`."""
        for destination in self._laggards():
            if self._waiting.doubles(destination, self._read_bytes, self._total_bytes):
                destination.drop(_too_slow(destination), slow=True)

    def _drop_stragglers(self) -> bool:
        """The card was read; drops who would hold it for as long again after all others have ended; always false."""
        active = [each for each in self._destinations if each.busy() and each.dropped is None]
        ended = [each for each in self._destinations if not each.busy() and each.dropped is None]
        if not ended:
            return False
        self._waiting.note_ended()
        for destination in active:
            part = destination.part()
            done, left = part.copied + part.proven, 2 * part.total - part.copied - part.proven
            if self._waiting.straggles(done, left):
                destination.drop(_too_slow(destination), slow=True)
        return False


class WaitingTimes:
    """Measures how much longer the card stays in because of a slow destination.

    The rule: it drops out when waiting for it would more than double the time that the card stays in, by the pace
    of the last moments. It is filled from a finished copy afterwards, and the card is free the sooner.
    """

    def __init__(self, patience_s: float) -> None:
        """`patience_s`: over how long the pace is measured, and how much time a drop has to spare at least."""
        self._patience_s = patience_s
        self._begun_s = time.monotonic()
        self._waited_s = 0.0
        self._recent: dict[Destination, deque[tuple[float, float]]] = {}
        self._ended_s: float | None = None

    def note(self, seconds: float, laggards: list[Destination]) -> None:
        """So long the reader waited for these alone."""
        now_s = time.monotonic()
        if laggards:
            self._waited_s += seconds
        for each in laggards:
            self._recent.setdefault(each, deque()).append((now_s, seconds))

    def doubles(self, destination: Destination, read_bytes: int, total_bytes: int) -> bool:
        """Whether the card would stay in more than twice as long for this one's sake."""
        now_s = time.monotonic()
        recent = self._recent.get(destination, deque())
        while recent and recent[0][0] < now_s - self._patience_s:
            recent.popleft()
        if now_s - self._begun_s < self._patience_s:
            return False
        # The share of the last moments that went by in waiting for it: its pace against that of the others.
        share = min(0.999, sum(seconds for _at_s, seconds in recent) / self._patience_s)
        passed_s = now_s - self._begun_s
        alone_s = max(_STEP_S, passed_s - self._waited_s)
        left_alone_s = alone_s * max(0, total_bytes - read_bytes) / max(1, read_bytes)
        with_it_s = passed_s + left_alone_s / (1 - share)
        return with_it_s > 2 * (passed_s + left_alone_s) and with_it_s - passed_s - left_alone_s > self._patience_s

    def note_ended(self) -> None:
        """Someone else has everything, proven: from now on the card stays in for the others alone."""
        self._ended_s = self._ended_s or time.monotonic()

    def straggles(self, done: int, left: int) -> bool:
        """Whether what is left would take longer than all the rest has taken, by its own pace."""
        now_s = time.monotonic()
        if self._ended_s is None or now_s - self._ended_s < self._patience_s:
            return False
        pace = done / (now_s - self._begun_s)
        left_s = left / pace if pace else float("inf")
        return now_s + left_s - self._begun_s > 2 * (self._ended_s - self._begun_s) and left_s > self._patience_s


def progress_of(destinations: list[Destination], note: str) -> Progress:
    """All destinations together: each byte counts once when copied and once when proven."""
    parts = tuple(destination.part() for destination in destinations)
    return Progress(
        sum(part.copied + part.proven for part in parts), sum(2 * part.total for part in parts), note, parts
    )


def _too_slow(destination: Destination) -> Problem:
    return Problem(
        f"{destination.place} is too slow: waiting for it would more than double the time the card stays in.",
        str(destination.place),
        "The other destinations went on; the card is unchanged.",
        "Its copy is to be filled from a finished one: look whether it is proven.",
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
