"""The recordings of an AVCHD tree by its playlists, and what the tree lacks."""

from __future__ import annotations

from collections.abc import Sequence

from diadoche.core.cards.avchd import PlayItem, is_clip_information, read_playlist
from diadoche.core.cards.tree import FileEntry, Tree, read_small
from diadoche.core.errors import DiadocheError, Problem
from diadoche.core.names import shown


def by_playlists(
    tree: Tree, streams: Sequence[FileEntry]
) -> tuple[list[list[FileEntry]], dict[str, float], list[Problem]]:
    """Streams of one recording together, what each plays in seconds by its path, and what is missing.

    Raises:
        SourceLost: the card went away meanwhile.
    """
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
            for item in read_playlist(read_small(tree, file), shown(file.path)):
                if item.clip not in seen:
                    seen.add(item.clip)
                    items.append(item)
        except DiadocheError as error:
            problems.append(error.problem)
    return items, problems


def _incomplete(tree: Tree, streams: Sequence[FileEntry], has_playlists: bool) -> list[Problem]:
    """What an AVCHD tree lacks. It is copied all the same; the camera may want it back whole."""
    problems = []
    infos = {file.stem.upper(): file for file in tree.files if file.ending in {".CPI", ".CLPI"}}
    for stream in streams:
        info = infos.get(stream.stem.upper())
        try:
            whole = info is not None and is_clip_information(read_small(tree, info))
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
