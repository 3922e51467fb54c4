"""A card as it is shown: its layout, its clips with times, and what is missing."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, replace
from datetime import date, datetime
from pathlib import Path

from diadoche.core.cards.clips import Clip, sort_files, with_times
from diadoche.core.cards.layout import Layout, recognise
from diadoche.core.cards.serials import camera_serial
from diadoche.core.cards.tree import Tree
from diadoche.core.errors import DiadocheError, Problem, RequestError
from diadoche.core.identify.facts import Facts
from diadoche.core.identify.probe import identify
from diadoche.core.watch import Progress, Watch

# Spans that belong together follow each other within a second, at the exactness of recording times.
_SEAM_S = 1.5


@dataclass(frozen=True, slots=True)
class Card:
    """What is on a card. A card without a layout is a folder that is none."""

    tree: Tree
    layout: str
    title: str
    camera: str
    evidence: str
    clips: tuple[Clip, ...]
    stills: tuple[str, ...]
    problems: tuple[Problem, ...]
    serial: str = ""

    @property
    def root(self) -> Path:
        """The card's top folder."""
        return self.tree.root

    @property
    def complete(self) -> bool:
        """Whether nothing is known to be missing."""
        return bool(self.layout) and not self.problems

    @property
    def first_day(self) -> date | None:
        """The day of the first recording, as the recordings tell it."""
        days = [clip.start.date() for clip in self.clips if clip.start]
        return min(days) if days else None

    @property
    def times(self) -> tuple[datetime, datetime] | None:
        """When the first and the last recording began."""
        starts = sorted(clip.start for clip in self.clips if clip.start)
        return (starts[0], starts[-1]) if starts else None


def look(path: Path, layouts: tuple[Layout, ...], watch: Watch) -> Card:
    """Recognises and lists a card. Only the heads of its clips are read.

    Raises:
        RequestError: there is nothing at that path.
        SourceError: it cannot be listed.
        Cancelled: the watch was stopped.
    """
    found = recognise(path, layouts)
    tree, layout = found.tree, found.layout
    if layout is None:
        return Card(tree, "", "", "", "", (), (), (_no_card(tree),))
    sorted_files = sort_files(tree, layout)
    problems = list(sorted_files.problems)
    clips = []
    for number, clip in enumerate(sorted_files.clips):
        watch.step(Progress(number, len(sorted_files.clips), clip.name))
        facts = _heads(tree.root, clip)
        if facts is not None:
            problems += [problem for problem in facts.problems if not _already(problem, problems)]
            clip = with_times(clip, facts.duration_s or None, facts.start)
        clips.append(clip)
    if layout.joined_by == "playlists":
        clips = _joined_by_times(clips, any("no playlist" in problem.what for problem in problems))
    return Card(
        tree,
        layout.name,
        layout.title,
        layout.camera,
        found.evidence,
        tuple(clips),
        sorted_files.stills,
        tuple(problems),
        camera_serial(tree, clips),
    )


def _no_card(tree: Tree) -> Problem:
    if not tree.files:
        return Problem(
            f"{tree.root} is empty.",
            str(tree.root),
            "Nothing was changed.",
            "If the camera shows recordings, try another reader or adapter.",
        )
    return Problem(
        f"{tree.root} is no card: there are no recordings of a kind known here.",
        str(tree.root),
        "Nothing was changed. It can be offloaded all the same, as it is.",
        "Point at the top of the card.",
    )


def _heads(root: Path, clip: Clip) -> Facts | None:
    try:
        return identify([root / span for span in clip.spans], "headers")
    except DiadocheError as error:
        return Facts(clip.spans[0], "unknown", 0.0, None, None, clip.size_bytes, problems=(error.problem,))


def _already(problem: Problem, problems: Sequence[Problem]) -> bool:
    return any(known.what == problem.what or (known.path and problem.path.endswith(known.path)) for known in problems)


def _joined_by_times(clips: list[Clip], without_playlists: bool) -> list[Clip]:
    """Joins streams whose recording times run on, where no playlist says what belongs together."""
    if not without_playlists:
        return clips
    joined: list[Clip] = []
    for clip in clips:
        before = joined[-1] if joined else None
        if before is not None and _follows(before, clip):
            joined[-1] = replace(
                before,
                spans=before.spans + clip.spans,
                companions=before.companions + clip.companions,
                size_bytes=before.size_bytes + clip.size_bytes,
                duration_s=(before.duration_s or 0) + (clip.duration_s or 0),
            )
        else:
            joined.append(clip)
    return joined


def _follows(before: Clip, clip: Clip) -> bool:
    if before.start is None or clip.start is None or before.duration_s is None:
        return False
    gap_s = (clip.start - before.start).total_seconds() - before.duration_s
    return abs(gap_s) <= _SEAM_S


def chosen_files(card: Card, layouts: tuple[Layout, ...], names: Sequence[str]) -> frozenset[str]:
    """The files of some clips, with everything that a copy of them needs to stay usable.

    Raises:
        RequestError: a clip of that name is not on the card.
    """
    from_name = {clip.name: clip for clip in card.clips}
    layout = next((each for each in layouts if each.name == card.layout), None)
    unknown = [name for name in names if name not in from_name]
    if unknown:
        raise RequestError(
            f"There is no clip called {unknown[0]} on this card.", do=f"It has: {', '.join(from_name) or 'none'}."
        )
    files = {file for name in names for file in from_name[name].files}
    if layout is not None:
        files |= {file.path for file in card.tree.files if layout.belongs_to_all(file.path)}
    return frozenset(files)
