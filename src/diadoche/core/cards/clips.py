"""From files to clips: one recording as the person who pressed the button thinks of it."""

from __future__ import annotations

import os
from collections import defaultdict
from collections.abc import Sequence
from dataclasses import dataclass, replace
from datetime import datetime

from diadoche.core.cards.avchd import PlayItem, is_clip_information, read_playlist
from diadoche.core.cards.layout import Layout
from diadoche.core.cards.tree import FileEntry, Tree
from diadoche.core.diskfiles import open_unseen
from diadoche.core.errors import DiadocheError, Problem, reading
from diadoche.core.names import shown

_LARGEST_INDEX_BYTES = 4 * 1024 * 1024
_COMPANION_ORDER = ("low-resolution", "thumbnail", "telemetry", "sound", "metadata", "clip information")


@dataclass(frozen=True, slots=True)
class Companion:
    """A file that belongs to a clip, and what it is for."""

    path: str
    role: str


@dataclass(frozen=True, slots=True)
class Clip:
    """One recording. Paths are relative to the card's top; spans are in order of time."""

    name: str
    spans: tuple[str, ...]
    companions: tuple[Companion, ...]
    size_bytes: int
    duration_s: float | None = None
    start: datetime | None = None

    @property
    def files(self) -> tuple[str, ...]:
        """All files of the clip."""
        return (*self.spans, *(companion.path for companion in self.companions))

    def as_dict(self) -> dict[str, object]:
        """The clip as the command line's JSON has it."""
        return {
            "name": self.name,
            "spans": list(self.spans),
            "companions": [{"path": each.path, "role": each.role} for each in self.companions],
            "files": list(self.files),
            "bytes": self.size_bytes,
            "duration_s": self.duration_s,
            "start": self.start.isoformat() if self.start else None,
        }


@dataclass(frozen=True, slots=True)
class Sorted:
    """What the files of a card are."""

    clips: tuple[Clip, ...]
    stills: tuple[str, ...]
    problems: tuple[Problem, ...]


def sort_files(tree: Tree, layout: Layout) -> Sorted:
    """Groups the files of a card into clips and stills, and names what is missing.

    Raises:
        SourceLost: the card went away while its index files were read.
    """
    problems: list[Problem] = [_empty(file) for file in tree.files if file.size_bytes == 0 and layout.is_clip(file)]
    streams = [file for file in tree.files if layout.is_clip(file)]
    runs: list[list[FileEntry]] = [[file] for file in streams]
    durations: dict[str, float] = {}
    if layout.joined_by == "playlists":
        runs, durations, index_problems = _by_playlists(tree, streams)
        problems += index_problems
    by_stem = _by_stem(tree, layout)
    clips = tuple(_clip(run, by_stem, durations) for run in runs)
    stills = tuple(file.path for file in tree.files if layout.is_still(file))
    return Sorted(clips, stills, tuple(problems))


def _empty(file: FileEntry) -> Problem:
    return Problem(
        f"{shown(file.path)} is empty.", file.path, "It is copied as it is.", "Look for the clip on the camera."
    )


def _by_stem(tree: Tree, layout: Layout) -> dict[str, list[Companion]]:
    """Companions by folder and stem; in an AVCHD tree, by stem alone, for they have a folder of their own."""
    found: dict[str, list[Companion]] = defaultdict(list)
    for file in tree.files:
        role = layout.companions.get(file.ending.lstrip("."))
        if role is not None and not layout.is_clip(file):
            found[_pairing_key(file, layout)].append(Companion(file.path, role))
    for companions in found.values():
        companions.sort(key=lambda companion: (_COMPANION_ORDER.index(companion.role), companion.path))
    return found


def _pairing_key(file: FileEntry, layout: Layout) -> str:
    folder = "" if layout.joined_by == "playlists" else file.path.rpartition("/")[0]
    return f"{folder}/{file.stem}".upper()


def _clip(run: list[FileEntry], by_stem: dict[str, list[Companion]], durations: dict[str, float]) -> Clip:
    companions = []
    for span in run:
        folder = span.path.rpartition("/")[0]
        for key in (f"{folder}/{span.stem}".upper(), f"/{span.stem}".upper()):
            companions += by_stem.get(key, [])
    known = [durations[span.path] for span in run if span.path in durations]
    return Clip(
        run[0].stem,
        tuple(span.path for span in run),
        tuple(dict.fromkeys(companions)),
        sum(span.size_bytes for span in run),
        sum(known) if len(known) == len(run) else None,
    )


def _by_playlists(
    tree: Tree, streams: Sequence[FileEntry]
) -> tuple[list[list[FileEntry]], dict[str, float], list[Problem]]:
    by_stem = {file.stem.upper(): file for file in streams}
    items, problems = _play_items(tree)
    listed = [item for item in items if item.clip.upper() in by_stem]
    problems += [_missing_stream(item.clip) for item in items if item.clip.upper() not in by_stem]
    runs: list[list[FileEntry]] = []
    durations: dict[str, float] = {}
    previous: PlayItem | None = None
    for item in items:
        stream = by_stem.get(item.clip.upper())
        if stream is None or stream.path in durations:
            previous = None
            continue
        durations[stream.path] = item.duration_s
        if item.continues and previous is not None and runs:
            runs[-1].append(stream)
        else:
            runs.append([stream])
        previous = item
    names = {item.clip.upper() for item in listed}
    for stream in streams:
        if stream.stem.upper() not in names:
            runs.append([stream])
            if items:
                problems.append(_unlisted_stream(stream))
    runs.sort(key=lambda run: run[0].path)
    return runs, durations, problems + _incomplete(tree, streams, bool(items))


def _play_items(tree: Tree) -> tuple[list[PlayItem], list[Problem]]:
    items: list[PlayItem] = []
    problems: list[Problem] = []
    seen: set[str] = set()
    for file in tree.files:
        if file.ending not in {".MPL", ".MPLS"} or "/BACKUP/" in f"/{file.path.upper()}":
            continue
        try:
            for item in read_playlist(_small_file(tree, file), shown(file.path)):
                if item.clip not in seen:
                    seen.add(item.clip)
                    items.append(item)
        except DiadocheError as error:
            problems.append(error.problem)
    return items, problems


def _small_file(tree: Tree, file: FileEntry) -> bytes:
    path = tree.root / file.path
    with reading(path, tree.root):
        descriptor = open_unseen(path)
        try:
            return os.read(descriptor, _LARGEST_INDEX_BYTES)
        finally:
            os.close(descriptor)


def _incomplete(tree: Tree, streams: Sequence[FileEntry], has_playlists: bool) -> list[Problem]:
    """What an AVCHD tree lacks. It is copied all the same; the camera may want it back whole."""
    problems = []
    infos = {file.stem.upper(): file for file in tree.files if file.ending in {".CPI", ".CLPI"}}
    for stream in streams:
        info = infos.get(stream.stem.upper())
        try:
            whole = info is not None and is_clip_information(_small_file(tree, info))
        except DiadocheError:
            whole = False
        if not whole:
            what = "has no clip information" if info is None else "has clip information that is damaged"
            problems.append(_lacking(f"{stream.name} {what}.", stream.path))
    if not has_playlists:
        problems.append(
            _lacking("There is no playlist: which files make up one recording is taken from their times.", "")
        )
    names = {file.name.upper() for file in tree.files}
    for wanted, other, what in (
        ("INDEX.BDM", "INDEX.BDMV", "index"),
        ("MOVIEOBJ.BDM", "MOVIEOBJECT.BDMV", "movie object"),
    ):
        if wanted not in names and other not in names:
            problems.append(_lacking(f"The {what} ({wanted}) is missing.", ""))
    return problems


def _lacking(what: str, path: str) -> Problem:
    return Problem(
        what,
        path,
        "Everything that is there is copied; the streams stay usable.",
        "Offload the card again from its top folder if someone copied only a part of it.",
    )


def _missing_stream(name: str) -> Problem:
    return Problem(
        f"The playlist names the stream {shown(name)}, which is not there.",
        name,
        "Everything else is copied.",
        "Look for it on the camera: part of a recording is missing.",
    )


def _unlisted_stream(stream: FileEntry) -> Problem:
    return Problem(
        f"{stream.name} is in no playlist.",
        stream.path,
        "It is copied as a clip of its own.",
        "If the camera plays it, nothing needs doing.",
    )


def with_times(clip: Clip, duration_s: float | None, start: datetime | None) -> Clip:
    """The clip with what its headers told."""
    return replace(clip, duration_s=clip.duration_s if clip.duration_s is not None else duration_s, start=start)
