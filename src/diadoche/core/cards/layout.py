"""Layouts of cards: data files that say how a kind of card is recognised and what lies where.

Patterns are regular expressions over whole relative paths, without regard to case; one that ends in
a slash means a folder. A new layout is a new file in `layouts/`, or in a folder of the person's own;
`docs/layouts.md` tells what may stand in one.
"""

from __future__ import annotations

import re
import tomllib
from collections.abc import Sequence
from dataclasses import dataclass
from functools import cached_property
from importlib import resources
from pathlib import Path
from string import Formatter
from typing import Annotated, Literal

from pydantic import AfterValidator, BaseModel, ConfigDict, Field, ValidationError, model_validator

from diadoche.core.cards.tree import FileEntry, Tree
from diadoche.core.diskfiles import unseen_file
from diadoche.core.errors import RequestError
from diadoche.core.mistakes import mistake_words, own_text

_HEAD_BYTES = 4096


def _compiles(patterns: tuple[str, ...]) -> tuple[str, ...]:
    for pattern in patterns:
        try:
            re.compile(pattern)
        except re.error as error:
            raise ValueError(f"{pattern!r} is no pattern: {error}") from error
    return patterns


def _compiles_one(pattern: str) -> str:
    return _compiles((pattern,))[0]


Patterns = Annotated[tuple[str, ...], AfterValidator(_compiles)]


def _with_groups(*names: str) -> AfterValidator:
    def check(patterns: tuple[str, ...]) -> tuple[str, ...]:
        for pattern in patterns:
            missing = [name for name in names if name not in re.compile(pattern).groupindex]
            if missing:
                raise ValueError(f"{pattern!r} has no group called {missing[0]}")
        return patterns

    return AfterValidator(check)


def _only_known(template: str, patterns: Sequence[str], more: set[str]) -> None:
    """Refuses a template that asks for what no pattern gives."""
    fields = {field for _, field, _, _ in Formatter().parse(template) if field is not None}
    for pattern in patterns:
        unknown = fields - more - set(re.compile(pattern).groupindex)
        if unknown:
            raise ValueError(f"{template!r} asks for {min(unknown)!r}, which {pattern!r} does not give")


class _Part(BaseModel):
    model_config = ConfigDict(frozen=True, extra="forbid")


class Paired(_Part):
    """Companions that lie elsewhere than beside their clip: a pattern with the group `clip`, and their role."""

    pattern: Annotated[Patterns, _with_groups("clip")]
    role: str


class Need(_Part):
    """What must be there. With `for_each` it is a template filled from that pattern's groups; without, a pattern.

    A group called `number` gives `previous`, the number before it; 0 has none.
    """

    what: str
    there: str
    for_each: Patterns = ()

    @model_validator(mode="after")
    def _fits(self) -> Need:
        if self.for_each:
            _only_known(self.there, self.for_each, {"previous"})
        else:
            _compiles((self.there,))
        return self


class Counted(_Part):
    """Files that a list on the card counts: one for each XML element of a name in it, numbered from 0.

    `there` is a template filled from the pattern's groups and `index`.
    """

    what: str
    listed_in: Patterns
    element: str
    there: str

    @model_validator(mode="after")
    def _fits(self) -> Counted:
        _only_known(self.there, self.listed_in, {"index"})
        return self


class Remark(_Part):
    """What is said where a file of a kind is there: a sign that more was left behind."""

    pattern: Patterns
    what: str
    do: str


class Layout(_Part):
    """One kind of card."""

    name: str
    title: str
    camera: str
    marks: Patterns
    # What the marked file must begin with, as a pattern over its first bytes.
    head: Annotated[str, AfterValidator(_compiles_one)] = ""
    clips: Patterns
    stills: Patterns = ()
    # Where a file of any ending is a recording if its content says so.
    sniffed: Patterns = ()
    joined_by: Literal["times", "playlists", "nothing"] = "times"
    # Spans that carry a number: groups `recording` and `part`, and `letters` if those must agree too.
    numbered: Annotated[Patterns, _with_groups("recording", "part")] = ()
    # Files of several lenses that recorded at the same time: groups `recording` and `lens`.
    lenses: Annotated[Patterns, _with_groups("recording", "lens")] = ()
    lens_count: int = 0
    # How many cards one rig fills; 0 where every camera has a card of its own.
    cards_a_set: int = 0
    # The camera's own stitched file of such a recording: group `recording`.
    stitched: Annotated[Patterns, _with_groups("recording")] = ()
    # Folders of numbered pictures that are always one recording: groups `recording` and `number`.
    sequences: Annotated[Patterns, _with_groups("recording", "number")] = ()
    kept_together: Patterns = ()
    companions: dict[str, str] = {}
    paired: tuple[Paired, ...] = ()
    needs: tuple[Need, ...] = ()
    counted: tuple[Counted, ...] = ()
    remarks: tuple[Remark, ...] = ()
    folders: dict[Annotated[str, AfterValidator(_compiles_one)], str] = {}
    # The order in which layouts are tried: low ones first.
    order: Annotated[int, Field(ge=0, le=99)] = 50

    @cached_property
    def _compiled(self) -> dict[str, re.Pattern[str]]:
        groups = {"clips": self.clips, "stills": self.stills, "sniffed": self.sniffed, "kept": self.kept_together}
        return {key: re.compile("|".join(patterns) or "(?!)", re.IGNORECASE) for key, patterns in groups.items()}

    def is_clip(self, path: str) -> bool:
        """Whether the file is picture and sound of a recording."""
        return bool(self._compiled["clips"].fullmatch(path))

    def is_still(self, path: str) -> bool:
        """Whether the file is a single picture."""
        return bool(self._compiled["stills"].fullmatch(path))

    def may_be_clip(self, path: str) -> bool:
        """Whether its content decides if it is a recording."""
        return bool(self._compiled["sniffed"].fullmatch(path))

    def belongs_to_all(self, path: str) -> bool:
        """Whether a copy of any clip needs this file too."""
        return bool(self._compiled["kept"].fullmatch(path))

    def evidence(self, tree: Tree) -> str:
        """The first folder or file by which this layout is recognised, or nothing."""
        folders = [f"{folder.path}/" for folder in tree.folders]
        for mark in self.marks:
            candidates = folders if mark.endswith("/") else [file.path for file in tree.files]
            pattern = re.compile(mark, re.IGNORECASE)
            for path in candidates:
                if pattern.fullmatch(path) and self._head_fits(tree.root / path):
                    return path
        return ""

    def _head_fits(self, path: Path) -> bool:
        if not self.head:
            return True
        try:
            with unseen_file(path) as file:
                return bool(re.match(self.head, file.read(_HEAD_BYTES).decode("latin-1"), re.DOTALL))
        except OSError:
            return False

    def purpose_of(self, folder: str) -> str:
        """What a folder is for, in one line, or nothing."""
        for pattern, purpose in self.folders.items():
            if re.fullmatch(pattern, folder, re.IGNORECASE):
                return purpose
        return ""


def matched(patterns: Sequence[str], path: str) -> re.Match[str] | None:
    """The first of some patterns that fits the whole path."""
    found = (re.fullmatch(pattern, path, re.IGNORECASE) for pattern in patterns)
    return next((match for match in found if match), None)


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
class MemberFile:
    """A file by the path that rules see: below the top of its own card, where several lie in one folder."""

    entry: FileEntry
    card: str

    @property
    def rule_path(self) -> str:
        """The path within its card."""
        return self.entry.path[len(self.card) + 1 :] if self.card else self.entry.path


def load_layouts(own_folder: Path | None = None) -> tuple[Layout, ...]:
    """The supplied layouts and the person's own, in the order in which they are tried.

    Raises:
        RequestError: a file of the person's own has a mistake; it is named, with its line.
    """
    supplied = [
        Layout.model_validate(tomllib.loads(entry.read_text("utf-8")))
        for entry in (resources.files("diadoche.core.cards") / "layouts").iterdir()
        if entry.name.endswith(".toml")
    ]
    own = [_own_layout(path) for path in sorted(own_folder.glob("*.toml"))] if own_folder else []
    return tuple(sorted([*own, *sorted(supplied, key=lambda each: each.name)], key=lambda layout: layout.order))


def _own_layout(path: Path) -> Layout:
    text = own_text(path, "card layout")
    try:
        return Layout.model_validate(tomllib.loads(text))
    except (tomllib.TOMLDecodeError, RecursionError) as error:
        words = f"{path.name} is no TOML: {error}."
    except ValidationError as error:
        words = f"{path.name}, {mistake_words(error, text)}"
    raise RequestError(
        f"A card layout of your own has a mistake: {words}",
        path=path,
        safe="No card was touched.",
        do="Correct it, or move the file out of the folder of layouts.",
    )
