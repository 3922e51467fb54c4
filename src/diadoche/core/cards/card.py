"""A card as it is shown: its layout, its clips with times, and what is missing."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Iterator, Sequence
from dataclasses import dataclass, replace
from datetime import date, datetime
from pathlib import Path

from diadoche.core.cards.clips import Clip, joined, with_times
from diadoche.core.cards.joining import follows, join
from diadoche.core.cards.layout import Layout
from diadoche.core.cards.moi import recording_moment
from diadoche.core.cards.recognise import lens_of, recognise, sisters
from diadoche.core.cards.serials import camera_serial
from diadoche.core.cards.sorting import sort_files
from diadoche.core.cards.tree import Tree, read_small
from diadoche.core.errors import DiadocheError, Problem, RequestError
from diadoche.core.identify.facts import Facts, unreadable
from diadoche.core.identify.probe import identify
from diadoche.core.watch import Progress, Watch


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
    # The other cards of the same rig that are at hand, and which lens this one is of (0: no rig, or all of them).
    sisters: tuple[Path, ...] = ()
    lens: int = 0

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


# Reads the headers of clips, each given by its files; the facts come in the same order.
HeadsOf = Callable[[Iterable[Sequence[Path]]], Iterable[Facts]]


def heads_here(clips: Iterable[Sequence[Path]]) -> Iterator[Facts]:
    """Headers read in this very process."""
    for paths in clips:
        try:
            yield identify(paths, "headers")
        except DiadocheError as error:
            yield unreadable(paths[0], error.problem)


@dataclass(frozen=True, slots=True)
class LookChoice:
    """What the person says about a card: which layout it has, and that runs of stills are single pictures."""

    layout: str = ""
    stills_apart: bool = False


USUAL_LOOK = LookChoice()


def look(
    path: Path, layouts: Sequence[Layout], watch: Watch, heads_of: HeadsOf = heads_here, choice: LookChoice = USUAL_LOOK
) -> Card:
    """Recognises and lists a card. Only the heads of its clips are read.

    Args:
        path: anything on the card.
        layouts: in the order in which they are tried.
        watch: told about every clip.
        heads_of: reads the headers; it may do so where a crash is survivable, and several at once.
        choice: what the person says about the card.

    Raises:
        RequestError: there is nothing at that path, or no such layout.
        SourceError: it cannot be listed.
        Cancelled: the watch was stopped.
    """
    found = recognise(path, layouts, choice.layout, watch)
    tree, layout = found.tree, found.layout
    if layout is None:
        return Card(tree, "", "", "", "", (), (), (*tree.unlisted, _no_card(tree)))
    listed = sort_files(tree, layout, found.members, stills_apart=choice.stills_apart)
    problems = [*tree.unlisted, *listed.problems]
    heads: dict[str, Facts] = {}
    clips = []
    files = [[tree.root / span for span in _head_spans(clip)] for clip in listed.clips]
    for number, (clip, facts) in enumerate(zip(listed.clips, heads_of(files), strict=True), start=1):
        watch.step(Progress(number, len(listed.clips), clip.name))
        heads[clip.spans[0]] = facts
        problems += [problem for problem in facts.problems if not _already(problem, problems)]
        clips.append(_dated(_timed(clip, facts), tree))
    if layout.joined_by == "playlists":
        clips = _joined_by_times(clips, any("no playlist" in problem.what for problem in problems))
    together = join(clips, heads, layout, found.members)
    return Card(
        tree,
        layout.name,
        layout.title,
        layout.camera,
        found.evidence,
        together.clips,
        listed.stills,
        (*problems, *together.problems),
        camera_serial(tree, together.clips) or next((each.serial for each in heads.values() if each.serial), ""),
        sisters(found),
        lens_of(found),
    )


def _head_spans(clip: Clip) -> tuple[str, ...]:
    return clip.spans[:1] if clip.kind == "sequence" else clip.spans


def _timed(clip: Clip, facts: Facts) -> Clip:
    """The clip with what its headers told; a picture a frame lasts as long as their rate says."""
    if clip.kind == "sequence":
        rate = facts.video[0].frame_rate if facts.video and facts.video[0].frame_rate_told else None
        return with_times(clip, len(clip.spans) / float(rate) if rate else None, facts.start)
    return with_times(clip, facts.duration_s or None, facts.start)


def _dated(clip: Clip, tree: Tree) -> Clip:
    """The clip with the moment that the camera wrote beside it, where the recording itself tells none."""
    beside = next((each.path for each in clip.companions if each.path.upper().endswith(".MOI")), "")
    if clip.start is not None or not beside:
        return clip
    file = next(each for each in tree.files if each.path == beside)
    return replace(clip, start=recording_moment(read_small(tree, file)))


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


def _already(problem: Problem, problems: Sequence[Problem]) -> bool:
    return any(known.what == problem.what or (known.path and problem.path.endswith(known.path)) for known in problems)


def _joined_by_times(clips: list[Clip], without_playlists: bool) -> list[Clip]:
    """Joins streams whose recording times run on, where no playlist says what belongs together."""
    if not without_playlists:
        return clips
    together: list[Clip] = []
    for clip in clips:
        if together and follows(together[-1], clip):
            together[-1] = joined(together[-1], clip)
        else:
            together.append(clip)
    return together


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
