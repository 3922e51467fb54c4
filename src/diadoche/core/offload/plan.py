"""What an offload is going to do, decided before its first byte and fit to be shown."""

from __future__ import annotations

import re
from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass, field, replace
from pathlib import Path

from diadoche.core.answering import NoAnswer, answered
from diadoche.core.cards.tree import FileEntry, FolderEntry, Tree
from diadoche.core.disks import UNKNOWN_DISK, Disk, Limits, disk_of, distinct_disks, limits_of, standing_part
from diadoche.core.errors import Problem, RequestError
from diadoche.core.names import fits_xml
from diadoche.core.offload.digests import checked_digests
from diadoche.core.offload.found_copies import copy_around
from diadoche.core.offload.identity import new_id
from diadoche.core.offload.journal import Journal, read_journal
from diadoche.core.offload.kept_names import kept_names
from diadoche.core.offload.naming import USUAL_NAMING, Naming, NamingValues, card_folder, checked_naming, folder_parts
from diadoche.core.offload.preflight import Room, advice, gone, no_answer, not_reachable, unusable_reason
from diadoche.core.open_folder import OpenFolder


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
    # When a copy is copied on: what files with another name there were called on the card.
    card_paths: Mapping[str, str] = field(default_factory=dict)
    # Which taking of the card this is: that of the unfinished copy that is gone on with, or a new one.
    taking: str = field(default_factory=new_id)

    @property
    def distinct_disks(self) -> int:
        """On how many disks, known to be different, it will stand."""
        return distinct_disks((target.disk.key for target in self.usable), together=True)

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
        _told_apart(tuple(_target(look, folder, number, kept, options) for look in looks)),
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
            sum(not fits_xml(file.path) for file in files),
        ),
        options.read_twice,
        numbered=folder,
        number=number,
        taking=next((look.journal.identity.taking for look in looks if look.journal), "") or new_id(),
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
        """The highest number used there, and the unfinished copy of this very card where there is one.

        Raises:
            OSError: what is there cannot be listed: a number that is taken could not be told.
        """
        highest, unfinished = 0, None
        for name in _names(home / self._above):
            match, folder = self._counted.match(name), home / self._above / name
            # An empty folder is one that a run made and had no time to write into.
            if match is None or not _names(folder):
                continue
            highest = max(highest, int(match[1]))
            journal = read_journal(folder)
            if unfinished is None and journal is not None and is_of(journal, tree):
                unfinished = journal
        return highest, unfinished


def is_of(journal: Journal, tree: Tree) -> bool:
    """Whether an unfinished copy is of this card: the same names, sizes and times, where it could be listed then."""
    return journal.fingerprint in {tree.fingerprint(), tree.fingerprint(journal.unlisted)}


def _names(folder: Path) -> list[str]:
    """The names in a folder, which may not be there, or be none."""
    try:
        with OpenFolder.at(folder) as opened:
            return opened.names()
    except (FileNotFoundError, NotADirectoryError):
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
        problem = problem or _inside_a_copy(home)
        return _Look(home, highest, journal, limits, disk, Room.of(home) if problem is None else None, problem)

    try:
        return answered(look, f"look at {home.name}")
    except NoAnswer:
        return _Look(home, problem=no_answer(home))
    except OSError as error:
        return _Look(home, problem=not_reachable(home, error))


def _inside_a_copy(home: Path) -> Problem | None:
    """What is put into a copy that is proven would make it another than its manifests say."""
    around = copy_around(home)
    if around is None:
        return None
    return Problem(
        f"{home} lies inside a copy, {around}.",
        str(home),
        "Nothing was written there; that copy is as it was.",
        "Choose a folder beside it, or on another disk.",
    )


def _target(look: _Look, folder: CardFolder, number: int, tree: Tree, options: PlanOptions) -> Target:
    root = look.journal.root if look.journal is not None else folder.root(look.home, number)
    names = kept_names([*(each.path for each in tree.folders), *(file.path for file in tree.files)], look.limits)
    return Target(look.home, root, look.journal is not None, look.problem, look.disk, names, look.limits)


def _told_apart(targets: tuple[Target, ...]) -> tuple[Target, ...]:
    """The targets, but for those whose folder is another's by another way: one folder holds one copy."""
    seen: dict[tuple[int, int, str], Path] = {}
    found = []
    for target in targets:
        key = None if target.problem else _real_place(target.root)
        if key is not None and key in seen:
            target = replace(target, problem=same_folder(target.place, seen[key]))
        elif key is not None:
            seen[key] = target.place
        found.append(target)
    return tuple(found)


def _real_place(root: Path) -> tuple[int, int, str] | None:
    """The folder on its way that is there, by device and inode, and what is to be made below it."""
    try:
        standing = answered(lambda: standing_part(root))
        info = answered(standing.stat)
    except OSError:
        return None
    return info.st_dev, info.st_ino, root.relative_to(standing).as_posix()


def same_folder(place: Path, other: Path) -> Problem:
    """The problem of a place that leads to the same folder as another one."""
    return Problem(
        f"{place} and {other} lead to the same folder.",
        str(place),
        "One copy is made there; this one would be the same.",
        "Choose a place on another disk.",
    )


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
