"""Which clips of a shoot are shown, in which order and groups: the rows that every face of the footage shares."""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from dataclasses import dataclass
from typing import Literal

from diadoche.core.sizes import clock_text, count_text
from diadoche.screens.lines import USUAL_COLUMNS, Line, length_s

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

    def arrange(self, lines: Iterable[Line]) -> None:
        """Puts the lines that are to be shown in their order, below a heading each group."""
        key = self.look.sorted_by
        shown = [line for line in lines if self._is_shown(line)]
        shown.sort(key=lambda line: line.key(key), reverse=self.look.downwards)
        self.rows = list(_grouped(shown, self.look.grouping)) if self.look.grouping else list(shown)
        self._row_of = {row.clip.id: place for place, row in enumerate(self.rows) if isinstance(row, Line)}

    def replace(self, changed: Sequence[Line]) -> list[int] | None:
        """Takes in lines that say something else now.

        Returns:
            The rows they stand in; None where one of them would come, go, or stand elsewhere: then nothing was taken
            in, and everything is to be arranged anew.
        """
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
                # Of ten thousand that were judged nothing but that is new: their keys are the very same.
                if (before.keys is not line.keys or key not in line.keys) and before.key(key) != line.key(key):
                    return None
                if grouping and _under(before, grouping) != _under(line, grouping):
                    return None
                rows.append(row)
        for line in changed:
            row = self._row_of.get(line.clip.id)
            if row is not None:
                self.rows[row] = line
        return rows

    def _is_shown(self, line: Line) -> bool:
        if self.showing == "all":
            shown = True
        elif self.showing == "undecided":
            shown = not line.clip.opinion.verdict
        elif self.showing == "odd":
            shown = bool(line.odd)
        elif self.showing == "problems":
            shown = line.has_problem
        else:
            shown = line.clip.opinion.verdict == self.showing
        return shown and (not self.wanted or all(line.holds(word) for word in self.wanted.split()))

    def count_of(self, clip_ids: Iterable[int]) -> int:
        """How many of some clips are shown."""
        return sum(map(self._row_of.__contains__, clip_ids))

    def row_of(self, clip_id: int) -> int | None:
        """Where a clip stands now, if it is shown."""
        return self._row_of.get(clip_id)

    def shown(self) -> list[Line]:
        """The lines among the rows."""
        return [row for row in self.rows if isinstance(row, Line)]


def _under(line: Line, grouping: Grouping) -> tuple[object, ...]:
    """Which heading a line stands below, and what it adds to that."""
    return _group_of(line, grouping), length_s(line.clip)


def _grouped(lines: Sequence[Line], grouping: Grouping) -> list[Line | Heading]:
    """Lines below a heading each group, in the order in which groups first occur."""
    groups: dict[str, list[Line]] = {}
    for line in lines:
        groups.setdefault(_group_of(line, grouping), []).append(line)
    rows: list[Line | Heading] = []
    for name, group in groups.items():
        seconds = sum(length_s(line.clip) or 0.0 for line in group)
        rows.append(Heading(f"{name}   {count_text(len(group), 'clip')}, {clock_text(seconds)}"))
        rows += group
    return rows


def _group_of(line: Line, grouping: Grouping) -> str:
    if grouping == "Make":
        return line.make
    return line.text(grouping) or "not decided"
