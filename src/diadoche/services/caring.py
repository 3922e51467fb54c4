"""What is done with copies after the offload: copied on, completed, brought level, taken in, fetched from."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass
from datetime import UTC, date, datetime
from pathlib import Path

from diadoche.core.cards.card import Card, look
from diadoche.core.cards.layout import load_layouts
from diadoche.core.disks import disk_of
from diadoche.core.errors import DiadocheError, Problem, RequestError
from diadoche.core.names import shown
from diadoche.core.offload.journal import is_unfinished, read_journal
from diadoche.core.offload.mhl import read_history
from diadoche.core.offload.naming import Taking
from diadoche.core.offload.offload import Copy, KeptFile, OffloadResult, offload
from diadoche.core.offload.onward import (
    Restored,
    compare_places,
    copies_below,
    copy_tree,
    plan_onward,
    restore,
    take_in,
)
from diadoche.core.watch import Watch
from diadoche.services.ledger.ledger import Ledger
from diadoche.services.ledger.waybills import add_copies, record_offload, waybills
from diadoche.services.offloading import card_name
from diadoche.services.queue.kinds import JobKind
from diadoche.services.shoots import open_shoot
from diadoche.services.version import VERSION

_ORIGINALS = "Originals"


@dataclass(frozen=True, slots=True)
class CopyOnRequest:
    """A proven copy, and the folders that new copies of it get below their places."""

    root: Path
    targets: tuple[tuple[Path, Path], ...]


@dataclass(frozen=True, slots=True)
class CopyOnOutcome:
    """What became of it."""

    root: Path
    result: OffloadResult


def perform_copy_on(request: CopyOnRequest, watch: Watch) -> CopyOnOutcome:
    """Copies a proven copy on, or completes an unfinished one from it; see `plan_onward` for what it raises."""
    plan = plan_onward(request.root, dict(request.targets), Taking("", date.min, request.root.name), watch)
    result = offload(plan, watch, version=VERSION, now=lambda: datetime.now(UTC))
    return CopyOnOutcome(request.root, result)


def record_copy_on(ledger: Ledger, outcome: CopyOnOutcome) -> None:
    """Adds the new copies to the waybill of the one they were made from."""
    add_copies(ledger, outcome.root, outcome.result.copies)


KIND = JobKind("copy on", CopyOnRequest, CopyOnOutcome, perform_copy_on, rank=1)


def place_below(ledger: Ledger, root: Path, to: Path) -> Path:
    """Where a copy of `root` goes below another place: under the same folders as it has below its own."""
    for entry in waybills(ledger):
        for copy in entry.copies:
            if Path(copy.root) == root and root.is_relative_to(copy.destination):
                return to / root.relative_to(copy.destination)
    parts = root.parts
    if _ORIGINALS in parts:
        return to.joinpath(*parts[parts.index(_ORIGINALS) - 1 :])
    return to / root.name


def good_copy_for(ledger: Ledger, unfinished: Path, watch: Watch) -> Path:
    """A proven copy of the card that an unfinished copy is of.

    Raises:
        RequestError: the folder is no unfinished copy, or no proven copy of its card is here now.
    """
    journal = read_journal(unfinished)
    if journal is None:
        raise RequestError(f"{unfinished} is not an unfinished copy.", path=unfinished, do="Point at one.")
    for entry in waybills(ledger):
        roots = [Path(copy.root) for copy in entry.copies]
        if entry.fingerprint != journal.fingerprint and unfinished not in roots:
            continue
        for copy in entry.copies:
            if copy.proven and Path(copy.root).is_dir() and not is_unfinished(Path(copy.root)):
                return Path(copy.root)
    watch.check()
    raise RequestError(
        f"No proven copy of the card of {unfinished} is here now.",
        path=unfinished,
        safe="Nothing was changed.",
        do="Plug in the disk with a proven copy, or offload the card again.",
    )


@dataclass(frozen=True, slots=True)
class Levelled:
    """What bringing two places to the same state did."""

    copied: tuple[Copy, ...]
    restored: tuple[str, ...]
    differing: tuple[str, ...]
    problems: tuple[Problem, ...]


def level(ledger: Ledger, here: Path, there: Path, watch: Watch) -> Levelled:
    """Copies to each of two places what only the other has, and proves it; nothing is deleted or overwritten.

    Raises:
        MediaError: a manifest cannot be read.
        Cancelled: the watch was stopped; what was finished stays.
    """
    unlike = compare_places(here, there, watch)
    copied: list[Copy] = []
    restored: list[str] = []
    problems: list[Problem] = []
    for copies, source, target in ((unlike.only_here, here, there), (unlike.only_there, there, here)):
        for copy in copies:
            try:
                outcome = perform_copy_on(CopyOnRequest(source / copy, ((target, target / copy),)), watch)
            except DiadocheError as error:
                problems.append(error.problem)
                continue
            record_copy_on(ledger, outcome)
            copied += outcome.result.copies
            problems += outcome.result.problems
    for missing, source, target in ((unlike.missing_there, here, there), (unlike.missing_here, there, here)):
        for copy, paths in missing.items():
            back = restore(source / copy, paths, target / copy, watch)
            restored += [str(path) for path in back.files.values()]
            problems += back.problems
    return Levelled(tuple(copied), tuple(restored), unlike.differing, tuple(problems))


def restore_wanted(ledger: Ledger, wanted: str, to: Path, watch: Watch) -> tuple[Path, Restored]:
    """Fetches a clip or a file, by its name or its path on the card, from the first proven copy that has it whole.

    Raises:
        RequestError: nothing of that name was ever offloaded, or no proven copy of it is here now.
    """
    last: tuple[Path, Restored] | None = None
    for root, paths in _holders(ledger, wanted):
        watch.check()
        found = restore(root, paths, to, watch)
        if not found.problems:
            return root, found
        last = (root, found)
    if last is not None:
        return last
    raise RequestError(
        f"No proven copy of {wanted} is here now.",
        safe="Nothing was changed.",
        do="Name a clip or a file as the waybill does, and plug in a disk that has it.",
    )


def _holders(ledger: Ledger, wanted: str) -> Iterator[tuple[Path, list[str]]]:
    for entry in waybills(ledger, Path(wanted).name):
        for copy in entry.copies:
            root = Path(copy.root)
            if not copy.proven or not root.is_dir():
                continue
            listed = read_history(root).digests
            paths = [path for path in listed if path == wanted or path.rpartition("/")[2] == wanted]
            paths = paths or _files_of_clip(root, wanted, listed)
            if not paths and Path(wanted).is_absolute():
                # A damaged file of a copy, named where it stands.
                paths = [path for path in listed if wanted.endswith(f"/{path}")]
            if paths and not wanted.startswith(f"{root}/"):
                yield root, paths


def _files_of_clip(root: Path, wanted: str, listed: dict[str, dict[str, str]]) -> list[str]:
    card = look(root, load_layouts(None), Watch())
    return [path for clip in card.clips if clip.name == wanted for path in clip.files if path in listed]


@dataclass(frozen=True, slots=True)
class TakeInRequest:
    """Footage that lies on a good disk already."""

    root: Path
    shoot_id: int
    own_layouts: Path | None = None


@dataclass(frozen=True, slots=True)
class TakenIn:
    """A folder that has become a copy where it lies."""

    card: Card
    name: str
    fingerprint: str
    result: OffloadResult
    shoot_id: int


def perform_take_in(request: TakeInRequest, watch: Watch) -> TakenIn:
    """Reads and lists a folder where it lies; see `take_in` for what it raises."""
    began = datetime.now(UTC)
    card = look(request.root, load_layouts(request.own_layouts), watch)
    manifest, _tree = take_in(card.root, watch, version=VERSION)
    seconds = (datetime.now(UTC) - began).total_seconds()
    return _as_taken(card, card.root, manifest, card.root.parent, seconds, request.shoot_id)


TAKE_IN = JobKind("take in", TakeInRequest, TakenIn, perform_take_in, rank=1)


def record_taken_in(ledger: Ledger, taken: TakenIn) -> int:
    """Writes it into the ledger as a card with one proven copy."""
    files = taken.card.tree.files
    return record_offload(
        ledger, taken.shoot_id, taken.name, taken.card.layout, taken.fingerprint, files, taken.card.clips,
        taken.result, "",
    )  # fmt: skip


def _as_taken(card: Card, root: Path, manifest: Path, place: Path, seconds: float, shoot_id: int) -> TakenIn:
    """A folder with a manifest as the result of an offload that made one copy."""
    listed = read_history(root).digests
    tree = copy_tree(root)
    kept = tuple(KeptFile(file.path, file.size_bytes, listed[file.path]) for file in tree.files if file.path in listed)
    whole = not is_unfinished(root) and len(kept) == len(listed)
    disk = disk_of(root)
    copy = Copy(
        str(place),
        str(root),
        str(manifest),
        len(kept),
        sum(file.size_bytes for file in kept),
        "proven" if whole else "incomplete",
        True,
        disk.key,
        disk.words,
    )
    now = datetime.now(UTC)
    result = OffloadResult(
        str(root), len(listed), tree.size_bytes, seconds, now, (copy,), kept, whole, False, (), (), ()
    )
    return TakenIn(card, card_name(card), tree.fingerprint(), result, shoot_id)


@dataclass(frozen=True, slots=True)
class Rebuilt:
    """How much of the ledger came back."""

    waybills: int
    clips: int
    files: int
    problems: tuple[Problem, ...]


def rebuild(ledger: Ledger, folders: tuple[Path, ...], own_layouts: Path | None, watch: Watch) -> Rebuilt:
    """Fills the ledger from the manifests on disks: every copy that is found, with its card, clips and digests.

    What the ledger knows already stays as it is; a copy that says it is not whole is noted as such. Copies
    count as proven as of their manifests: to be sure of them today, verify them.

    Raises:
        Cancelled: the watch was stopped.
    """
    known = {copy.root for entry in waybills(ledger) for copy in entry.copies}
    by_content: dict[str, Path] = {}
    count = clips = files = 0
    problems: list[Problem] = []
    for folder in folders:
        for root in copies_below(folder.absolute()):
            watch.check()
            if shown(str(root)) in known:
                continue
            try:
                taken = _found(ledger, folder.absolute(), root, own_layouts, watch)
            except DiadocheError as error:
                problems.append(error.problem)
                continue
            first = by_content.get(taken.fingerprint)
            if first is not None and add_copies(ledger, first, taken.result.copies):
                continue
            record_taken_in(ledger, taken)
            by_content[taken.fingerprint] = root
            count, clips, files = count + 1, clips + len(taken.card.clips), files + len(taken.result.kept)
    return Rebuilt(count, clips, files, tuple(problems))


def _found(ledger: Ledger, place: Path, root: Path, own_layouts: Path | None, watch: Watch) -> TakenIn:
    inside = root.relative_to(place).parts
    shoot_name = inside[inside.index(_ORIGINALS) - 1] if _ORIGINALS in inside[1:] else place.name
    shoot = open_shoot(ledger, shoot_name)
    card = look(root, load_layouts(own_layouts), watch)
    manifests = sorted((root / "ascmhl").glob("*.mhl"))
    if not manifests:
        raise RequestError(f"{root} has no manifest.", path=root)
    taken = _as_taken(card, root, manifests[-1], place, 0.0, shoot.id)
    named = inside[-2] if len(inside) > 1 else root.name
    return TakenIn(taken.card, named, taken.fingerprint, taken.result, taken.shoot_id)
