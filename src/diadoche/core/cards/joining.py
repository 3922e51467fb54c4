"""Files that become one clip by what their headers tell: numbered chapters, files cut at a size, lenses."""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, replace

from diadoche.core.cards.clips import Clip, Companion, joined
from diadoche.core.cards.layout import Layout, matched
from diadoche.core.errors import Problem
from diadoche.core.identify.alike import make_of
from diadoche.core.identify.facts import Facts
from diadoche.core.names import shown

# Spans follow each other within a second, at the exactness of recording times.
_SEAM_S = 1.5
# Common practice, no source: cameras cut at 2 or 4 GB (FAT32's largest file), some a little before.
_CUT_AT_BYTES = (2**31, 2**32)
_CUT_SHORT = 0.97
# Lenses that were started together stop within a few pictures of each other.
_SHORTER_S = 0.5

Heads = Mapping[str, Facts]


@dataclass(frozen=True, slots=True)
class Joined:
    """Clips after joining, and what went missing between their spans."""

    clips: tuple[Clip, ...]
    problems: tuple[Problem, ...]


def join(clips: Sequence[Clip], heads: Heads, layout: Layout, members: Sequence[str] = ("",)) -> Joined:
    """Joins what belongs together.

    Args:
        clips: one a file, in order of their names; those that playlists joined stay as they are.
        heads: facts by the first file of each clip.
        layout: the card's rules.
        members: the folders of the single cards where the tree holds a card set.
    """
    numbered, problems = _by_number(clips, heads, layout, members)
    runs = numbered if layout.joined_by != "times" else _by_times(numbered, heads)
    together, lens_problems = _by_lens(runs, layout, members)
    together.sort(key=lambda clip: clip.spans[0])
    return Joined(tuple(together), (*problems, *lens_problems))


def _rule_path(path: str, members: Sequence[str]) -> str:
    card = next((each for each in members if each and path.startswith(f"{each}/")), "")
    return path[len(card) + 1 :] if card else path


# -- numbered spans ------------------------------------------------------------------------------


def _by_number(
    clips: Sequence[Clip], heads: Heads, layout: Layout, members: Sequence[str]
) -> tuple[list[Clip], list[Problem]]:
    parts: dict[tuple[str, str], list[tuple[int, Clip]]] = defaultdict(list)
    others: list[Clip] = []
    for clip in clips:
        found = matched(layout.numbered, _rule_path(clip.spans[0], members))
        if found is None or clip.kind != "recording" or len(clip.spans) > 1:
            others.append(clip)
        else:
            parts[(found.groupdict().get("letters") or "").upper(), found["recording"].upper()].append(
                (int(found["part"]), clip)
            )
    problems: list[Problem] = []
    for run in parts.values():
        run.sort(key=lambda each: (each[1].spans[0].rpartition("/")[0], each[0]))
        others += _chapters(run, heads, problems)
    others.sort(key=lambda clip: clip.spans[0])
    return others, problems


def _chapters(run: list[tuple[int, Clip]], heads: Heads, problems: list[Problem]) -> list[Clip]:
    done: list[Clip] = []
    last: tuple[int, Clip] | None = None
    whole = len(run) > 1
    for number, clip in run:
        if last is None or number <= last[0] or not _alike(last[1], clip, heads):
            done.append(clip)
            if whole and last is None and number > 1:
                problems.append(_missing_part(clip, f"what comes before part {number}"))
        elif number > last[0] + 1:
            done.append(clip)
            problems.append(_missing_part(clip, f"part {last[0] + 1}"))
        elif _chapter_follows(done[-1], last[1], clip):
            done[-1] = joined(done[-1], clip)
        else:
            done.append(clip)
        last = number, clip
    return done


def _chapter_follows(whole: Clip, before: Clip, clip: Clip) -> bool:
    """Chapters tell the time of their own beginning, or that of the whole recording, or none."""
    if clip.start is None or before.start is None or whole.start is None or before.duration_s is None:
        return True
    since_before_s = (clip.start - before.start).total_seconds()
    return since_before_s == 0 or abs(since_before_s - before.duration_s) <= _SEAM_S or clip.start == whole.start


def _missing_part(clip: Clip, which: str) -> Problem:
    return Problem(
        f"Of the recording {shown(clip.name)} {which} is missing.",
        clip.spans[0],
        "The parts that are there are copied; they are not joined over the hole.",
        "Look for the missing part on the camera.",
    )


# -- spans that only their times tell --------------------------------------------------------------


def _by_times(clips: Sequence[Clip], heads: Heads) -> list[Clip]:
    done: list[Clip] = []
    last: Clip | None = None
    for clip in clips:
        if last is not None and done and _runs_on(last, clip, heads):
            done[-1] = joined(done[-1], clip)
        else:
            done.append(clip)
        last = clip
    return done


def _runs_on(before: Clip, clip: Clip, heads: Heads) -> bool:
    if before.kind != "recording" or clip.kind != "recording" or not _alike(before, clip, heads):
        return False
    if before.spans[0].rpartition("/")[0] != clip.spans[0].rpartition("/")[0] or not follows(before, clip):
        return False
    runs_on = _timecode_runs_on(heads[before.spans[0]], heads[clip.spans[0]])
    if runs_on is not None:
        return runs_on
    return any(limit * _CUT_SHORT <= before.size_bytes <= limit for limit in _CUT_AT_BYTES)


def follows(before: Clip, clip: Clip) -> bool:
    """Whether a clip begins when the one before it ends, by their recording times."""
    if before.start is None or clip.start is None or before.duration_s is None:
        return False
    return abs((clip.start - before.start).total_seconds() - before.duration_s) <= _SEAM_S


def _timecode_runs_on(before: Facts, after: Facts) -> bool | None:
    """Whether the second label is the one after the first file's last; None where either has none."""
    if not before.video or not after.video:
        return None
    labels, second = before.video[0].labels, after.video[0].timecode
    if labels is None or second is None:
        return None
    frames = before.frames or round(before.duration_s * float(before.video[0].frame_rate))
    return any(str(labels.at(frames + slip)) == second for slip in (0, -1, 1))


def _alike(before: Clip, clip: Clip, heads: Heads) -> bool:
    one, other = heads.get(before.spans[0]), heads.get(clip.spans[0])
    return one is not None and other is not None and make_of(one) == make_of(other)


# -- lenses --------------------------------------------------------------------------------------


def _by_lens(clips: Sequence[Clip], layout: Layout, members: Sequence[str]) -> tuple[list[Clip], list[Problem]]:
    """Files of several lenses as one clip: the lowest lens leads, the others and the stitched file are companions."""
    takes: dict[str, list[tuple[int, Clip]]] = defaultdict(list)
    stitched: dict[str, Clip] = {}
    others: list[Clip] = []
    for clip in clips:
        path = _rule_path(clip.spans[0], members)
        if lens := matched(layout.lenses, path):
            takes[lens["recording"].upper()].append((int(lens["lens"]), clip))
        elif low := matched(layout.stitched, path):
            stitched[low["recording"].upper()] = clip
        else:
            others.append(clip)
    problems: list[Problem] = []
    expected = sorted({lens for take in takes.values() for lens, _ in take})
    for name, take in takes.items():
        take.sort(key=lambda each: each[0])
        if members != ("",) or not layout.cards_a_set:
            problems += lens_problems(name, dict(take), expected)
        # Numbers that start at nothing are marks of the camera's own: people count lenses from one.
        counted = [(expected.index(lens) + 1, clip) for lens, clip in take] if expected[0] < 1 else take
        others.append(_one_take(counted, stitched.pop(name, None)))
    return others + list(stitched.values()), problems


def _one_take(take: Sequence[tuple[int, Clip]], stitched: Clip | None) -> Clip:
    (_, first), *more = take
    companions = list(first.companions)
    size = first.size_bytes
    for lens, clip in more:
        companions += [Companion(span, f"lens {lens}") for span in clip.spans]
        companions += clip.companions
        size += clip.size_bytes
    if stitched is not None:
        companions += [Companion(span, "stitched") for span in stitched.spans]
    return replace(first, companions=tuple(companions), size_bytes=size)


def lens_problems(take: str, lenses: Mapping[int, Clip], expected: Sequence[int]) -> list[Problem]:
    """The lenses of one take that are missing, and those that recorded less than the longest."""
    problems = []
    for lens in expected:
        if lens not in lenses:
            problems.append(
                Problem(
                    f"Take {shown(take)} lacks lens {lens}.",
                    next(iter(lenses.values())).spans[0],
                    "The other lenses are copied.",
                    f"Look for it on the card of lens {lens}: without it the sphere has a hole.",
                )
            )
    longest = max((clip.duration_s or 0 for clip in lenses.values()), default=0.0)
    for lens, clip in sorted(lenses.items()):
        if clip.duration_s is not None and longest - clip.duration_s > _SHORTER_S:
            problems.append(
                Problem(
                    f"Take {shown(take)}: lens {lens} is {longest - clip.duration_s:.1f} s shorter than the longest.",
                    clip.spans[0],
                    "It is copied as it is.",
                    "Only the part that all lenses have can be stitched whole.",
                )
            )
    return problems
