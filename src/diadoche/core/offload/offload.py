"""One offload from plan to manifest: copy, prove, fill what dropped out, write it down."""

from __future__ import annotations

import os
import time
from collections.abc import Callable, Iterable
from dataclasses import dataclass, replace
from datetime import datetime
from pathlib import Path
from typing import TypeVar

from diadoche.core.answering import Calls, Errand, NoAnswer
from diadoche.core.cards.tree import FileEntry, FolderEntry, Tree, list_tree
from diadoche.core.content_key import content_key
from diadoche.core.errors import DiadocheError, Problem, SourceError
from diadoche.core.names import shown
from diadoche.core.offload.card_readings import CardReadings
from diadoche.core.offload.closing import close_copy
from diadoche.core.offload.copies import Copy, CopyState, ReadBack, proven_disks
from diadoche.core.offload.destination import Arrived, Destination, hanging_problem
from diadoche.core.offload.digest_file import contradict
from diadoche.core.offload.engine import PATIENCE_S, CopyPass, PassResult, progress_of
from diadoche.core.offload.folder_claim import FolderTaken, SameFolder
from diadoche.core.offload.identity import NO_IDENTITY
from diadoche.core.offload.journal import CopiedFile
from diadoche.core.offload.plan import OffloadPlan, Target, same_folder
from diadoche.core.watch import CARD_NOT_READ, Cancelled, Progress, Watch

T = TypeVar("T")
# Filling one copy may show that another has gone bad meanwhile, which is then filled itself.
_FILLING_ROUNDS = 3
_NUMBERS_TRIED = 1000
# How often a card that has changed meanwhile is gone on with, before it counts as still being written to.
_CARD_ROUNDS = 3


@dataclass(frozen=True, slots=True)
class KeptFile:
    """A file of the card and the digests of what came off it."""

    path: str
    size_bytes: int
    digests: dict[str, str]


@dataclass(frozen=True, slots=True)
class OffloadResult:
    """What an offload did, for the waybill, the ledger and the command line."""

    source: str
    files: int
    bytes: int
    seconds: float
    started: datetime
    copies: tuple[Copy, ...]
    kept: tuple[KeptFile, ...]
    # Whether the whole card was asked for, and all of it could be listed.
    whole: bool
    stopped: bool
    skipped: tuple[Problem, ...]
    renamed: tuple[tuple[str, str], ...]
    problems: tuple[Problem, ...]
    # What is worth knowing of it, and not wrong.
    remarks: tuple[Problem, ...] = ()
    # The card as it was listed last, after everything had been read; nothing where no card was read.
    tree: Tree | None = None
    taking: str = ""
    # Of what was asked for, as it was listed last.
    fingerprint: str = ""

    @property
    def proven_copies(self) -> int:
        """How many destinations hold everything, read back and matched."""
        return sum(copy.status is CopyState.PROVEN for copy in self.copies)

    @property
    def proven_disks(self) -> int:
        """On how many disks, known to be different, those copies are."""
        return proven_disks(self.copies)


def offload(
    plan: OffloadPlan,
    watch: Watch,
    *,
    version: str,
    now: Callable[[], datetime],
    patience_s: float = PATIENCE_S,
    pace_bytes_s: int = 0,
    fill_slow: bool = True,
    arrived: Arrived | None = None,
) -> OffloadResult:
    """Carries out a plan. Problems are part of the result; the card is only read.

    Args:
        plan: what is to be done.
        watch: told the progress.
        version: of this program, for the manifest.
        now: tells the time.
        patience_s: over how long the pace of a slow destination is measured.
        pace_bytes_s: read the card no faster than that; 0 sets no limit.
        fill_slow: whether a destination that was too slow for the card to wait is filled before this ends; else its
            copy stays unfinished, so that the card comes out now, and somebody completes it afterwards.
        arrived: told of each file as soon as it is proven under its final name, with the copy's folder, on a thread of
            that copy's; it must not raise, and is waited for.

    A stop through the watch does not raise: the result says `stopped`, and what arrived is kept.
    """
    started, began_s = now(), time.monotonic()
    run = _Run(plan, watch, patience_s, pace_bytes_s, arrived, fill_slow=fill_slow)
    run.copy_all()
    if plan.read_twice and not run.stopped and not run.lost:
        run.read_again()
    # Before anything is filled from copies: by then the card may come out.
    run.settle_card()
    run.fill_all()
    if run.card_was_asked:
        run.settle_card()
    copies = tuple(run.close(destination, version, now()) for destination in run.destinations)
    copies += tuple(_failed(target) for target in run.refused)
    return OffloadResult(
        str(plan.source),
        len(run.plan.files),
        run.plan.size_bytes,
        time.monotonic() - began_s,
        started,
        copies,
        tuple(KeptFile(file.path, file.size_bytes, file.digests) for file in run.kept()),
        run.plan.whole and not run.plan.unlisted and not run.plan.lost and run.settled,
        run.stopped,
        run.plan.left_out,
        tuple(dict.fromkeys(pair for destination in run.destinations for pair in destination.renamed)),
        tuple(dict.fromkeys(run.problems)),
        tuple(_times_not_kept(each) for each in run.destinations if each.proven and not each.keeps_times),
        run.tree,
        run.plan.taking,
        run.plan.fingerprint,
    )


def _failed(target: Target) -> Copy:
    return Copy(
        str(target.place), str(target.root), "", 0, 0, CopyState.FAILED, ReadBack.CACHE, target.disk.key,
        target.disk.words,
    )  # fmt: skip


class _Run:
    """The state of one offload while it goes on."""

    def __init__(
        self,
        plan: OffloadPlan,
        watch: Watch,
        patience_s: float,
        pace_bytes_s: int,
        arrived: Arrived | None,
        *,
        fill_slow: bool,
    ) -> None:
        self.plan = plan
        self._arrived = arrived
        # Whether the card was the same after its last reading as when it was listed; and that last listing.
        self.settled = plan.history is not None
        self.tree: Tree | None = None
        # Whether the card was read once more, for what no copy had.
        self.card_was_asked = False
        self._read_once_more: set[str] = set()
        self._gone: set[str] = set()
        self._fill_slow = fill_slow
        self._card_is_wanted = True
        self._pace_bytes_s = pace_bytes_s
        self._watch = watch
        self._patience_s = patience_s
        self._entries = {file.path: file for file in plan.files}
        self.refused: list[Target] = [target for target in plan.targets if target.problem]
        self.problems: list[Problem] = [target.problem for target in self.refused if target.problem]
        self.problems += [*plan.unlisted, *plan.lost]
        # What each file is: the digests that readings of the card, or the manifests of a copy, agree on.
        self.known: dict[str, CopiedFile] = {}
        self.stopped = False
        self.lost = False
        self._first_failures: dict[Destination, Problem] = {}
        self._read_again_wanting = False
        self._digests = plan.digests
        self._readings = CardReadings(plan.source, plan.digests, watch.check)
        self.destinations: list[Destination] = []
        try:
            self._take_folders()
            self._compare_earlier()
        except Cancelled:
            self.stopped = True

    # -- folders -----------------------------------------------------------------------------

    def _take_folders(self) -> None:
        """A folder at each destination that nobody else has; all new ones under the same number."""
        for number in range(self.plan.number, self.plan.number + _NUMBERS_TRIED):
            opened = [
                Destination(self._numbered(target, number), self.plan, self._arrived) for target in self.plan.usable
            ]
            # Known from here on: whatever happens, what was begun is closed again, and told.
            self.destinations = opened
            errands = [(each, Errand(each.take_folder, each.calls, "take folder")) for each in opened]
            taken = False
            for destination, errand in errands:
                try:
                    self._wait_for(errand)
                except SameFolder:
                    destination.drop(same_folder(destination.place, self._other_place(destination)))
                except FolderTaken:
                    taken = True
                    destination.drop(_folder_is_taken(destination.root))
                except (DiadocheError, OSError) as error:
                    destination.drop(self._opening_problem(destination, error))
            if not taken or self.plan.numbered is None or self.stopped:
                break
            # Somebody else took this number meanwhile: what was begun under it is undone, and the next one tried.
            for destination in opened:
                if destination.dropped is None and not destination.target.resumed:
                    self._ask(destination, destination.folder.give_back)
                elif destination.dropped is None:
                    self._ask(destination, destination.folder.leave)
        self.problems += [each.dropped for each in self.destinations if each.dropped is not None]
        self._watch.check()

    def _wait_for(self, errand: Errand[None]) -> None:
        """A folder is taken to its end though the person stops: half taken it could not be given back."""

        def note_stop() -> None:
            self.stopped = self.stopped or self._watch.stopping

        errand.result(note_stop)

    def _other_place(self, destination: Destination) -> Path:
        return next((each.place for each in self.destinations if each.folder.is_open), destination.place)

    def _numbered(self, target: Target, number: int) -> Target:
        if target.resumed or self.plan.numbered is None:
            return target
        return replace(target, root=self.plan.numbered.root(target.place, number))

    def _opening_problem(self, destination: Destination, error: DiadocheError | OSError) -> Problem:
        if isinstance(error, DiadocheError):
            return error.problem
        destination.leave_behind()
        return hanging_problem(destination.place)

    def _ask(self, destination: Destination, work: Callable[[], T]) -> T | None:
        """Does something at a destination that may hang; None, and out of the run, where it fails."""
        if destination.abandoned:
            return None
        try:
            return Errand(work, destination.calls).result()
        except NoAnswer:
            destination.leave_behind()
            self.problems.append(hanging_problem(destination.place))
        except DiadocheError as error:
            destination.drop(error.problem)
            self.problems.append(error.problem)
        except OSError as error:
            problem = Problem(f"{destination.place}: {error.strerror or error}.", str(destination.place))
            destination.drop(problem)
            self.problems.append(problem)
        return None

    def _compare_earlier(self) -> None:
        """What an interrupted run left is compared with the card before it is gone on with."""
        for destination in self._ready():
            for path, file in [*destination.already.items(), *destination.doubted.items()]:
                if not self.plan.promised:
                    self._readings.earlier(path, file.digests)
                    # Like is compared with like: what was read with another digest then is read with that too now.
                    self._digests = tuple(dict.fromkeys((*self._digests, *file.digests)))
            for path in list(destination.already) if not self.plan.promised else ():
                self._watch.check()
                there = self._ask(destination, lambda at=path, of=destination: of.key_of(at))  # type: ignore[misc]  # bound now
                here = content_key([self.plan.source / path])
                if here and there != here:
                    destination.doubt(path)
        self._readings.names = self._digests

    def _ready(self) -> list[Destination]:
        return [each for each in self.destinations if each.dropped is None and not each.abandoned]

    # -- copying -----------------------------------------------------------------------------

    def copy_all(self) -> None:
        """Everything that is not everywhere already, from the source, once."""
        ready = self._ready()
        if not ready or self.stopped:
            return
        journals = [(path, file) for each in ready for path, file in each.already.items()]
        wanted_paths = {path for path in self._entries if any(path not in each.already for each in ready)}
        for path, file in journals:
            known = self.known.setdefault(path, file)
            if contradict(known.digests, file.digests):
                # Two earlier readings, both kept: the card has to decide.
                wanted_paths.add(path)
        first = CopyPass(
            self.plan.source,
            tuple(file for file in self.plan.files if file.path in wanted_paths),
            ready,
            self._digests,
            self._watch,
            patience_s=self._patience_s,
            pace_bytes_s=self._pace_bytes_s,
            expected=self.plan.promised,
            waits_for_source=self.plan.history is None,
        )
        self._take(first.run())

    def read_again(self) -> None:
        """Reads the card a second time; where that differs, readings that agree decide."""
        total, done = sum(file.size_bytes for file in self.known.values()), 0
        self._read_again_wanting = True
        try:
            for path, file in list(self.known.items()):
                self._watch.step(Progress(done, total, "reading the card again"))
                if not self._readings.again(path):
                    self._settle_reading(path)
                done += file.size_bytes
            self._read_again_wanting = False
        except Cancelled:
            self.stopped = True
        except SourceError as error:
            self.lost = True
            self.problems.append(error.problem)

    def _take(self, result: PassResult) -> None:
        self.stopped = self.stopped or result.cancelled
        if result.lost is not None:
            self.lost = True
            self.problems.append(result.lost)
        self.problems.extend(result.problems)
        for path, run in result.read.items():
            if not run.digests or (result.cancelled and not run.ready.is_set()):
                continue
            if self.plan.promised:
                self._take_promised(path, run.digests, run.size_bytes)
            elif self._readings.now(path, run.digests):
                self.known[path] = CopiedFile(path, path, run.size_bytes, dict(run.digests))
            else:
                self._try_to_settle(path)

    def _take_promised(self, path: str, digests: dict[str, str], size_bytes: int) -> None:
        if contradict(self.plan.promised.get(path, {}), digests):
            self.problems.append(_broken_promise(path, self.plan.source))
        else:
            self.known[path] = CopiedFile(path, path, size_bytes, dict(digests))

    def _try_to_settle(self, path: str) -> None:
        try:
            self._settle_reading(path)
        except Cancelled:
            self.stopped = True
            self._retire(path, None)
        except SourceError as error:
            self.problems.append(error.problem)
            self._retire(path, None)

    def _settle_reading(self, path: str) -> None:
        """Two readings of a file differ: it is what two agree on; copies of another reading are set aside."""
        digests = self._readings.agreed(path)
        self._retire(path, dict(digests) if digests is not None else None)
        self.problems.append(_read_differently(path, found=digests is not None))

    def _retire(self, path: str, digests: dict[str, str] | None) -> None:
        for destination in self.destinations:
            standing = destination.proven.get(path) or destination.already.get(path)
            if standing is None or (digests is not None and not contradict(standing.digests, digests)):
                continue
            remark = self._ask(destination, lambda of=destination: of.set_aside(path))  # type: ignore[misc]  # bound now
            if remark is not None:
                self.problems.append(remark)
        self.known.pop(path, None)
        if digests is not None:
            self.known[path] = CopiedFile(path, path, self._entries[path].size_bytes, digests)

    # -- what the card holds by now ------------------------------------------------------------

    def settle_card(self) -> None:
        """Lists the card once more after its last reading; what is new or other by then is copied too.

        A phone, a camera on a network or a chosen folder may be written to at any time. Only a listing after the last
        reading that says the same as the one before it shows that nothing was missed.
        """
        if self.plan.history is not None or self.stopped or self.lost:
            return
        self.settled = False
        try:
            for left in range(_CARD_ROUNDS, -1, -1):
                now = self._listed_again()
                if now is None or not self._differs(now):
                    return
                if left == 0:
                    self.problems.append(_still_being_written(self.plan.source))
                    return
                if not self._copy_changes(now):
                    return
        except Cancelled:
            self.stopped = True

    def _listed_again(self) -> Tree | None:
        self._watch.step(progress_of(self.destinations, "looking whether the card has changed"))
        try:
            # A reader that hangs at this is stopped like one that hangs at reading: its thread is left behind.
            look = Errand(lambda: list_tree(self.plan.source, self._watch), Calls(), "look again")
            now = look.result(self._watch.check)
        except OSError as error:
            self.lost = True
            self.problems.append(_cannot_be_listed_again(self.plan.source, error))
            return None
        return now

    def _differs(self, now: Tree) -> bool:
        """Whether the card is other than it was planned; where it is not, that is settled."""
        planned = {file.path: file for file in self.plan.files if file.path not in self._gone}
        files = now.files if self.plan.whole else tuple(file for file in now.files if file.path in planned)
        same = set(files) == set(planned.values()) and not self._touched(files)
        if self.plan.whole:
            same = same and {each.path for each in now.folders} == {each.path for each in self.plan.folders}
            same = same and {each.path for each in now.unlisted} == {each.path for each in self.plan.unlisted}
        if same:
            self.settled, self.tree = True, now
        return not same

    def _touched(self, files: Iterable[FileEntry]) -> list[FileEntry]:
        """Files of the same size and time that something was done to all the same; each is named once only."""
        found = []
        for file in files:
            before = self._entries.get(file.path)
            touched = before == file and before is not None and before.touched_ns != file.touched_ns
            if touched and file.path in self.known and file.path not in self._read_once_more:
                found.append(file)
        return found

    def _copy_changes(self, now: Tree) -> bool:
        """Copies what is new or other; false where that ended before its time."""
        planned = {file.path: file for file in self.plan.files}
        files = now.files if self.plan.whole else tuple(file for file in now.files if file.path in planned)
        wanted = [file for file in files if planned.get(file.path) != file]
        for file in self._touched(files):
            # Some mounts make that up: only what reads otherwise has changed.
            self._read_once_more.add(file.path)
            self._watch.step(progress_of(self.destinations, f"reading {shown(file.name)} again"))
            if not self._reads_as_known(file):
                wanted.append(file)
        there = {file.path for file in files}
        gone = [file for path, file in planned.items() if path not in there]
        self.problems += [
            _deleted_meanwhile(file.path, read=file.path in self.known) for file in gone if file.path not in self._gone
        ]
        # One that was never read is missing in every copy: a reader may have lost it, and not somebody deleted it.
        self._gone = {file.path for file in gone}
        for file in wanted:
            # What was read before is no reading of this file: it is kept beside the copies, and counts no more.
            self._readings.forget(file.path)
            self._retire(file.path, None)
            self.problems = [each for each in self.problems if each.path not in _paths_of(self.plan.source, file)]
        self.plan = replace(
            self.plan,
            files=(*files, *gone),
            folders=_joined_folders(now, self.plan),
            unlisted=now.unlisted if self.plan.whole else self.plan.unlisted,
            fingerprint=replace(now, files=files).fingerprint(),
        )
        self.problems += [each for each in self.plan.unlisted if each not in self.problems]
        self._entries = {file.path: file for file in self.plan.files}
        for destination in self.destinations:
            # One that was too slow is filled later: it gets the names and folders too.
            failed = destination.dropped is not None and not destination.was_slow
            if failed or not destination.folder.is_open:
                continue
            self._ask(destination, lambda to=destination: to.take_more(self.plan))  # type: ignore[misc]  # bound now
        self._copy_new(wanted)
        return not (self.stopped or self.lost)

    def _reads_as_known(self, file: FileEntry) -> bool:
        try:
            return self._readings.again(file.path)
        except SourceError:
            return False

    def _copy_new(self, wanted: list[FileEntry]) -> None:
        ready = self._ready()
        if not wanted or not ready:
            return
        for destination in ready:
            destination.revive()
        result = CopyPass(
            self.plan.source, tuple(wanted), ready, self._digests, self._watch, patience_s=self._patience_s,
            pace_bytes_s=self._pace_bytes_s,
        ).run()  # fmt: skip
        self._take(result)

    # -- filling -----------------------------------------------------------------------------

    def fill_all(self) -> None:
        """What dropped out, or read back wrong, is filled: from finished copies, else from the card."""
        for destination in self.destinations:
            if destination.dropped is not None and not self.stopped:
                self._first_failures[destination] = destination.dropped
        for _ in range(_FILLING_ROUNDS):
            wanting = [each for each in self.destinations if self._can_be_filled(each) and self._missing(each)]
            if not wanting or self.stopped:
                break
            # One that nobody failed on is asked of the card where no copy has the file; see `_fill`.
            self._card_is_wanted = any(each not in self._first_failures for each in wanting) and not self.lost
            for destination in wanting:
                self._fill(destination)
        for destination in self.destinations:
            if self._missing(destination) and destination.dropped is None:
                destination.dropped = self._first_failures.get(destination)
            failure = destination.dropped or (None if destination.was_slow else self._first_failures.get(destination))
            if failure is not None and not destination.cancelled:
                # Though a copy may have been filled: its disk failed, and that is not kept quiet.
                self.problems.append(failure)

    def _can_be_filled(self, destination: Destination) -> bool:
        # What could not even be opened has no folder of ours.
        wanted = self._fill_slow or not destination.was_slow
        return wanted and not destination.abandoned and destination.folder.is_open

    def _missing(self, destination: Destination) -> list[FileEntry]:
        return [self._entries[path] for path in self.known if path not in destination.proven]

    def _fill(self, destination: Destination) -> None:
        missing = self._missing(destination)
        for giver in self.destinations:
            if giver is destination or giver.abandoned:
                continue
            there = {path for path, file in giver.proven.items() if file.kept_as == path}
            self._second_pass(destination, giver.root, [entry for entry in missing if entry.path in there], giver)
            missing = self._missing(destination)
        # The card is only asked where nobody failed and no copy has the file: a slow disk never costs a second reading.
        if destination not in self._first_failures and not self.lost and not self.stopped:
            self.card_was_asked |= bool(missing) and self.plan.history is None
            self._second_pass(destination, self.plan.source, missing, None)

    def _second_pass(
        self, destination: Destination, source: Path, missing: list[FileEntry], giver: Destination | None
    ) -> None:
        if not missing or self.stopped or destination.abandoned:
            return
        destination.revive()
        expected = {entry.path: self.known[entry.path].digests for entry in missing}
        result = CopyPass(
            source,
            tuple(missing),
            [destination],
            self._digests,
            self._watch,
            note="filling" if giver is None or self._card_is_wanted else CARD_NOT_READ,
            expected=expected,
            waits_for_source=giver is None and self.plan.history is None,
        ).run()
        self.stopped = self.stopped or result.cancelled
        if result.lost is not None:
            self.problems.append(result.lost)
        for path, run in result.read.items():
            if not run.unexpected:
                continue
            if giver is not None:
                self._doubt_giver(giver, path)
            elif self.plan.promised:
                self.problems.append(_broken_promise(path, source))
            elif not self.stopped:
                self._readings.now(path, run.digests)
                self._try_to_settle(path)

    def _doubt_giver(self, giver: Destination, path: str) -> None:
        """A finished copy gave other bytes than were proven there: it is read back once more."""
        if not self._ask(giver, lambda: giver.prove_again(path)):
            self.problems.append(_went_bad(path, giver.root))

    def kept(self) -> list[CopiedFile]:
        """What is proven at one destination at least."""
        return [file for path, file in self.known.items() if any(path in each.proven for each in self.destinations)]

    # -- the end -----------------------------------------------------------------------------

    def close(self, destination: Destination, version: str, now: datetime) -> Copy:
        """Writes the manifest of what is proven there, and says what became of the destination."""
        self.problems.extend(destination.problems)
        whole = self._is_whole(destination)
        reachable = destination.folder.is_open and not destination.abandoned
        manifest = ""
        if reachable and (destination.proven or not self._entries):
            remark = "The second reading of the card was not finished." if self._read_again_wanting else ""
            written = self._ask(
                destination, lambda: close_copy(destination, self.plan, whole, version, now, remark=remark)
            )
            manifest = str(written or "")
        if reachable:
            self._ask(destination, destination.folder.leave)
        return Copy(
            str(destination.place),
            str(destination.root),
            manifest,
            len(destination.proven) if manifest else 0,
            destination.proven_bytes if manifest else 0,
            _state(destination, proven=whole and bool(manifest)),
            destination.read_back,
            destination.target.disk.key,
            destination.target.disk.words,
            destination.journal.earlier,
            destination.was_slow and destination.dropped is not None,
            destination.journal.identity if destination.folder.is_open else NO_IDENTITY,
            self._renamed(destination),
            len(self.plan.files) - len(destination.proven),
        )

    def _renamed(self, destination: Destination) -> dict[str, str]:
        on_card = self.plan.card_paths
        pairs = ((on_card.get(file.path, file.path), file.kept_as) for file in destination.proven.values())
        return {path: kept_as for path, kept_as in pairs if path != kept_as}

    def _is_whole(self, destination: Destination) -> bool:
        """Whether everything that was asked for is proven there, and nothing is in doubt.

        A folder that nobody could look into may hold anything: the copy stays open for it.
        """
        if self.stopped or self._read_again_wanting or self.plan.unlisted or self.plan.lost or not self.settled:
            return False
        return all(path in destination.proven for path in self._entries)


def _state(destination: Destination, *, proven: bool) -> CopyState:
    if destination.dropped is None:
        return CopyState.PROVEN if proven else CopyState.INCOMPLETE
    return CopyState.INCOMPLETE if destination.cancelled else CopyState.FAILED


def _paths_of(source: Path, file: FileEntry) -> tuple[str, str]:
    return file.path, str(source / file.path)


def _joined_folders(now: Tree, plan: OffloadPlan) -> tuple[FolderEntry, ...]:
    """The folders of the card now, and those that were made for it already."""
    there = {each.path for each in now.folders}
    kept = [each for each in plan.folders if each.path not in there]
    return tuple(sorted((*now.folders, *kept), key=lambda each: os.fsencode(each.path)))


def _still_being_written(source: Path) -> Problem:
    return Problem(
        f"The card at {source} is still being written to: it was other at every look.",
        str(source),
        "What was read is kept; the copies say that they are not whole, and nothing may be formatted.",
        "Stop whatever writes to it, then offload it again: it goes on where it stopped.",
    )


def _cannot_be_listed_again(source: Path, error: OSError) -> Problem:
    return Problem(
        f"The card at {source} could not be listed again at the end: {error.strerror or error}.",
        str(source),
        "What was read is kept; whether something was added meanwhile is not known.",
        "Put the same card back in and offload it again: it goes on where it stopped.",
    )


def _deleted_meanwhile(path: str, *, read: bool) -> Problem:
    return Problem(
        f"{shown(path)} is not on the card any more: it went away while that was offloaded.",
        path,
        "It had been read before: the copies have it, proven." if read else "No copy has it: none is called whole.",
        "Look who deleted it." if read else "Try the card in another reader, and offload it again.",
    )


def _times_not_kept(destination: Destination) -> Problem:
    return Problem(
        f"{destination.place} does not keep the times of files.",
        str(destination.place),
        "Every byte is proven; the manifest and the waybill have the times.",
        "Copy on to another disk from a copy that has them, if a program needs them.",
    )


def _folder_is_taken(root: Path) -> Problem:
    return Problem(
        f"Something stands at {root} already that is no unfinished copy of this card.",
        str(root),
        "Nothing was written there, and nothing was changed.",
        "Choose another place, or move away what stands there.",
    )


def _broken_promise(path: str, source: Path) -> Problem:
    """A copy that is copied on has changed since its manifest was written: that goes no further."""
    return Problem(
        f"{shown(path)} is not what the manifest of {source} says.",
        str(source / path),
        "It was not copied on; other copies are not affected.",
        "Restore it from another proven copy first.",
    )


def _read_differently(path: str, *, found: bool) -> Problem:
    if found:
        return Problem(
            f"{shown(path)} read differently from the card at different times.",
            path,
            "It was read again until two readings agreed; those bytes are what is proven.",
            "Play the clip from the copy, and do not trust this card or its reader any more.",
        )
    return Problem(
        f"{shown(path)} read differently from the card every time.",
        path,
        "It is not counted as kept anywhere; what stood in a copy is kept beside it. The card is unchanged.",
        "Use another reader or cable, and offload the card again.",
    )


def _went_bad(path: str, root: Path) -> Problem:
    return Problem(
        f"{shown(path)} went bad in {root} after it had been proven there.",
        str(root / path),
        "It is not counted there any more, and was not copied on.",
        "Do not trust that disk.",
    )
