"""What can be known of a destination before the first byte: room, rights, limits, and what disk it is on."""

from __future__ import annotations

import os
import shutil
from collections.abc import Callable, Sequence
from pathlib import Path

from diadoche.core.cards.tree import FileEntry
from diadoche.core.disks import Disk, Limits, standing_part
from diadoche.core.errors import Problem
from diadoche.core.names import shown
from diadoche.core.sizes import size_text

# Folders, manifests and the journal take room of their own.
_SPARE_BYTES = 4_000_000


def unusable_reason(
    place: Path, files: Sequence[FileEntry], limits: Limits, needed_bytes: int, also: int
) -> Problem | None:
    """What makes a destination of no use for a card.

    Args:
        place: the folder of the person's choosing.
        files: what is to be kept there.
        limits: what its filesystem can hold.
        needed_bytes: what is still to be written there for this card.
        also: bytes that other cards in the queue, and outputs to come, will take there.
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
    free = shutil.disk_usage(standing).free
    if free < needed_bytes + also + _SPARE_BYTES:
        others = f", and {size_text(also)} more is to come" if also else ""
        return Problem(
            f"{place} has {size_text(free)} free; this card needs {size_text(needed_bytes)}{others}.",
            str(place),
            "Nothing was written there; the card is unchanged.",
            "Make room there, or choose another place.",
        )
    return None


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


def advice(places: Sequence[Path], disks: Sequence[Disk], renamed: Callable[[Path], int]) -> tuple[Problem, ...]:
    """What is not wrong, but worth knowing before the start."""
    found = []
    for number, (place, disk) in enumerate(zip(places, disks, strict=True)):
        twin = next((other for other, at in zip(places[:number], disks, strict=False) if at.key == disk.key), None)
        if twin is not None:
            found.append(_same_disk(place, twin, disk))
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


def _same_disk(place: Path, twin: Path, disk: Disk) -> Problem:
    unknown = disk.kind == "unknown"
    known = "may be on the same disk" if unknown else "are on the same disk"
    return Problem(
        f"{place} and {twin} {known}{'' if unknown else f' ({disk.words})'}: together they count as one copy.",
        str(place),
        "Both are written and proven.",
        "Choose a place on another disk.",
    )


def _mounted_read_only(folder: Path) -> bool:
    # The superuser passes os.access() on read-only mounts; the mount's own flag does not lie.
    return bool(os.statvfs(folder).f_flag & os.ST_RDONLY)
