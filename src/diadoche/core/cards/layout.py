"""Layouts of cards: data files that say how a kind of card is recognised and what lies where.

Patterns are regular expressions over whole relative paths, without regard to case; one that ends in
a slash means a folder. A new layout is a new file in `layouts/`, or in a folder of the person's own.
"""

from __future__ import annotations

import re
import tomllib
from collections.abc import Sequence
from dataclasses import dataclass
from functools import cached_property
from importlib import resources
from pathlib import Path
from typing import Literal

from pydantic import BaseModel, ConfigDict, ValidationError, field_validator

from diadoche.core.cards.tree import FileEntry, Tree, inner_folders, list_tree
from diadoche.core.errors import RequestError

# How far above what was pointed at the top of a card may lie: PRIVATE/AVCHD/BDMV/STREAM/file.
_LEVELS_UP = 5


class Layout(BaseModel):
    """One kind of card."""

    model_config = ConfigDict(frozen=True, extra="forbid")
    name: str
    title: str
    camera: str
    marks: tuple[str, ...]
    clips: tuple[str, ...]
    stills: tuple[str, ...] = ()
    joined_by: Literal["nothing", "playlists"] = "nothing"
    kept_together: tuple[str, ...] = ()
    companions: dict[str, str] = {}
    folders: dict[str, str] = {}
    last: bool = False

    @field_validator("marks", "clips", "stills", "kept_together")
    @classmethod
    def _compiles(cls, patterns: tuple[str, ...]) -> tuple[str, ...]:
        for pattern in patterns:
            re.compile(pattern)
        return patterns

    @cached_property
    def _compiled(self) -> dict[str, re.Pattern[str]]:
        groups = {"clips": self.clips, "stills": self.stills, "kept_together": self.kept_together}
        return {key: re.compile("|".join(patterns) or "(?!)", re.IGNORECASE) for key, patterns in groups.items()}

    def is_clip(self, file: FileEntry) -> bool:
        """Whether the file is picture and sound of a recording."""
        return bool(self._compiled["clips"].fullmatch(file.path))

    def is_still(self, file: FileEntry) -> bool:
        """Whether the file is a single picture."""
        return bool(self._compiled["stills"].fullmatch(file.path))

    def belongs_to_all(self, path: str) -> bool:
        """Whether a copy of any clip needs this file too."""
        return bool(self._compiled["kept_together"].fullmatch(path))

    def evidence(self, tree: Tree) -> str:
        """The first folder or file by which this layout is recognised, or nothing."""
        folders = [f"{folder.path}/" for folder in tree.folders]
        for mark in self.marks:
            candidates = folders if mark.endswith("/") else [file.path for file in tree.files]
            pattern = re.compile(mark, re.IGNORECASE)
            for path in candidates:
                if pattern.fullmatch(path):
                    return path
        return ""

    def purpose_of(self, folder: str) -> str:
        """What a folder is for, in one line, or nothing."""
        for pattern, purpose in self.folders.items():
            if re.fullmatch(pattern, folder, re.IGNORECASE):
                return purpose
        return ""


def folder_purposes(card_folders: Sequence[str], layouts: Sequence[Layout], name: str) -> tuple[tuple[str, str], ...]:
    """What each folder of a card is for, in one line, as its layout tells; others are left out.

    Args:
        card_folders: relative paths.
        layouts: all layouts.
        name: that of the card's own.
    """
    layout = next((each for each in layouts if each.name == name), None)
    if layout is None:
        return ()
    found = ((folder, layout.purpose_of(folder)) for folder in card_folders)
    return tuple((folder, purpose) for folder, purpose in found if purpose)


@dataclass(frozen=True, slots=True)
class Recognised:
    """A card's top folder as found, its layout, and what showed it. No layout: it is no card."""

    tree: Tree
    layout: Layout | None
    evidence: str


def load_layouts(own_folder: Path | None = None) -> tuple[Layout, ...]:
    """The supplied layouts and the person's own, in the order in which they are tried.

    Raises:
        RequestError: a file of the person's own has a mistake; it is named.
    """
    supplied = [
        Layout.model_validate(tomllib.loads(entry.read_text("utf-8")))
        for entry in (resources.files("diadoche.core.cards") / "layouts").iterdir()
        if entry.name.endswith(".toml")
    ]
    own = [_own_layout(path) for path in sorted(own_folder.glob("*.toml"))] if own_folder else []
    return tuple(sorted([*own, *supplied], key=lambda layout: layout.last))


def _own_layout(path: Path) -> Layout:
    try:
        return Layout.model_validate(tomllib.loads(path.read_text("utf-8")))
    except (tomllib.TOMLDecodeError, ValidationError, UnicodeDecodeError) as error:
        raise RequestError(f"The layout {path.name} has a mistake: {error}", path=path, do="Correct it.") from error


def recognise(path: Path, layouts: tuple[Layout, ...]) -> Recognised:
    """Finds the card that `path` belongs to, whatever level of it is pointed at.

    Raises:
        RequestError: there is nothing at that path.
        OSError: it cannot be listed.
    """
    path = path.expanduser()
    if not path.exists():
        raise RequestError(f"There is nothing at {path}.", path=path, do="Check the path, or put the card in.")
    # Not resolved: a reader may show its card through a link, and a card pulled must be seen to be gone.
    path = path.absolute()
    folder = path if path.is_dir() else path.parent
    tree = list_tree(folder)
    named = [layout for layout in layouts if not layout.last]
    found = _match(tree, named)
    if found.layout is not None:
        return _climbed(found, found.layout)
    # Below the marked folder itself: in BDMV, in STREAM, beside a single file.
    for parent in list(folder.parents)[:_LEVELS_UP]:
        for layout in named:
            if _leads_through(folder, parent, layout):
                above = _match(list_tree(parent), [layout])
                if above.layout is not None:
                    return _climbed(above, layout)
    return _match(tree, list(layouts))


def _climbed(found: Recognised, layout: Layout) -> Recognised:
    """The highest folder from which the same mark still fits: PRIVATE belongs to the card above it."""
    top, folder = found, found.tree.root
    for parent in list(folder.parents)[:_LEVELS_UP]:
        longer = f"{folder.relative_to(parent).as_posix()}/{found.evidence}"
        if any(re.fullmatch(mark, longer, re.IGNORECASE) for mark in layout.marks):
            top = Recognised(list_tree(parent), layout, longer)
    return top


def _match(tree: Tree, layouts: list[Layout]) -> Recognised:
    for layout in layouts:
        evidence = layout.evidence(tree)
        if evidence:
            return Recognised(tree, layout, evidence)
    return Recognised(tree, None, "")


def _leads_through(folder: Path, parent: Path, layout: Layout) -> bool:
    """Whether a marked folder of a card with its top at `parent` is `folder`, holds it, or lies just below it."""
    inner = folder.relative_to(parent).as_posix()
    parts = inner.split("/")
    paths = ["/".join(parts[:count]) for count in range(1, len(parts) + 1)]
    paths += [f"{inner}/{name}" for name in inner_folders(folder)]
    # The marked folder may stand beside ours: CLIPINF leads to the card as STREAM does.
    above = "".join(f"{part}/" for part in parts[:-1])
    paths += [f"{above}{name}" for name in inner_folders(folder.parent)]
    return any(re.fullmatch(mark, f"{path}/", re.IGNORECASE) for mark in layout.marks for path in paths)
