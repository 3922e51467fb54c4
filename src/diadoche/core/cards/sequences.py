"""Numbered runs of pictures: a recording where a layout says so; stills only where they came evenly in time."""

from __future__ import annotations

import itertools
import re
import statistics
from collections import defaultdict
from collections.abc import Sequence

from diadoche.core.cards.clips import Clip
from diadoche.core.cards.layout import Layout, MemberFile, matched
from diadoche.core.errors import Problem
from diadoche.core.names import shown

# Common practice, no source: nobody presses the button so often, so evenly.
_FEWEST_STILLS = 8
_LONGEST_INTERVAL_S = 120.0
# Times of files are kept to two seconds on FAT.
_UNEVEN_S = 2.0


def sequence_clips(files: Sequence[MemberFile], layout: Layout) -> tuple[list[Clip], list[Problem]]:
    """The recordings that consist of one picture file a frame, and what is missing among their numbers."""
    runs: dict[tuple[str, str, str], list[tuple[int, MemberFile]]] = defaultdict(list)
    for file in files:
        found = matched(layout.sequences, file.rule_path)
        if found is not None:
            folder = file.entry.path.rpartition("/")[0]
            runs[folder, found["recording"].upper(), file.entry.ending].append((int(found["number"]), file))
    clips = [_sequence(run) for run in runs.values()]
    return clips, [_gap(clip) for clip in clips if clip.gaps]


def even_runs(stills: Sequence[MemberFile]) -> tuple[list[Clip], list[MemberFile]]:
    """Runs of stills with numbers and times that follow each other evenly, and the stills that are left."""
    clips, left = [], []
    for run in _numbered_runs(stills):
        if len(run) >= _FEWEST_STILLS and _evenly_timed([file for _, file in run]):
            clips.append(_sequence(run))
        else:
            left += [file for _, file in run]
    left.sort(key=lambda file: file.entry.path)
    return clips, left


def _numbered_runs(stills: Sequence[MemberFile]) -> list[list[tuple[int, MemberFile]]]:
    named: dict[tuple[str, str, str], list[tuple[int, MemberFile]]] = defaultdict(list)
    for file in stills:
        digits = re.search(r"(\d+)$", file.entry.stem)
        folder = file.entry.path.rpartition("/")[0]
        letters = file.entry.stem[: digits.start()] if digits else file.entry.stem
        named[folder, letters, file.entry.ending].append((int(digits[1]) if digits else 0, file))
    runs = []
    for numbered in named.values():
        numbered.sort(key=lambda each: each[0])
        run = numbered[:1]
        for before, each in itertools.pairwise(numbered):
            if each[0] != before[0] + 1 or not _near(before[1], each[1]):
                runs.append(run)
                run = []
            run.append(each)
        runs.append(run)
    return runs


def _near(before: MemberFile, after: MemberFile) -> bool:
    return 0 <= after.entry.changed_ns - before.entry.changed_ns <= _LONGEST_INTERVAL_S * 1e9


def _evenly_timed(files: Sequence[MemberFile]) -> bool:
    steps = [(after.entry.changed_ns - before.entry.changed_ns) / 1e9 for before, after in itertools.pairwise(files)]
    usual = statistics.median(steps)
    return usual > 0 and all(abs(step - usual) <= min(_UNEVEN_S, max(0.25, usual)) for step in steps)


def _sequence(run: list[tuple[int, MemberFile]]) -> Clip:
    run = sorted(run, key=lambda each: (each[0], each[1].entry.path))
    numbers = {number for number, _ in run}
    first = run[0][1].entry
    folder = first.path.rpartition("/")[0].rpartition("/")[2]
    letters = re.sub(r"\d+$", "", first.stem).rstrip("_-. ")
    return Clip(
        letters or folder or first.stem,
        tuple(file.entry.path for _, file in run),
        (),
        sum(file.entry.size_bytes for _, file in run),
        kind="sequence",
        gaps=tuple(sorted(set(range(min(numbers), max(numbers) + 1)) - numbers)),
    )


def _gap(clip: Clip) -> Problem:
    count = len(clip.gaps)
    which = f"picture {clip.gaps[0]}" if count == 1 else f"{count} pictures, the first of them number {clip.gaps[0]}"
    return Problem(
        f"{shown(clip.name)} lacks {which}.",
        clip.spans[0],
        "The pictures that are there are copied.",
        "Look for the missing ones on the camera: they are not made up when the clip is converted.",
    )
