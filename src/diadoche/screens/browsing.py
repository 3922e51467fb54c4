"""Which clips of a shoot are shown, in which order and groups: the rows that every face of the footage shares."""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Iterable, Sequence
from dataclasses import dataclass
from typing import Literal

from diadoche.core.sizes import clock_text, count_text
from diadoche.screens.lines import SAID_COLUMNS, USUAL_COLUMNS, Line

# "Route" is what "Needs" was called once: a look that was kept then may still say so.
Grouping = Literal["", "Card", "Day", "Make", "Needs", "Keep", "Route"]
GROUPINGS: tuple[tuple[Grouping, str], ...] = (
    ("", "not in groups"),
    ("Card", "by card"),
    ("Day", "by day"),
    ("Make", "by make: container, codec, size, rate, sound"),
    ("Needs", "by what they need"),
    ("Keep", "by keep, maybe, no"),
)
Showing = Literal["all", "keep", "maybe", "no", "undecided", "odd", "problems"]
SHOWINGS: tuple[tuple[Showing, str], ...] = (
    ("all", "all clips"),
    ("keep", "those to keep"),
    ("maybe", "those marked maybe"),
    ("no", "those marked no"),
    ("undecided", "those not decided on"),
    ("odd", "those that stand out from the rest"),
    ("problems", "those with a problem"),
)
# What a person says changes nothing of which clips these are.
_WHATEVER_IS_SAID: tuple[Showing, ...] = ("all", "odd", "problems")


@dataclass(frozen=True, slots=True)
class FootageLook:
    """How the person wants to see the clips; remembered."""

    columns: tuple[str, ...] = USUAL_COLUMNS
    sorted_by: str = "Began"
    downwards: bool = False
    grouping: Grouping = ""


@dataclass(frozen=True, slots=True)
class Heading:
    """The row above a group."""

    words: str


class Browsing:
    """Arranges lines, and takes in changed ones without arranging the rest anew where they stay in their places."""

    def __init__(self, look: FootageLook) -> None:
        self.look = look
        self.showing: Showing = "all"
        self.wanted = ""
        self.rows: list[Line | Heading] = []
        self._row_of: dict[int, int] = {}
        # Of which clips it was last asked whether they are shown, by which rows, and the answer.
        self._asked: tuple[list[int], dict[int, int], list[int]] = [], {}, []
        # How long all that is shown is; None where that is to be summed up anew.
        self._seconds: float | None = None
        # Where the lines stand that were last arranged, in their order, and what that rests on: which lines, how often
        # something was found of them, and the way of sorting. Ten thousand are not sorted for each letter of a search.
        self._sorted: tuple[Sequence[Line], int, str, bool, list[int]] | None = None

    def arrange(self, lines: Sequence[Line], found: int) -> None:
        """Puts the lines that are to be shown in their order, below a heading each group.

        Args:
            lines: all there are.
            found: how often something was found of clips: the same list and number stand for the same facts.
        """
        shown = self._filtered([lines[place] for place in self._order(lines, found)])
        if self.look.grouping:
            self.rows = _grouped(shown, self.look.grouping)
            self._row_of = {row.clip.id: place for place, row in enumerate(self.rows) if isinstance(row, Line)}
        else:
            self.rows = list(shown)
            self._row_of = dict(zip([line.clip.id for line in shown], range(len(shown)), strict=True))
        self._seconds = None

    def _order(self, lines: Sequence[Line], found: int) -> list[int]:
        key, downwards, known = self.look.sorted_by, self.look.downwards, self._sorted
        # What a person says may be something else at any time.
        if known is None or key in SAID_COLUMNS or known[0] is not lines or known[1:4] != (found, key, downwards):
            keys = [line.key(key) for line in lines]
            order = sorted(range(len(lines)), key=keys.__getitem__, reverse=downwards)
            self._sorted = lines, found, key, downwards, order
            return order
        return known[4]

    def replace(self, changed: Sequence[Line]) -> list[int] | None:
        """Takes in lines that say something else now.

        Returns:
            The rows they stand in; None where one of them would come, go, or stand elsewhere: then nothing was taken
            in, and everything is to be arranged anew.
        """
        rows = self._places_of(changed)
        if rows is None:
            return None
        for line in changed:
            row = self._row_of.get(line.clip.id)
            if row is not None:
                before, self.rows[row] = self.rows[row], line
                if not isinstance(before, Line) or before.clip.facts is not line.clip.facts:
                    self._seconds = None
        return rows

    def judged(self, clip_ids: Iterable[int]) -> list[int] | None:
        """Takes in that the person says something else of some clips.

        Returns:
            The rows they stand in; None where what is shown, or where it stands, follows from what a person says: then
            everything is to be arranged anew.
        """
        if self.wanted or self.showing not in _WHATEVER_IS_SAID:
            return None
        if self.look.sorted_by in SAID_COLUMNS or self.look.grouping in SAID_COLUMNS:
            return None
        return self.rows_of(clip_ids)

    def _places_of(self, changed: Sequence[Line]) -> list[int] | None:
        """The rows of lines that stay where they are; None where one of them does not."""
        rows: list[int] = []
        every, grouping, key = self.showing == "all" and not self.wanted, self.look.grouping, self.look.sorted_by
        for line in changed:
            row = self._row_of.get(line.clip.id)
            if (row is None) == (every or self._is_shown(line)):
                return None
            if row is not None:
                before = self.rows[row]
                if not isinstance(before, Line):
                    return None
                if before.key(key) != line.key(key):
                    return None
                if grouping and _under(before, grouping) != _under(line, grouping):
                    return None
                rows.append(row)
        return rows

    def _is_shown(self, line: Line) -> bool:
        return bool(self._filtered([line]))

    def _filtered(self, lines: list[Line]) -> list[Line]:
        """Those of some lines that are to be shown, all at once: for ten thousand, a call each takes longer than all
        that is looked at."""
        if self.showing == "undecided":
            lines = [line for line in lines if not line.clip.opinion.verdict]
        elif self.showing == "odd":
            lines = [line for line in lines if line.odd]
        elif self.showing == "problems":
            lines = [line for line in lines if line.has_problem]
        elif self.showing != "all":
            lines = [line for line in lines if line.clip.opinion.verdict == self.showing]
        for word in self.wanted.split():
            lines = [line for line in lines if word in line.words or word in line.said.words]
        return lines

    def those_shown(self, clip_ids: list[int]) -> list[int]:
        """Those of some clips that are shown. It is asked many times of the same list, whose clips stay as they are."""
        asked, rows, found = self._asked
        if asked is not clip_ids or rows is not self._row_of:
            found = [clip_id for clip_id in clip_ids if clip_id in self._row_of]
            self._asked = clip_ids, self._row_of, found
        return found

    def rows_of(self, clip_ids: Iterable[int]) -> list[int]:
        """Where those of some clips stand that are shown."""
        rows = self._row_of
        return [rows[clip_id] for clip_id in clip_ids if clip_id in rows]

    def row_of(self, clip_id: int) -> int | None:
        """Where a clip stands now, if it is shown."""
        return self._row_of.get(clip_id)

    @property
    def count(self) -> int:
        """How many clips are shown."""
        return len(self._row_of)

    @property
    def seconds(self) -> float:
        """How long all that is shown is; summed up anew where something else was found of a clip."""
        if self._seconds is None:
            self._seconds = sum([row.keys["Length"] for row in self.rows if isinstance(row, Line)])
        return self._seconds


def _under(line: Line, grouping: Grouping) -> tuple[object, ...]:
    """Which heading a line stands below, and what it adds to that."""
    return _names_of([line], grouping)[0], line.keys["Length"]


def _grouped(lines: Sequence[Line], grouping: Grouping) -> list[Line | Heading]:
    """Lines below a heading each group, in the order in which groups first occur."""
    groups: defaultdict[str, list[Line]] = defaultdict(list)
    for name, line in zip(_names_of(lines, grouping), lines, strict=True):
        groups[name].append(line)
    rows: list[Line | Heading] = []
    for name, group in groups.items():
        seconds = sum([line.keys["Length"] for line in group])
        rows.append(Heading(f"{name}   {count_text(len(group), 'clip')}, {clock_text(seconds)}"))
        rows += group
    return rows


def _names_of(lines: Sequence[Line], grouping: Grouping) -> list[str]:
    """The group of each line."""
    if grouping == "Make":
        return [line.make for line in lines]
    if grouping == "Keep":
        return [line.said.texts[grouping] or "not decided" for line in lines]
    return [line.texts[grouping] for line in lines]
