"""What an offload is going to do, decided before its first byte and fit to be shown."""

from __future__ import annotations

import os
import re
import shutil
from dataclasses import dataclass
from datetime import date
from pathlib import Path

from diadoche.core.cards.tree import FileEntry, FolderEntry, Tree
from diadoche.core.errors import Problem, RequestError
from diadoche.core.names import safe_name
from diadoche.core.offload.digests import checked_digests
from diadoche.core.offload.journal import read_journal
from diadoche.core.sizes import size_text

# Folders, manifests and the journal take room of their own.
_SPARE_BYTES = 4_000_000
_COUNTED = re.compile(r"^card-(\d{3,})$")


@dataclass(frozen=True, slots=True)
class Taking:
    """What a card is filed under: the shoot, the day of its first recording, the camera."""

    shoot: str
    day: date
    camera: str

    @property
    def folder(self) -> Path:
        """Below a destination: Shoot/Originals/2026-06-14/Camera."""
        return (
            Path(safe_name(self.shoot, "Shoot")) / "Originals" / self.day.isoformat() / safe_name(self.camera, "Camera")
        )


@dataclass(frozen=True, slots=True)
class Target:
    """One destination: the place chosen, and the folder that this taking gets below it."""

    place: Path
    root: Path
    resumed: bool = False
    problem: Problem | None = None


@dataclass(frozen=True, slots=True)
class OffloadPlan:
    """Everything an offload needs to know. `whole` is false when the person chose less than the card."""

    source: Path
    taking: Taking
    files: tuple[FileEntry, ...]
    folders: tuple[FolderEntry, ...]
    fingerprint: str
    digests: tuple[str, ...]
    targets: tuple[Target, ...]
    whole: bool = True
    left_out: tuple[Problem, ...] = ()

    @property
    def size_bytes(self) -> int:
        """What is read from the card once."""
        return sum(file.size_bytes for file in self.files)

    @property
    def usable(self) -> tuple[Target, ...]:
        """The destinations that passed the checks."""
        return tuple(target for target in self.targets if target.problem is None)


def plan_offload(
    tree: Tree,
    taking: Taking,
    places: tuple[Path, ...],
    *,
    digests: tuple[str, ...] = (),
    chosen: frozenset[str] | None = None,
) -> OffloadPlan:
    """Plans the copy of a listed card to one or more places.

    Args:
        tree: what is on the card.
        taking: what the copy is filed under.
        places: folders of the person's choosing; each gets a folder for this taking.
        digests: one or two names of digests; the default when empty.
        chosen: relative paths to copy, when the person asked for less than the whole card.

    Raises:
        RequestError: no place, a place twice, or a place inside the card; nothing was touched.
    """
    if not places:
        raise RequestError("No place for copies was given.", do="Choose at least one folder for copies.")
    source = tree.root.resolve()
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
    files = tuple(file for file in tree.files if chosen is None or file.path in chosen)
    fingerprint = Tree(tree.root, files).fingerprint()
    room_for = sum(file.size_bytes for file in files)
    number = _counter(homes, taking, fingerprint)
    return OffloadPlan(
        tree.root,
        taking,
        files,
        tree.folders,
        fingerprint,
        checked_digests(digests),
        tuple(_target(home, home / taking.folder / f"card-{number:03}", fingerprint, room_for) for home in homes),
        chosen is None,
        tree.left_out,
    )


def _counter(homes: list[Path], taking: Taking, fingerprint: str) -> int:
    """The number of the card to go on with, or the first that no place has used yet."""
    highest = 0
    for home in homes:
        for folder in _entries(home / taking.folder):
            match = _COUNTED.match(folder.name)
            if match is None:
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


def _target(place: Path, root: Path, fingerprint: str, needed_bytes: int) -> Target:
    journal = read_journal(root)
    resumed = journal is not None and journal.fingerprint == fingerprint
    if resumed and journal is not None:
        needed_bytes -= sum(file.size_bytes for file in journal.copied.values())
    return Target(place, root, resumed, _preflight(place, needed_bytes))


def _preflight(place: Path, needed_bytes: int) -> Problem | None:
    standing = place
    while not standing.exists() and standing != standing.parent:
        standing = standing.parent
    if not standing.is_dir() or not os.access(standing, os.W_OK | os.X_OK) or _mounted_read_only(standing):
        return Problem(
            f"{place} cannot be written to.",
            str(place),
            "The other destinations are not affected; the card is unchanged.",
            "Check that the disk is there and not write-protected, or choose another place.",
        )
    free = shutil.disk_usage(standing).free
    if free < needed_bytes + _SPARE_BYTES:
        return Problem(
            f"{place} has {size_text(free)} free; this card needs {size_text(needed_bytes)}.",
            str(place),
            "Nothing was written there; the card is unchanged.",
            "Make room there, or choose another place.",
        )
    return None


def _mounted_read_only(folder: Path) -> bool:
    # The superuser passes os.access() on read-only mounts; the mount's own flag does not lie.
    return bool(os.statvfs(folder).f_flag & os.ST_RDONLY)
