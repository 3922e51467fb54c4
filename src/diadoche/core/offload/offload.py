"""One offload from plan to manifest: copy, prove, fill what dropped out, write it down."""

from __future__ import annotations

import os
import time
from collections.abc import Callable
from dataclasses import dataclass, replace
from datetime import datetime
from pathlib import Path
from typing import Literal

from diadoche.core.cards.tree import FileEntry
from diadoche.core.diskfiles import DirectReader
from diadoche.core.errors import DiadocheError, Problem, SourceError, reading, writing
from diadoche.core.names import shown
from diadoche.core.offload.destination import Destination
from diadoche.core.offload.digests import DIGESTS
from diadoche.core.offload.engine import PATIENCE_S, CopyPass, PassResult
from diadoche.core.offload.journal import CopiedFile, Journal, read_journal
from diadoche.core.offload.mhl import ManifestRequest, carry_history, write_manifest
from diadoche.core.offload.plan import OffloadPlan, Target
from diadoche.core.watch import Cancelled, Progress, Watch

CopyStatus = Literal["proven", "incomplete", "failed"]


@dataclass(frozen=True, slots=True)
class Copy:
    """What became of one destination. `root` is the folder of this taking there."""

    destination: str
    root: str
    manifest: str
    files_verified: int
    bytes_verified: int
    status: CopyStatus
    passed_cache: bool = True
    disk: str = ""
    disk_words: str = ""


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
    whole: bool
    stopped: bool
    skipped: tuple[Problem, ...]
    renamed: tuple[tuple[str, str], ...]
    problems: tuple[Problem, ...]

    @property
    def proven_copies(self) -> int:
        """How many destinations hold everything, read back and matched."""
        return sum(copy.status == "proven" for copy in self.copies)

    @property
    def proven_disks(self) -> int:
        """On how many different disks those copies are: copies on one disk are lost together."""
        return len({copy.disk for copy in self.copies if copy.status == "proven"})


def offload(
    plan: OffloadPlan,
    watch: Watch,
    *,
    version: str,
    now: Callable[[], datetime],
    patience_s: float = PATIENCE_S,
    pace_bytes_s: int = 0,
) -> OffloadResult:
    """Carries out a plan. Problems are part of the result; the card is only read.

    A stop through the watch does not raise: the result says `stopped`, and what arrived is kept.
    """
    started, began_s = now(), time.monotonic()
    run = _Run(plan, watch, patience_s, pace_bytes_s)
    run.copy_all()
    if plan.read_twice and not run.stopped and not run.lost:
        run.read_again()
    copies = tuple(run.close(destination, version, now()) for destination in run.destinations)
    copies += tuple(
        Copy(str(t.place), str(t.root), "", 0, 0, "failed", True, t.disk.key, t.disk.words)
        for t in plan.targets
        if t.problem
    )
    return OffloadResult(
        str(plan.source),
        len(plan.files),
        plan.size_bytes,
        time.monotonic() - began_s,
        started,
        copies,
        tuple(KeptFile(file.path, file.size_bytes, file.digests) for file in run.known.values()),
        plan.whole,
        run.stopped,
        plan.left_out,
        tuple(dict.fromkeys(pair for destination in run.destinations for pair in destination.renamed)),
        tuple(run.problems),
    )


class _Run:
    """The state of one offload while it goes on."""

    def __init__(self, plan: OffloadPlan, watch: Watch, patience_s: float, pace_bytes_s: int) -> None:
        self._plan = plan
        self._pace_bytes_s = pace_bytes_s
        self._watch = watch
        self._patience_s = patience_s
        self._entries = {file.path: file for file in plan.files}
        self.problems: list[Problem] = [target.problem for target in plan.targets if target.problem]
        self.known: dict[str, CopiedFile] = {}
        self.stopped = False
        self.lost = False
        self._read_again_wanting = False
        self.destinations = [opened for target in plan.usable if (opened := self._open(target))]

    def _open(self, target: Target) -> Destination | None:
        journal = read_journal(target.root) if target.resumed else None
        journal = journal or Journal(target.root, self._plan.fingerprint)
        try:
            with writing(target.root):
                target.root.mkdir(parents=True, exist_ok=True)
                # Before anything else: from here on the folder says of itself that it is not whole.
                journal.open()
                for folder in self._plan.folders:
                    (target.root / target.kept_as(folder.path)).mkdir(parents=True, exist_ok=True)
                already = {path: file for path, file in journal.copied.items() if self._still_stands(target.root, file)}
                destination = Destination(target, journal, self._plan.size_bytes, already)
                destination.hold()
        except DiadocheError as error:
            self.problems.append(error.problem)
            return Destination(target, journal, self._plan.size_bytes, {}).refused(error.problem)
        return destination

    def _still_stands(self, root: Path, file: CopiedFile) -> bool:
        try:
            return file.path in self._entries and (root / file.kept_as).stat().st_size == file.size_bytes
        except OSError:
            return False

    def copy_all(self) -> None:
        """From the card first; then what dropped out or read back wrong is filled."""
        ready = [each for each in self.destinations if each.dropped is None]
        if not ready:
            return
        wanted = tuple(
            file for file in self._plan.files if any(file.path not in destination.already for destination in ready)
        )
        for destination in ready:
            self.known.update(destination.already)
        first = CopyPass(
            self._plan.source,
            wanted,
            ready,
            self._plan.digests,
            self._watch,
            patience_s=self._patience_s,
            pace_bytes_s=self._pace_bytes_s,
        )
        self._take(first.run())
        for destination in ready:
            if not self.stopped and self._missing(destination):
                self._fill(destination)

    def read_again(self) -> None:
        """Reads the card a second time; what reads differently is counted as kept nowhere."""
        reader = DirectReader()
        total, done = sum(file.size_bytes for file in self.known.values()), 0
        self._read_again_wanting = True
        try:
            for path, file in list(self.known.items()):
                self._watch.step(Progress(done, total, "reading the card again"))
                name, wanted = next(iter(file.digests.items()))
                if self._digest_again(path, name, reader) != wanted:
                    self._doubt(path)
                done += file.size_bytes
            self._read_again_wanting = False
        except Cancelled:
            self.stopped = True
        except SourceError as error:
            self.lost = True
            self.problems.append(error.problem)
        finally:
            reader.close()

    def _digest_again(self, path: str, name: str, reader: DirectReader) -> str:
        digest = DIGESTS[name]()
        full = self._plan.source / path
        with reading(full, self._plan.source):
            for block in reader.blocks(full, self._entries[path].size_bytes):
                digest.update(block)
                self._watch.check()
        return digest.hexdigest()

    def _doubt(self, path: str) -> None:
        self._drop_everywhere(path)
        self.problems.append(
            Problem(
                f"{shown(path)} read differently from the card the second time.",
                path,
                "Its copies were removed and are not counted; the card is unchanged.",
                "Use another reader or cable, and offload the card again.",
            )
        )

    def _take(self, result: PassResult) -> None:
        self.stopped = self.stopped or result.cancelled
        if result.lost is not None:
            self.lost = True
            self.problems.append(result.lost)
        self.problems.extend(result.problems)
        for path, run in result.read.items():
            promised = self._plan.promised.get(path, {})
            if any(run.digests.get(name, digest) != digest for name, digest in promised.items()):
                self._broken_promise(path)
            else:
                self.known.setdefault(path, CopiedFile(path, path, run.size_bytes, dict(run.digests)))

    def _broken_promise(self, path: str) -> None:
        """A copy that is copied on has changed since its manifest was written: that goes no further."""
        self._drop_everywhere(path)
        self.problems.append(
            Problem(
                f"{shown(path)} is not what the manifest of {self._plan.source} says.",
                str(self._plan.source / path),
                "It was not copied on; other copies are not affected.",
                "Restore it from another proven copy first.",
            )
        )

    def _drop_everywhere(self, path: str) -> None:
        for destination in self.destinations:
            file = destination.proven.pop(path, None)
            if file is not None:
                # Without it the next run reads the source anew, instead of going on from this reading.
                destination.remove(file)

    def _missing(self, destination: Destination) -> list[FileEntry]:
        return [self._entries[path] for path in self.known if path not in destination.proven]

    def _fill(self, destination: Destination) -> None:
        """Fills a destination from a finished copy; the card is only asked where no copy has the file."""
        first_failure = destination.dropped
        missing = self._missing(destination)
        for giver in self.destinations:
            if giver is destination:
                continue
            there = {path for path, file in giver.proven.items() if file.kept_as == path}
            self._second_pass(destination, giver.root, [entry for entry in missing if entry.path in there])
            missing = self._missing(destination)
        if first_failure is None and not self.lost and not self.stopped:
            self._second_pass(destination, self._plan.source, missing)
        if self._missing(destination) and destination.dropped is None:
            destination.dropped = first_failure
        if self._missing(destination) and destination.dropped is not None:
            self.problems.append(destination.dropped)

    def _second_pass(self, destination: Destination, source: Path, missing: list[FileEntry]) -> None:
        if not missing or self.stopped:
            return
        destination.revive()
        result = CopyPass(source, tuple(missing), [destination], self._plan.digests, self._watch, note="filling").run()
        for path, run in result.read.items():
            if run.digests != self.known[path].digests and path in destination.proven:
                del destination.proven[path]
                self.problems.append(_differs(path, source))
        self.stopped = self.stopped or result.cancelled

    def close(self, destination: Destination, version: str, now: datetime) -> Copy:
        """Writes the manifest of what is proven there, and says what became of the destination."""
        self.problems.extend(destination.problems)
        absent = [path for path in self._entries if path not in destination.proven]
        whole = not absent and not self.stopped and not self._read_again_wanting
        manifest = ""
        if destination.proven or not self._entries:
            try:
                destination.check_there()
                manifest = str(self._write_down(destination, whole, version, now))
                destination.check_there()
            except DiadocheError as error:
                manifest = ""
                self.problems.append(error.problem)
                destination.drop(error.problem)
        destination.let_go()
        status: CopyStatus = "proven" if whole and manifest else "failed" if destination.dropped else "incomplete"
        return Copy(
            str(destination.place),
            str(destination.root),
            manifest,
            len(destination.proven),
            destination.proven_bytes,
            status,
            destination.passed_cache,
            destination.target.disk.key,
            destination.target.disk.words,
        )

    def _write_down(self, destination: Destination, whole: bool, version: str, now: datetime) -> Path:
        destination.sync_folders()
        missing = len(self._entries) - len(destination.proven)
        comments = [
            "" if whole else f"This copy is not whole: {missing} of {len(self._entries)} files are not in it.",
            "The second reading of the card was not finished." if self._read_again_wanting else "",
            "" if self._plan.whole else "Less than the whole card was asked for.",
            "" if destination.passed_cache else "Read back through the page cache, which could not be passed by.",
        ]
        files = tuple(sorted(destination.proven.values(), key=lambda file: os.fsencode(file.kept_as)))
        with writing(destination.root):
            if self._plan.history is not None:
                carry_history(self._plan.history, destination.root)
            manifest = write_manifest(
                destination.root,
                ManifestRequest(
                    files,
                    tuple(replace(each, path=destination.target.kept_as(each.path)) for each in self._plan.folders),
                    {path: entry.changed_ns for path, entry in self._entries.items()},
                    self._plan.digests,
                    version,
                    now,
                    " ".join(filter(None, comments)),
                ),
            )
            destination.journal.close(whole=whole)
            for folder in reversed(self._plan.folders):
                os.utime(
                    destination.root / destination.target.kept_as(folder.path),
                    ns=(folder.changed_ns, folder.changed_ns),
                )
        return manifest


def _differs(path: str, source: Path) -> Problem:
    return Problem(
        f"{shown(path)} changed in {source} between proving and copying on.",
        str(source / path),
        "It is not counted as kept at the second place.",
        "Verify that copy; do not trust its disk.",
    )
