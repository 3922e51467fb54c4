"""Names that a filesystem cannot hold as they are, and what they become there.

A disk that forbids some characters, or that takes `A.MOV` and `a.mov` for the same, would lose a file
or refuse it. Such names are changed as little as can be; the manifest, the waybill and the journal say so.
"""

from __future__ import annotations

import unicodedata
from collections.abc import Collection, Iterable

from diadoche.core.diskfiles import PART_SUFFIX
from diadoche.core.disks import Limits
from diadoche.core.names import safe_name, unique_name
from diadoche.core.offload.journal import JOURNAL_NAME, MANIFEST_FOLDER

# The folder of manifests [ASCMHL], the journal and the parts. A card that was a copy itself has such names of its own.
RESERVED = frozenset({MANIFEST_FOLDER, JOURNAL_NAME, PART_SUFFIX})


def kept_names(paths: Iterable[str], limits: Limits, reserved: Collection[str] = RESERVED) -> dict[str, str]:
    """For each path that has to be changed, the path it is kept under; folders are changed for all that is in them.

    Args:
        paths: of the card.
        limits: of the filesystem that they come to.
        reserved: names at the top of a copy that are not the card's.
    """
    listed = list(paths)
    if not (limits.plain_names or limits.folds_case or any(_top(path) in reserved for path in listed)):
        return {}
    namer = _Namer(limits, reserved)
    found = {path: namer.kept(path) for path in listed}
    return {path: kept for path, kept in found.items() if kept != path}


def _top(path: str) -> str:
    return path.partition("/")[0]


class _Namer:
    """Gives each part of a path one name, and each name in a folder to one part only."""

    def __init__(self, limits: Limits, reserved: Collection[str]) -> None:
        self._limits = limits
        self._given: dict[tuple[str, str], str] = {}
        self._taken: dict[str, set[str]] = {"": {self._folded(name) for name in reserved}}

    def kept(self, path: str) -> str:
        """The path under its new name; the same each time it is asked for."""
        folder, _, name = path.rpartition("/")
        parent = self.kept(folder) if folder else ""
        known = self._given.get((parent, name))
        if known is None:
            taken = self._taken.setdefault(parent, set())
            wanted = safe_name(_spelled(name)) if self._limits.plain_names and not _is_plain(name) else name
            known = unique_name(wanted, lambda each: self._folded(each) in taken)
            taken.add(self._folded(known))
            self._given[parent, name] = known
        return f"{parent}/{known}" if parent else known

    def _folded(self, name: str) -> str:
        return unicodedata.normalize("NFC", name).casefold() if self._limits.folds_case else name


def _spelled(name: str) -> str:
    """Bytes that are no text, written as %FF: disks that hold text alone have no room for them."""
    return "".join(f"%{ord(each) - 0xDC00:02X}" if "\udc80" <= each <= "\udcff" else each for each in name)


def _is_plain(name: str) -> bool:
    # A leading dot is no fault: such files are hidden, and are kept.
    return not Limits("", plain_names=True).refuses(name, 0)
