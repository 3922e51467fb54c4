"""What an offload is going to do, decided before its first byte and fit to be shown."""

from __future__ import annotations

import re
from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass, field, replace
from pathlib import Path

from diadoche.core.answering import NoAnswer, answered
from diadoche.core.cards.tree import FileEntry, FolderEntry, Tree
from diadoche.core.disks import UNKNOWN_DISK, Disk, Limits, disk_of, distinct_disks, limits_of
from diadoche.core.errors import Problem, RequestError
from diadoche.core.offload.digests import checked_digests
from diadoche.core.offload.journal import Journal, read_journal
from diadoche.core.offload.kept_names import kept_names
from diadoche.core.offload.naming import USUAL_NAMING, Naming, NamingValues, card_folder, checked_naming, folder_parts
from diadoche.core.offload.preflight import Room, advice, gone, no_answer, not_reachable, unusable_reason


@dataclass(frozen=True, slots=True)
class Target:
    """One destination: the place chosen, and the folder that this card gets below it."""

    place: Path
    root: Path
    resumed: bool = False
    problem: Problem | None = None
    disk: Disk = UNKNOWN_DISK
    names: Mapping[str, str] = field(default_factory=dict)
    limits: Limits = field(default_factory=lambda: Limits(""))

    def kept_as(self, path: str) -> str:
        """The name of a file or folder there; another than on the card only where its filesystem cannot hold that."""
        return self.names.get(path, path)


@dataclass(frozen=True, slots=True)
class OffloadPlan:
    """Everything an offload needs to know. `whole` is false when the person chose less than the card."""

    source: Path
    filed_under: NamingValues
    files: tuple[FileEntry, ...]
    folders: tuple[FolderEntry, ...]
    fingerprint: str
    digests: tuple[str, ...]
    targets: tuple[Target, ...]
    whole: bool = True
    left_out: tuple[Problem, ...] = ()
    # Folders that are there and could not be listed: no copy is whole then.
    unlisted: tuple[Problem, ...] = ()
    advice: tuple[Problem, ...] = ()
    read_twice: bool = False
    # Set when a copy is copied on: what its manifests promise, where they are, and what of it is not there.
    promised: Mapping[str, Mapping[str, str]] = field(default_factory=dict)
    history: Path | None = None
    lost: tuple[Problem, ...] = ()
    # The folder for a card of another number at a place, where folders are numbered.
    numbered: CardFolder | None = None
    number: int = 0

    @property
    def distinct_disks(self) -> int:
        """On how many disks, known to be different, it will stand."""
        return distinct_disks(target.disk.key for target in self.usable)

    @property
    def size_bytes(self) -> int:
        """What is read from the card once."""
        return sum(file.size_bytes for file in self.files)

    @property
    def usable(self) -> tuple[Target, ...]:
        """The destinations that passed the checks."""
        return tuple(target for target in self.targets if target.problem is None)


@dataclass(frozen=True, slots=True)
class PlanOptions:
    """How a card is to be copied, where it is not the usual way."""

    digests: tuple[str, ...] = ()
    naming: Naming = USUAL_NAMING
    chosen: frozenset[str] | None = None
    left_out: tuple[Problem, ...] = ()
    read_twice: bool = False
    disk_of: Callable[[Path], Disk] = disk_of
    coming: Mapping[Path, int] = field(default_factory=dict)
    last_disks: Mapping[Path, str] = field(default_factory=dict)


def plan_offload(
    tree: Tree, filed_under: NamingValues, places: tuple[Path, ...], options: PlanOptions | None = None
) -> OffloadPlan:
    """Plans the copy of a listed card to one or more places.

    Args:
        tree: what is on the card.
        filed_under: what the copy is filed under.
        places: folders of the person's choosing; each gets a folder for this card.
        options: one or two digests, the naming; `chosen` are relative paths when the person asked for less
            than the whole card; `coming` are the bytes that other cards and outputs will take, by place;
            `last_disks` are the keys of the disks that places were on when something was last kept there.

    Raises:
        RequestError: no place, a place twice, or a place inside the card; nothing was touched.
    """
    options = options or PlanOptions()
    homes = _homes(tree.root, places)
    chosen = options.chosen
    files = tuple(file for file in tree.files if chosen is None or file.path in chosen)
    kept = replace(tree, files=files)
    folder = CardFolder(checked_naming(options.naming), filed_under)
    looks = [_looked_at(home, folder, kept, options) for home in homes]
    number = 1 + max((look.highest for look in looks), default=0)
    targets = _with_room(
        tuple(_target(look, folder, number, kept, options) for look in looks),
        {look.home: look.room for look in looks},
        {look.home: (_still_needed(kept, look.journal), options.coming.get(look.home, 0)) for look in looks},
    )
    return OffloadPlan(
        tree.root,
        filed_under,
        files,
        tree.folders,
        kept.fingerprint(),
        checked_digests(options.digests),
        targets,
        chosen is None,
        tree.left_out + options.left_out,
        tree.unlisted,
        advice(
            [target.place for target in targets],
            [target.disk for target in targets],
            lambda place: next(len(target.names) for target in targets if target.place == place),
        ),
        options.read_twice,
        numbered=folder,
        number=number,
    )


def _homes(source: Path, places: tuple[Path, ...]) -> list[Path]:
    if not places:
        raise RequestError("No place for copies was given.", do="Choose at least one folder for copies.")
    source = _resolved(source)
    homes = [_resolved(place.expanduser()) for place in places]
    for home in homes:
        if home == source or source in home.parents:
            raise RequestError(
                f"{home} lies inside the card itself.",
                path=home,
                safe="Nothing was written; the card is unchanged.",
                do="Choose a folder on another disk.",
            )
    if len(set(homes)) < len(homes):
        raise RequestError("The same place was given twice.", do="Give each place once.")
    return homes


def _resolved(path: Path) -> Path:
    try:
        return answered(path.resolve)
    except OSError:
        # It does not answer, or not any more: that is said of it later, and keeps nobody else waiting.
        return path.absolute()


class CardFolder:
    """Where a card lies below a place."""

    def __init__(self, naming: Naming, values: NamingValues) -> None:
        self._naming = naming
        self._values = values
        self._above = Path(*folder_parts(naming, values))
        stem = re.escape(card_folder(naming, values, 0)[: -len("000")])
        self._counted = re.compile(f"^{stem}(\\d{{3,}})$")

    def root(self, home: Path, number: int) -> Path:
        """The folder that the card with this number gets."""
        return home / self._above / card_folder(self._naming, self._values, number)

    def search(self, home: Path, tree: Tree) -> tuple[int, Journal | None]:
        """The highest number used there, and the unfinished copy of this very card where there is one."""
        highest, unfinished = 0, None
        for folder in _entries(home / self._above):
            match = self._counted.match(folder.name)
            # An empty folder is one that a run made and had no time to write into.
            if match is None or not _entries(folder):
                continue
            highest = max(highest, int(match[1]))
            journal = read_journal(folder)
            if unfinished is None and journal is not None and is_of(journal, tree):
                unfinished = journal
        return highest, unfinished


def is_of(journal: Journal, tree: Tree) -> bool:
    """Whether an unfinished copy is of this card: the same names, sizes and times, where it could be listed then."""
    return journal.fingerprint in {tree.fingerprint(), tree.fingerprint(journal.unlisted)}


def _entries(folder: Path) -> list[Path]:
    try:
        return sorted(folder.iterdir())
    except OSError:
        return []


@dataclass(frozen=True, slots=True)
class _Look:
    """What was found at one place."""

    home: Path
    highest: int = 0
    journal: Journal | None = None
    limits: Limits = field(default_factory=lambda: Limits(""))
    disk: Disk = UNKNOWN_DISK
    room: Room | None = None
    problem: Problem | None = None


def _looked_at(home: Path, folder: CardFolder, tree: Tree, options: PlanOptions) -> _Look:
    """Looks at one place; what fails or hangs there is its own problem."""

    def look() -> _Look:
        highest, journal = folder.search(home, tree)
        limits, disk = limits_of(home), options.disk_of(home)
        problem = gone(home, disk, options.last_disks.get(home, "")) or unusable_reason(home, tree.files, limits)
        return _Look(home, highest, journal, limits, disk, Room.of(home) if problem is None else None, problem)

    try:
        return answered(look, f"look at {home.name}")
    except NoAnswer:
        return _Look(home, problem=no_answer(home))
    except OSError as error:
        return _Look(home, problem=not_reachable(home, error))


def _target(look: _Look, folder: CardFolder, number: int, tree: Tree, options: PlanOptions) -> Target:
    root = look.journal.root if look.journal is not None else folder.root(look.home, number)
    names = kept_names([*(each.path for each in tree.folders), *(file.path for file in tree.files)], look.limits)
    return Target(look.home, root, look.journal is not None, look.problem, look.disk, names, look.limits)


def _still_needed(tree: Tree, journal: Journal | None) -> int:
    there = journal.copied if journal is not None else {}
    return sum(file.size_bytes for file in tree.files if file.path not in there)


def _with_room(
    targets: Sequence[Target], rooms: Mapping[Path, Room | None], needs: Mapping[Path, tuple[int, int]]
) -> tuple[Target, ...]:
    """The targets, with those named for which there is no room; places on one filesystem share what it has."""
    taken: dict[int, int] = {}
    found = []
    for target in targets:
        room, (needed_bytes, also_bytes) = rooms.get(target.place), needs[target.place]
        if target.problem is None and room is not None:
            before = taken.get(room.device, 0)
            problem = room.missing(target.place, needed_bytes, also_bytes, before)
            if problem is None:
                taken[room.device] = before + needed_bytes + also_bytes
            target = replace(target, problem=problem)
        found.append(target)
    return tuple(found)
