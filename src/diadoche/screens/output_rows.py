"""What the outputs view shows of groups of clips that need the same, and of the clips in them."""

from __future__ import annotations

from dataclasses import dataclass
from pathlib import Path

from diadoche.screens.marks import Mark


@dataclass(frozen=True, slots=True)
class Choice:
    """A recipe or container to choose."""

    name: str
    title: str


@dataclass(frozen=True, slots=True)
class GroupRow:
    """Clips with one route."""

    route: str
    title: str
    reason: str
    clips: int
    to_make: int
    made: int
    size: str
    size_bytes: int
    # Containers to choose from, or the title of the recipe that is chosen from many; neither where nothing is made.
    choices: tuple[Choice, ...]
    chosen: str
    recipe: str
    included: bool
    warning: str
    mark: Mark
    # The words of the button for how takes are stitched; nothing in other groups.
    stitch: str = ""


@dataclass(frozen=True, slots=True)
class ClipRow:
    """A clip of a group: why it is there, how large its output becomes, what will come of it; the file to be shown."""

    name: str
    reason: str
    size: str
    words: str
    mark: Mark
    path: Path | None = None
