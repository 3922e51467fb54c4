"""What can be known of a destination before the first byte: room, rights, limits, and what disk it is on."""

from __future__ import annotations

import os
import shutil
from collections.abc import Callable, Sequence
from dataclasses import dataclass
from pathlib import Path

from diadoche.core.answering import HANGS_S
from diadoche.core.cards.tree import FileEntry
from diadoche.core.disks import Disk, Limits, distinct_disks, standing_part
from diadoche.core.errors import Problem
from diadoche.core.names import shown
from diadoche.core.sizes import count_text, size_text

# Folders, manifests and the journal take room of their own.
_SPARE_BYTES = 4_000_000


def unusable_reason(place: Path, files: Sequence[FileEntry], limits: Limits) -> Problem | None:
    """What makes a destination of no use for a card, but for its room.

    Args:
        place: the folder of the person's choosing.
        files: what is to be kept there.
        limits: what its filesystem can hold.

    Raises:
        OSError: it cannot be asked.
    """
    standing = standing_part(place)
    if not standing.is_dir() or not os.access(standing, os.W_OK | os.X_OK) or _mounted_read_only(standing):
        return Problem(
            f"{place} cannot be written to.",
            str(place),
            "The other destinations are not affected; the card is unchanged.",
            "Check that the disk is there and not write-protected, or choose another place.",
        )
    largest = max(files, key=lambda file: file.size_bytes, default=None)
    if largest is not None and (why := Limits(limits.kind, limits.largest_file_bytes).refuses("", largest.size_bytes)):
        return Problem(
            f"{shown(largest.path)} {why}: {place} cannot take this card whole.",
            str(place),
            "Nothing was written there; the card is unchanged.",
            "Choose a disk with another filesystem.",
        )
    return None


@dataclass(frozen=True, slots=True)
class Room:
    """What a filesystem has free, in bytes, and its device number: places on one share it."""

    device: int
    free_bytes: int

    @classmethod
    def of(cls, place: Path) -> Room:
        """The room of the filesystem that a place lies on.

        Raises:
            OSError: it cannot be asked.
        """
        standing = standing_part(place)
        return cls(standing.stat().st_dev, shutil.disk_usage(standing).free)

    def missing(self, place: Path, needed_bytes: int, also_bytes: int, shared_bytes: int) -> Problem | None:
        """The problem of a place without enough room.

        Args:
            place: where a copy is wanted.
            needed_bytes: what is still to be written there for this card.
            also_bytes: what other cards that are on their way or wait, and outputs to come, will take there.
            shared_bytes: what other places on the same filesystem will take.
        """
        if self.free_bytes >= needed_bytes + also_bytes + shared_bytes + _SPARE_BYTES:
            return None
        others = f", and {size_text(also_bytes)} more is to come" if also_bytes else ""
        shared = f", and another place on the same filesystem takes {size_text(shared_bytes)}" if shared_bytes else ""
        needed = f"this card needs {size_text(needed_bytes)}{others}{shared}"
        return Problem(
            f"{place} has {size_text(self.free_bytes)} free; {needed}.",
            str(place),
            "Nothing was written there; the card is unchanged.",
            "Make room there, or choose another place.",
        )


def no_answer(place: Path) -> Problem:
    """The problem of a place whose disk or mount does not answer."""
    return Problem(
        f"{place} has not answered for {HANGS_S:.0f} seconds.",
        str(place),
        "Nothing was written there; the other destinations are not affected.",
        "Look at its cable, power or network, or choose another place.",
    )


def not_reachable(place: Path, error: OSError) -> Problem:
    """The problem of a place that cannot even be looked at, as of a mount whose server is gone."""
    return Problem(
        f"{place} cannot be reached: {error.strerror or error}.",
        str(place),
        "Nothing was written there; the other destinations are not affected.",
        "Mount it again, or choose another place.",
    )


def gone(place: Path, disk: Disk, last: str) -> Problem | None:
    """A place whose disk is not plugged in: its path leads to the system disk then, where nobody wants copies.

    Args:
        place: the folder of the person's choosing.
        disk: the disk that its path leads to now.
        last: the key of the disk that it was on when something was last kept there; empty when never.
    """
    if not last or not disk.system or last == disk.key:
        return None
    return Problem(
        f"The disk of {place} is not plugged in.",
        str(place),
        "Nothing was written; the card is unchanged.",
        "Plug it in, or choose another place.",
    )


def advice(
    places: Sequence[Path], disks: Sequence[Disk], renamed: Callable[[Path], int], odd_names: int = 0
) -> tuple[Problem, ...]:
    """What is not wrong, but worth knowing before the start; `odd_names` counts those that no manifest can hold."""
    found = []
    if odd_names:
        found.append(
            Problem(
                f"{count_text(odd_names, 'file')} with a name that no manifest can hold.",
                "",
                "They are copied and read back like the others, and stand in a list beside the manifest.",
                "Other programs that check manifests will not know them.",
            )
        )
    for number, (place, disk) in enumerate(zip(places, disks, strict=True)):
        before = zip(places[:number], disks, strict=False)
        twin = next(
            ((other, at) for other, at in before if distinct_disks([at.key, disk.key], together=True) < 2), None
        )
        if twin is not None:
            found.append(_same_disk(place, twin[0], disk, sure={twin[1].kind, disk.kind} <= {"disk", "network"}))
        if disk.system:
            found.append(
                Problem(
                    f"{place} is on the disk that this machine runs from.",
                    str(place),
                    "Copies there are proven all the same.",
                    "Keep originals on a disk of their own when you can.",
                )
            )
        if count := renamed(place):
            found.append(
                Problem(
                    f"{count:,} names cannot be held by the filesystem of {place}; they are changed there.",
                    str(place),
                    "The waybill lists each; nothing is left out.",
                    "Choose a disk with another filesystem to keep all names.",
                )
            )
    return tuple(found)


def _same_disk(place: Path, twin: Path, disk: Disk, *, sure: bool) -> Problem:
    known = "are on the same disk" if sure else "may be on the same disk"
    return Problem(
        f"{place} and {twin} {known}{f' ({disk.words})' if sure else ''}: together they count as one copy.",
        str(place),
        "Both are written and proven.",
        "Choose a place on another disk.",
    )


def _mounted_read_only(folder: Path) -> bool:
    # The superuser passes os.access() on read-only mounts; the mount's own flag does not lie.
    return bool(os.statvfs(folder).f_flag & os.ST_RDONLY)
