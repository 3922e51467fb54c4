"""What an offload is going to do, decided before its first byte and fit to be shown."""

from __future__ import annotations

import re
from collections.abc import Callable, Mapping
from dataclasses import dataclass, field
from pathlib import Path

from diadoche.core.cards.tree import FileEntry, FolderEntry, Tree
from diadoche.core.disks import UNKNOWN_DISK, Disk, disk_of, limits_of
from diadoche.core.errors import Problem, RequestError
from diadoche.core.offload.digests import checked_digests
from diadoche.core.offload.journal import read_journal
from diadoche.core.offload.kept_names import kept_names
from diadoche.core.offload.naming import USUAL_NAMING, Naming, NamingValues, card_folder, checked_naming, folder_parts
from diadoche.core.offload.preflight import advice, gone, unusable_reason


@dataclass(frozen=True, slots=True)
class Target:
    """One destination: the place chosen, and the folder that this taking gets below it."""

    place: Path
    root: Path
    resumed: bool = False
    problem: Problem | None = None
    disk: Disk = UNKNOWN_DISK
    names: Mapping[str, str] = field(default_factory=dict)

    def kept_as(self, path: str) -> str:
        """The name of a file or folder there; another than on the card only where its filesystem cannot hold that."""
        return self.names.get(path, path)


@dataclass(frozen=True, slots=True)
class OffloadPlan:
    """Everything an offload needs to know. `whole` is false when the person chose less than the card."""

    source: Path
    taking: NamingValues
    files: tuple[FileEntry, ...]
    folders: tuple[FolderEntry, ...]
    fingerprint: str
    digests: tuple[str, ...]
    targets: tuple[Target, ...]
    whole: bool = True
    left_out: tuple[Problem, ...] = ()
    advice: tuple[Problem, ...] = ()
    read_twice: bool = False
    # Set when a copy is copied on: what its manifests promise, and where they are.
    promised: Mapping[str, Mapping[str, str]] = field(default_factory=dict)
    history: Path | None = None

    @property
    def distinct_disks(self) -> int:
        """On how many different disks it will stand."""
        return len({target.disk.key for target in self.usable})

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
    tree: Tree, taking: NamingValues, places: tuple[Path, ...], options: PlanOptions | None = None
) -> OffloadPlan:
    """Plans the copy of a listed card to one or more places.

    Args:
        tree: what is on the card.
        taking: what the copy is filed under.
        places: folders of the person's choosing; each gets a folder for this taking.
        options: one or two digests, the naming; `chosen` are relative paths when the person asked for less
            than the whole card; `coming` are the bytes that other cards and outputs will take, by place;
            `last_disks` are the keys of the disks that places were on when something was last kept there.

    Raises:
        RequestError: no place, a place twice, or a place inside the card; nothing was touched.
    """
    options = options or PlanOptions()
    homes = _homes(tree.root.resolve(), places)
    chosen = options.chosen
    files = tuple(file for file in tree.files if chosen is None or file.path in chosen)
    fingerprint = Tree(tree.root, files).fingerprint()
    taking_of = _CardFolder(checked_naming(options.naming), taking)
    number = taking_of.counter(homes, fingerprint)
    targets = tuple(
        _target(home, taking_of.root(home, number), fingerprint, files, tree.folders, options) for home in homes
    )
    return OffloadPlan(
        tree.root,
        taking,
        files,
        tree.folders,
        fingerprint,
        checked_digests(options.digests),
        targets,
        chosen is None,
        tree.left_out + options.left_out,
        advice(
            [target.place for target in targets],
            [target.disk for target in targets],
            lambda place: next(len(target.names) for target in targets if target.place == place),
        ),
        options.read_twice,
    )


def _homes(source: Path, places: tuple[Path, ...]) -> list[Path]:
    if not places:
        raise RequestError("No place for copies was given.", do="Choose at least one folder for copies.")
    homes = [place.expanduser().resolve() for place in places]
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


class _CardFolder:
    """Where a taking lies below a place."""

    def __init__(self, naming: Naming, taking: NamingValues) -> None:
        self._naming = naming
        self._taking = taking
        self._above = Path(*folder_parts(naming, taking))
        stem = re.escape(card_folder(naming, taking, 0)[: -len("000")])
        self._counted = re.compile(f"^{stem}(\\d{{3,}})$")

    def root(self, home: Path, number: int) -> Path:
        """The folder that the card with this number gets."""
        return home / self._above / card_folder(self._naming, self._taking, number)

    def counter(self, homes: list[Path], fingerprint: str) -> int:
        """The number of the card to go on with, or the first that no place has used yet."""
        highest = 0
        for home in homes:
            for folder in _entries(home / self._above):
                match = self._counted.match(folder.name)
                # An empty folder is one that a run made and had no time to write into.
                if match is None or not _entries(folder):
                    continue
                journal = read_journal(folder)
                if journal is not None and journal.fingerprint == fingerprint:
                    return int(match[1])
                highest = max(highest, int(match[1]))
        return highest + 1


def _entries(folder: Path) -> list[Path]:
    try:
        return list(folder.iterdir())
    except OSError:
        return []


def _target(
    place: Path,
    root: Path,
    fingerprint: str,
    files: tuple[FileEntry, ...],
    folders: tuple[FolderEntry, ...],
    options: PlanOptions,
) -> Target:
    journal = read_journal(root)
    resumed = journal is not None and journal.fingerprint == fingerprint
    needed_bytes = sum(file.size_bytes for file in files)
    if resumed and journal is not None:
        needed_bytes -= sum(file.size_bytes for file in journal.copied.values())
    limits = limits_of(place)
    names = kept_names([*(folder.path for folder in folders), *(file.path for file in files)], limits)
    disk = options.disk_of(place)
    problem = gone(place, disk, options.last_disks.get(place, "")) or unusable_reason(
        place, files, limits, needed_bytes, options.coming.get(place, 0)
    )
    return Target(place, root, resumed, problem, disk, names)
