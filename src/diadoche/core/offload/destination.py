"""One destination of an offload: a thread that writes and a thread that proves.

The writer takes buffers from the ring and writes them under temporary names, in a folder of their own at the top
of the copy. The prover makes the bytes durable, reads every file back from the disk, and only then gives it its
final name. Nothing here touches the card, and nothing under a final name is ever deleted.
"""

from __future__ import annotations

import os
import queue
import threading
import time
from collections.abc import Callable
from contextlib import suppress
from dataclasses import replace
from pathlib import Path

from diadoche.core.answering import HANGS_S, Calls
from diadoche.core.content_key import content_key
from diadoche.core.diskfiles import DirectReader, begin_writeback
from diadoche.core.disks import read_back_of
from diadoche.core.errors import DiadocheError, Problem, writing
from diadoche.core.names import safe_name, shown, unique_name
from diadoche.core.offload.copies import ReadBack
from diadoche.core.offload.copy_folder import CopyFolder
from diadoche.core.offload.digest_file import digests_of
from diadoche.core.offload.digests import DIGESTS
from diadoche.core.offload.journal import CopiedFile, Journal
from diadoche.core.offload.messages import Begin, FileRun, Message, Pack
from diadoche.core.offload.plan import OffloadPlan, Target
from diadoche.core.offload.ring import RingBuffer
from diadoche.core.open_folder import Placed
from diadoche.core.watch import Part

# Files are made durable together: one sync of the filesystem instead of one for each. Waiting longer
# for more of them would keep finished clips from being usable.
_BATCH_FILES = 1024
_BATCH_BYTES = 64 * 1024 * 1024
_BATCH_S = 0.5
_FEW_FILES = 4
# After so long it is said that a call has not returned; when it hangs is said elsewhere.
_SILENT_S = 5.0
_WRITEBACK_BYTES = 32 * 1024 * 1024
# So much of a file's own name its part has, for whoever finds one.
_PART_NAME = 60


# Takes a copy's folder, and a file that is proven in it.
Arrived = Callable[[Path, CopiedFile], None]


class _Written:
    """A file under its temporary name; nothing of it is open any more once it is handed to the prover."""

    def __init__(self, run: FileRun, part: str, descriptor: int) -> None:
        self.run = run
        self.part = part
        self.descriptor = descriptor
        self.error: OSError | None = None

    def close(self) -> None:
        """Closes the file; an error then is one of its writing."""
        descriptor, self.descriptor = self.descriptor, -1
        if descriptor >= 0:
            os.close(descriptor)


class Destination:
    """Writes and proves what it is handed, until it fails; then it lets everything pass."""

    def __init__(self, target: Target, plan: OffloadPlan, arrived: Arrived | None = None) -> None:
        """
        Args:
            target: the place, and the copy's folder there.
            plan: of the whole offload.
            arrived: told of each file as soon as it is proven under its final name, on the thread that proves.
        """
        self._arrived = arrived
        self.place, self.root = target.place, target.root
        self.total_bytes = plan.size_bytes
        self.calls = Calls()
        self.copied_bytes = 0
        # Files of an earlier, interrupted run: not written again, but proven again.
        self.already: dict[str, CopiedFile] = {}
        # What stood there by an earlier reading that is in doubt now.
        self.doubted: dict[str, CopiedFile] = {}
        self.proven: dict[str, CopiedFile] = {}
        self.proven_bytes = 0
        self.renamed: list[tuple[str, str]] = []
        self.problems: list[Problem] = []
        self.dropped: Problem | None = None
        self.abandoned = self.cancelled = self.was_slow = False
        self.passed_cache = self.keeps_times = True
        self.read_back = ReadBack.CACHE
        self.inbox: queue.SimpleQueue[Message] = queue.SimpleQueue()
        self.folder = CopyFolder(target, plan, self.calls)
        self._to_prove: queue.SimpleQueue[list[_Written] | None] = queue.SimpleQueue()
        self._tries = 0
        self._threads: list[threading.Thread] = []
        self._at_work = 0
        self._lock = threading.Lock()

    # -- the folder; called in a thread that may be left behind ----------------------------------

    @property
    def target(self) -> Target:
        """The place, and the names that files get there."""
        return self.folder.target

    @property
    def journal(self) -> Journal:
        """What the copy says of itself until it is whole."""
        return self.folder.journal

    def take_folder(self) -> None:
        """Takes the folder, or goes on with the unfinished copy in it; see `CopyFolder.take` for what it raises."""
        earlier = self.folder.take()
        self.already, self.doubted = earlier.sound, earlier.doubted
        self.copied_bytes = sum(file.size_bytes for file in self.already.values())

    def take_more(self, plan: OffloadPlan) -> None:
        """The card has come to hold more; see `CopyFolder.take_more` for what it raises."""
        self.total_bytes = plan.size_bytes
        self.folder.take_more(plan)

    def doubt(self, path: str) -> None:
        """What stands there of a file is not what the card shows now: the card decides."""
        file = self.already.pop(path, None)
        if file is not None:
            self.doubted[path] = file
            self.copied_bytes -= file.size_bytes

    def key_of(self, path: str) -> str:
        """A content key of what stands there of a file."""
        with self.calls:
            return content_key([Placed(self.folder.held, self.already[path].kept_as)])

    def set_aside(self, path: str) -> Problem | None:
        """Moves what stands there of a file out of the copy, beside it; gives words about it."""
        if path in self.proven:
            self.proven_bytes -= self.proven[path].size_bytes
        file = self.proven.pop(path, None) or self.already.pop(path, None) or self.doubted.pop(path, None)
        self.already.pop(path, None)
        return self.folder.set_aside(file) if file is not None else None

    # -- called by the one who supervises --------------------------------------------------------

    def start(self) -> None:
        """Begins taking messages."""
        self._at_work = 2
        self._threads = [
            threading.Thread(target=self._at_its_work, args=(work,), name=f"{name} {self.place.name}", daemon=True)
            for name, work in (("write", self._write_all), ("prove", self._prove_all))
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
        """Whether it still writes or proves, as far as anybody waits for it."""
        return not self.abandoned and any(thread.is_alive() for thread in self._threads)

    def finish(self) -> None:
        """No more files come."""
        self.inbox.put(None)

    def drop(self, problem: Problem, *, slow: bool = False) -> None:
        """Takes it out of this pass; what it holds of the ring is let go. Being slow is no fault of its."""
        if self.dropped is None:
            self.dropped, self.was_slow = problem, slow

    def cancel(self, problem: Problem) -> None:
        """The person stopped the work: nothing is wrong with it."""
        if self.dropped is None:
            self.dropped, self.cancelled = problem, True

    def leave_behind(self) -> None:
        """Nobody waits for it any more: a call to it does not return. What waits in the ring for it is let go."""
        self.abandoned = True
        if not self.cancelled:
            self.dropped = hanging_problem(self.place)
        while True:
            try:
                message = self.inbox.get_nowait()
            except queue.Empty:
                # Should it ever come back, its threads end.
                self.inbox.put(None)
                return
            if isinstance(message, RingBuffer):
                message.let_go()
            elif isinstance(message, Pack):
                message.buffer.let_go()

    def part(self) -> Part:
        """How far it is."""
        silent_s = self.calls.silent_for_s()
        state = "dropped" if self.dropped else "silent" if silent_s > _SILENT_S else "under way"
        return Part(str(self.place), self.copied_bytes, self.proven_bytes, self.total_bytes, state, silent_s)

    def is_backlogged(self) -> bool:
        """Whether messages wait for it: it is what the reader waits for."""
        return not self.inbox.empty()

    def _at_its_work(self, work: Callable[[], None]) -> None:
        try:
            work()
        finally:
            with self._lock:
                self._at_work -= 1
                is_last = self._at_work == 0
            if is_last and self.abandoned:
                # It was left behind and has come back after all: nobody else closes what it holds.
                with suppress(OSError):
                    self.folder.leave()

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
                self._end(current)
                current = None
        if current is not None:
            # Stopped in the middle of a file.
            with self.calls, suppress(OSError):
                current.close()
                self.folder.held.forget(current.part)
        self._to_prove.put(None)

    def _write_on(self, current: _Written, buffer: RingBuffer, unflushed_bytes: int) -> int:
        """Writes the next bytes; starts the disk early, so that the sync at the end of a large file is short."""
        try:
            with self.calls:
                _write_fully(current.descriptor, buffer.data)
        except OSError as error:
            self._drop_for(self.root / current.run.entry.path, error)
        self.copied_bytes += buffer.size_bytes
        unflushed_bytes += buffer.size_bytes
        if unflushed_bytes < _WRITEBACK_BYTES or self.dropped is not None:
            return unflushed_bytes
        with self.calls:
            begin_writeback(current.descriptor, self._written_before(current))
        return 0

    def _written_before(self, current: _Written) -> int:
        """How many bytes of a file were handed to the disk one round ago: those are waited for now."""
        return max(0, os.lseek(current.descriptor, 0, os.SEEK_CUR) - _WRITEBACK_BYTES)

    def _end(self, written: _Written) -> None:
        """Closed here and opened again for the sync: what waits for its proof holds nothing open."""
        changed = written.run.entry.changed_ns
        try:
            with self.calls:
                self._set_time(written.descriptor, changed)
                written.close()
        except OSError as error:
            self._drop_for(self.root / written.run.entry.path, error)
        self._to_prove.put([written])

    def _set_time(self, descriptor: int, changed_ns: int) -> None:
        try:
            os.utime(descriptor, ns=(changed_ns, changed_ns))
        except OverflowError:
            # A time that this system cannot write: the bytes count, the manifest and the waybill have the listing's.
            return
        except OSError:
            # Some shares and FUSE filesystems refuse it. The bytes are what is proven; that the time is not is said.
            self.keeps_times = False

    def _write_pack(self, pack: Pack) -> None:
        written: list[_Written] = []
        for run, data in pack.parts():
            file = self._begin(run)
            if file is None:
                continue
            written.append(file)
            try:
                with self.calls:
                    _write_fully(file.descriptor, data)
                    self._set_time(file.descriptor, run.entry.changed_ns)
                    file.close()
            except OSError as error:
                self._drop_for(self.root / run.entry.path, error)
                with suppress(OSError):
                    file.close()
            self.copied_bytes += run.size_bytes
        pack.buffer.let_go()
        self._to_prove.put(written)

    def _begin(self, run: FileRun) -> _Written | None:
        if self.dropped is not None or run.entry.path in self.already:
            return None
        # A number of its own for each try: what is still to be done about a try that was given up touches no other.
        self._tries += 1
        name = safe_name(run.entry.name)[:_PART_NAME]
        part = self.folder.part(f"{self._tries:07} {name.encode('ascii', 'replace').decode()}")
        try:
            with self.calls:
                return _Written(run, part, self.folder.held.open(part, _NEW_FILE))
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
        reader = DirectReader(self.calls)
        try:
            for file in list(self.already.values()):
                if file.path not in self.proven and self.dropped is None:
                    self._prove_standing(file, reader)
            open_ended = True
            while open_ended:
                batch, open_ended = self._next_batch()
                self._settle(batch, reader)
        finally:
            self.passed_cache = self.passed_cache and reader.passed_cache
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
        for written in batch:
            written.run.ready.wait()
        wanted = [each for each in batch if not each.run.given_up and not each.run.unexpected]
        try:
            if wanted and self.dropped is None:
                with writing(self.root / wanted[0].run.entry.path):
                    self._sync(wanted)
            # Read back before it gets its name: what is wrong never stands under a final one.
            proven = [each for each in wanted if self.dropped is None and self._reads_back(each, reader)]
            self._name_finally(proven)
        except DiadocheError as error:
            self.drop(error.problem)
        finally:
            with self.calls:
                for written in batch:
                    self.folder.held.forget(written.part)

    def _sync(self, arrived: list[_Written]) -> None:
        if len(arrived) > _FEW_FILES and self.folder.target.limits.synced_at_once:
            with self.calls:
                self.journal.sync_filesystem()
            return
        for written in arrived:
            with self.calls:
                descriptor = self.folder.held.open(written.part)
                try:
                    os.fsync(descriptor)
                finally:
                    os.close(descriptor)

    def _reads_back(self, written: _Written, reader: DirectReader) -> bool:
        """Reads one file back and compares it with what came off the card.

        The first digest is compared: it covers every byte, and a second would only cost time.
        """
        file = self._copied(written.run)
        found = self._found(file, written.part, reader)
        if found is None or found == _first(file):
            return found is not None
        self.problems.append(_read_back_differently(file, self.root, self.place, "it was not kept under its name"))
        return False

    def _found(self, file: CopiedFile, path: str, reader: DirectReader) -> str | None:
        """The first digest of what stands under a path; None where it cannot be read, or the pass has ended."""
        name = next(iter(file.digests))
        try:
            placed = Placed(self.folder.held, path)
            return digests_of(placed, [name], reader, size_bytes=file.size_bytes, step=self._go_on)[name]
        except _Dropped:
            return None
        except OSError as error:
            self.problems.append(
                Problem(
                    f"{shown(file.kept_as)} cannot be read back from {self.place}: {error.strerror or error}.",
                    str(self.root / file.kept_as),
                    "It is not counted as kept there; the source is unchanged.",
                    "Offload again, or replace the disk.",
                )
            )
            return None

    def _go_on(self, _count: int) -> None:
        if self.dropped is not None:
            raise _Dropped

    def _prove_standing(self, file: CopiedFile, reader: DirectReader) -> None:
        """Proves a file of an earlier run anew: after a kill nothing is believed."""
        found = self._found(file, file.kept_as, reader)
        if found == _first(file):
            self._count(file)
        elif found is not None:
            self.problems.append(_read_back_differently(file, self.root, self.place, "it was set aside"))
            self.folder.set_aside(file)

    def prove_again(self, path: str) -> bool:
        """Reads a proven file back once more, because somebody read it otherwise; false where it is proven no longer.

        Raises:
            TargetError: what is wrong there cannot be set aside.
        """
        file = self.proven.pop(path)
        self.proven_bytes -= file.size_bytes
        reader = DirectReader(self.calls)
        try:
            self._prove_standing(file, reader)
        finally:
            reader.close()
        return path in self.proven

    def _count(self, file: CopiedFile) -> None:
        self.proven[file.path] = file
        self.proven_bytes += file.size_bytes
        if self._arrived is not None:
            self._arrived(self.root, file)

    def _name_finally(self, proven: list[_Written]) -> None:
        """Gives proven files their names: a line in the journal first, synced, so that every final name has one."""
        files = [(written, self._copied(written.run)) for written in proven]
        with writing(self.root):
            with self.calls:
                self._move_doubted([file for _written, file in files])
                self.journal.note(file for _written, file in files)
                self.journal.sync()
            for written, file in files:
                with self.calls:
                    self._count(self._with_remark(self._named(written, file)))

    def _move_doubted(self, files: list[CopiedFile]) -> None:
        """What stands there by an earlier reading steps aside for the one that is proven now."""
        for file in files:
            earlier = self.doubted.pop(file.path, None)
            if earlier is None:
                continue
            if self._stands_as(file, earlier.kept_as):
                # It is what was proven now: it is counted when the name is given.
                continue
            remark = self.folder.set_aside(earlier)
            if remark is not None:
                self.problems.append(remark)

    def _named(self, written: _Written, file: CopiedFile) -> CopiedFile:
        held = self.folder.held
        try:
            held.rename_new(written.part, file.kept_as)
        except FileNotFoundError:
            # Somebody took the folder away meanwhile.
            held.make_folder(file.kept_as.rpartition("/")[0])
            held.rename_new(written.part, file.kept_as)
        except FileExistsError:
            return self._beside(written, file)
        return file

    def _with_remark(self, file: CopiedFile) -> CopiedFile:
        """Itself; that it is kept under another name is noted for the waybill."""
        if file.kept_as != file.path:
            self.renamed.append((file.path, file.kept_as))
        return file

    def _copied(self, run: FileRun) -> CopiedFile:
        # The quickest digest first: that one is compared when the file is read back.
        digests = {name: run.digests[name] for name in DIGESTS if name in run.digests}
        return CopiedFile(run.entry.path, self.target.kept_as(run.entry.path), run.size_bytes, digests)

    def _beside(self, written: _Written, file: CopiedFile) -> CopiedFile:
        """Something has the name already: the same content is counted, other content stays and ours moves."""
        if self._stands_as(file, file.kept_as):
            return file
        held = self.folder.held
        folder, _, own_name = file.kept_as.rpartition("/")
        above = f"{folder}/" if folder else ""
        moved = replace(file, kept_as=above + unique_name(own_name, lambda taken: held.exists(above + taken)))
        # The line first: a name without one cannot come from us.
        self.journal.note([moved])
        self.journal.sync()
        held.rename_new(written.part, moved.kept_as)
        return moved

    def _stands_as(self, file: CopiedFile, path: str) -> bool:
        """Whether what stands at a path in the copy reads as a file that was proven."""
        if self.folder.held.size_of(path) != file.size_bytes:
            return False
        reader = DirectReader(self.calls)
        try:
            name = next(iter(file.digests))
            return digests_of(Placed(self.folder.held, path), [name], reader)[name] == file.digests[name]
        finally:
            self.passed_cache = self.passed_cache and reader.passed_cache
            reader.close()

    def note_read_back(self) -> None:
        """Notes how far the readings back are known to have reached."""
        with self.calls:
            self.read_back = read_back_of(self.root, passed_cache=self.passed_cache)


class _Dropped(Exception):
    """Nobody waits for a reading any more."""


_NEW_FILE = os.O_WRONLY | os.O_CREAT | os.O_EXCL | os.O_CLOEXEC | os.O_NOFOLLOW


def _first(file: CopiedFile) -> str:
    return next(iter(file.digests.values()))


def _write_fully(descriptor: int, data: memoryview) -> None:
    while data:
        data = data[os.write(descriptor, data) :]


def _read_back_differently(file: CopiedFile, root: Path, place: Path, fate: str) -> Problem:
    return Problem(
        f"{shown(file.kept_as)} read back differently from {place}; {fate}.",
        str(root / file.kept_as),
        "It is not counted as kept there; the source is unchanged.",
        "Leave the card in and offload it again. If it happens twice, do not trust this disk.",
    )


def hanging_problem(place: Path) -> Problem:
    """The problem of a place that does not answer."""
    return Problem(
        f"{place} has not answered for {HANGS_S:.0f} seconds: it was left behind.",
        str(place),
        "The other destinations went on; the card is unchanged. What is there counts for nothing.",
        "Look at its cable, power or network, then offload again: it goes on where it stopped.",
    )
