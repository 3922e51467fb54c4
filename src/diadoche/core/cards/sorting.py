"""From the files of a card to recordings, stills and companions, by its layout's rules alone.

No file's content decides, but that of playlists, and of unknown endings where the layout lets it.
"""

from __future__ import annotations

import re
from collections import defaultdict
from collections.abc import Sequence
from dataclasses import dataclass, replace

from diadoche.core.cards.clips import Clip, Companion
from diadoche.core.cards.layout import Layout, MemberFile, matched
from diadoche.core.cards.needs import missing
from diadoche.core.cards.playlists import by_playlists
from diadoche.core.cards.sequences import even_runs, sequence_clips
from diadoche.core.cards.tree import FileEntry, Tree
from diadoche.core.errors import Problem
from diadoche.core.identify.container import RECORDINGS, container_of
from diadoche.core.names import shown

_ROLES = (
    "low-resolution",
    "stitched",
    "thumbnail",
    "telemetry",
    "sound",
    "spoken note",
    "metadata",
    "clip information",
)
# A file that no rule names is looked into only where it could hold a picture.
_SNIFFED_FROM_BYTES = 4096


@dataclass(frozen=True, slots=True)
class Sorted:
    """What the files of a card are. `clips` are not yet joined by what their headers tell."""

    clips: tuple[Clip, ...]
    stills: tuple[str, ...]
    problems: tuple[Problem, ...]


def sort_files(tree: Tree, layout: Layout, members: Sequence[str] = ("",), *, stills_apart: bool = False) -> Sorted:
    """Groups the files of a card into clips and stills, and names what is missing.

    Args:
        tree: the card's files.
        layout: its rules.
        members: the folders of the single cards where the tree holds a card set.
        stills_apart: numbered runs of stills stay single pictures.

    Raises:
        SourceLost: the card went away while its index files were read.
    """
    files = [file for member in members for file in _of_member(tree, member)]
    recordings = [file for file in files if _is_recording(file, tree, layout)]
    streams = [file.entry for file in recordings]
    runs: list[list[FileEntry]] = [[stream] for stream in streams]
    durations: dict[str, float] = {}
    problems = [_empty(file) for file in streams if file.size_bytes == 0]
    if layout.joined_by == "playlists":
        runs, durations, index_problems = by_playlists(tree, streams)
        problems += index_problems
    problems += missing(tree, files, layout)
    sequences, gaps = sequence_clips(files, layout)
    companions = _companions(files, {file.entry.path for file in recordings}, layout)
    clips = [_clip(run, companions, durations, layout) for run in runs]
    clips += [_with_companions(clip, companions, layout) for clip in sequences]
    taken = {span for clip in sequences for span in clip.spans}
    stills = [file for file in files if layout.is_still(file.rule_path) and file.entry.path not in taken]
    if not stills_apart:
        even, stills = even_runs(stills)
        clips += even
    clips.sort(key=lambda clip: clip.spans[0])
    return Sorted(tuple(clips), tuple(each.entry.path for each in stills), (*problems, *gaps))


def _of_member(tree: Tree, member: str) -> list[MemberFile]:
    start = f"{member}/" if member else ""
    return [MemberFile(file, member) for file in tree.files if file.path.startswith(start)]


def _is_recording(file: MemberFile, tree: Tree, layout: Layout) -> bool:
    path = file.rule_path
    if layout.is_clip(path):
        return True
    known = layout.is_still(path) or file.entry.ending.lstrip(".") in layout.companions
    if known or not layout.may_be_clip(path) or file.entry.size_bytes < _SNIFFED_FROM_BYTES:
        return False
    try:
        return container_of(tree.root / file.entry.path) in RECORDINGS
    except OSError:
        return False


def _empty(file: FileEntry) -> Problem:
    return Problem(
        f"{shown(file.path)} is empty.", file.path, "It is copied as it is.", "Look for the clip on the camera."
    )


def _companions(files: Sequence[MemberFile], recordings: set[str], layout: Layout) -> dict[str, list[Companion]]:
    """Companions by their clip: by folder and stem, by stem alone where they lie elsewhere, by number and chapter."""
    found: dict[str, list[Companion]] = defaultdict(list)
    for file in files:
        if file.entry.path in recordings:
            continue
        paired = next(
            ((rule, match) for rule in layout.paired if (match := matched(rule.pattern, file.rule_path))), None
        )
        role = layout.companions.get(file.entry.ending.lstrip("."))
        if paired is not None:
            found[_stem_key(file.card, paired[1]["clip"])].append(Companion(file.entry.path, paired[0].role))
        elif role is not None:
            companion = Companion(file.entry.path, role)
            for key in _keys(file, layout):
                found[key].append(companion)
    for companions in found.values():
        companions.sort(key=lambda each: (_ROLES.index(each.role) if each.role in _ROLES else 99, each.path))
    return found


def _stem_key(card: str, stem: str) -> str:
    return f"{card}//{stem}".upper()


def _keys(file: MemberFile, layout: Layout) -> list[str]:
    """What a companion by its ending may be found under, the nearest first."""
    entry = file.entry
    if layout.joined_by == "playlists":
        return [_stem_key(file.card, entry.stem)]
    keys = [f"{entry.path.rpartition('/')[0]}/{entry.stem}".upper()]
    # The letters in front may differ: GL010001 belongs to GX010001 by chapter and number.
    number = matched(layout.numbered, f"{file.rule_path.rpartition('.')[0]}.MP4")
    return [*keys, _chapter_key(entry.path.rpartition("/")[0], number)] if number else keys


def _clip(
    run: list[FileEntry], companions: dict[str, list[Companion]], durations: dict[str, float], layout: Layout
) -> Clip:
    known = [durations[span.path] for span in run if span.path in durations]
    clip = Clip(
        run[0].stem,
        tuple(span.path for span in run),
        (),
        sum(span.size_bytes for span in run),
        sum(known) if len(known) == len(run) else None,
    )
    return _with_companions(clip, companions, layout)


def _span_keys(span: str, layout: Layout) -> list[str]:
    folder, _, name = span.rpartition("/")
    stem = name.rpartition(".")[0] or name
    card = span.split("/")[0]
    keys = [f"{folder}/{stem}".upper(), _stem_key("", stem), _stem_key(card, stem)]
    number = matched(layout.numbered, span)
    if number is not None:
        whole = number["recording"].rpartition("/")[2]
        keys += [_chapter_key(folder, number), _stem_key("", whole), f"{folder}/{whole}".upper()]
    return keys


def _chapter_key(folder: str, number: re.Match[str]) -> str:
    return f"{folder}#{number['part']}#{number['recording']}".upper()


def _with_companions(clip: Clip, companions: dict[str, list[Companion]], layout: Layout) -> Clip:
    if clip.kind == "sequence":
        folder = clip.spans[0].rpartition("/")[0]
        named = companions.get(_stem_key("", folder.rpartition("/")[2]), [])
        return replace(clip, companions=tuple(each for each in named if each.path.startswith(f"{folder}/")))
    found: list[Companion] = []
    for span in clip.spans:
        for key in _span_keys(span, layout):
            found += companions.get(key, [])
    return replace(clip, companions=tuple(dict.fromkeys(found)))
