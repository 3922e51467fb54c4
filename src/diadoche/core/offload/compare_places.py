"""How two places for copies differ: by what their manifests say, and by reading what stands there."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field
from pathlib import Path

from diadoche.core.errors import DiadocheError, Problem
from diadoche.core.names import unique_name
from diadoche.core.offload.expected import ExpectedFile, Outcome
from diadoche.core.offload.found_copies import copies_below
from diadoche.core.offload.journal import is_unfinished, read_journal
from diadoche.core.offload.manifest_reading import identity_of, read_history
from diadoche.core.offload.verify import Verdict, verify
from diadoche.core.watch import Watch


@dataclass(frozen=True, slots=True)
class Pair:
    """A copy, and where the other place has one of the same taking of the card, or is to have it."""

    source: Path
    target: Path


@dataclass(slots=True)
class Unlike:
    """How two places differ.

    Args:
        wanting_here: copies that are finished in the second place, and unfinished or not there in the first.
        wanting_there: the same the other way round.
        missing_here: for each pair of copies, files that the first place's lacks and the second's has, by its names.
        missing_there: the same the other way round.
        differing: files that are not what they have to be, or that the copies disagree about.
        problems: what could not be looked at or compared, and unfinished copies that nothing here can complete.
    """

    wanting_here: list[Pair] = field(default_factory=list)
    wanting_there: list[Pair] = field(default_factory=list)
    missing_here: dict[Pair, tuple[str, ...]] = field(default_factory=dict)
    missing_there: dict[Pair, tuple[str, ...]] = field(default_factory=dict)
    differing: list[str] = field(default_factory=list)
    problems: list[Problem] = field(default_factory=list)


def compare_places(here: Path, there: Path, watch: Watch) -> Unlike:
    """Compares two places. Every file of copies that both have is read; nothing is changed.

    Copies belong together that are of one taking of a card, wherever they lie; without that, those at the same path
    whose manifests or journals do not contradict each other.

    Raises:
        Cancelled: the watch was stopped.
    """
    unlike = Unlike()
    ours, theirs = _found(here, unlike, watch), _found(there, unlike, watch)
    for one, other in _paired(ours, theirs):
        watch.check()
        if one is not None and other is not None and one.finished and other.finished:
            try:
                _compare(one, other, unlike, watch)
            except DiadocheError as error:
                unlike.problems.append(error.problem)
        elif one is not None and one.finished:
            unlike.wanting_there.append(Pair(one.root, other.root if other else _free_root(there, one, theirs)))
        elif other is not None and other.finished:
            unlike.wanting_here.append(Pair(other.root, one.root if one else _free_root(here, other, ours)))
        else:
            unlike.problems += [_unfinished(each.root) for each in (one, other) if each is not None]
    return unlike


@dataclass(frozen=True, slots=True)
class _Standing:
    """A copy in one of the places."""

    root: Path
    relative: Path
    taking: str
    fingerprint: str
    finished: bool


def _found(place: Path, unlike: Unlike, watch: Watch) -> list[_Standing]:
    below = copies_below(place, watch)
    unlike.problems += below.unlisted
    found = []
    for root in below.roots:
        journal = read_journal(root)
        taking = journal.identity.taking if journal is not None else identity_of(root).taking
        fingerprint = journal.fingerprint if journal is not None else ""
        found.append(_Standing(root, root.relative_to(place), taking, fingerprint, not is_unfinished(root)))
    return found


def _paired(ours: list[_Standing], theirs: list[_Standing]) -> list[tuple[_Standing | None, _Standing | None]]:
    """Copies of one taking together; of several in one place the finished one at the same path, then any."""
    left, pairs = list(theirs), list[tuple[_Standing | None, _Standing | None]]()
    for one in sorted(ours, key=lambda each: (not each.finished, each.relative)):
        alike = [each for each in left if _may_be_one(one, each)]
        best = max(alike, key=lambda each: (each.finished, each.relative == one.relative), default=None)
        if best is not None:
            left.remove(best)
        elif one.taking and any(one.taking == each.taking for each in theirs):
            # A second copy of that taking, made by hand or on purpose: the other place has one already.
            continue
        pairs.append((one, best))
    known = {each.taking for each in ours if each.taking}
    pairs += [(None, each) for each in left if each.taking not in known]
    return pairs


def _may_be_one(one: _Standing, other: _Standing) -> bool:
    if one.taking and other.taking:
        return one.taking == other.taking
    return one.relative == other.relative


def _free_root(place: Path, copy: _Standing, taken: list[_Standing]) -> Path:
    """Where a copy goes in a place that has none of it: the same path, or a free name beside another card's."""
    used = {each.relative for each in taken}
    name = unique_name(
        copy.relative.name, lambda each: copy.relative.with_name(each) in used or _stands(place / copy.relative, each)
    )
    return place / copy.relative.with_name(name)


def _stands(root: Path, name: str) -> bool:
    path = root.with_name(name)
    return path.is_symlink() or (path.exists() and (not path.is_dir() or any(path.iterdir())))


def _compare(one: _Standing, other: _Standing, unlike: Unlike, watch: Watch) -> None:
    """Two finished copies, file by file: by what each is on the card, whatever it is called in either."""
    verdicts = verify(one.root, watch), verify(other.root, watch)
    promises = [{file.path: file for file in read_history(each.root).files.values()} for each in (one, other)]
    common = {
        path
        for path in promises[0].keys() & promises[1].keys()
        if promises[0][path].outcome(promises[1][path].digests) is Outcome.EQUAL
    }
    unlike.differing += [
        f"{one.relative}/{path}" for path in sorted((promises[0].keys() | promises[1].keys()) - common)
    ]
    for verdict, promise in zip(verdicts, promises, strict=True):
        bad = {*verdict.changed, *verdict.not_compared}
        names = [f"{one.relative}/{path}" for path, file in promise.items() if file.kept_as in bad]
        unlike.differing += [name for name in names if name not in unlike.differing]
    lost = [_lost(verdict, promise) for verdict, promise in zip(verdicts, promises, strict=True)]
    for number, (found, pair) in enumerate(
        ((unlike.missing_here, Pair(other.root, one.root)), (unlike.missing_there, Pair(one.root, other.root)))
    ):
        giver, giving = verdicts[1 - number], promises[1 - number]
        bad_there = {*giver.missing, *giver.changed, *giver.not_compared}
        names = [giving[path].kept_as for path in sorted(lost[number] & common)]
        if paths := tuple(name for name in names if name not in bad_there):
            found[pair] = paths
    unlike.differing += [f"{one.relative}/{path}" for path in sorted(lost[0] & lost[1])]
    unlike.problems += [*verdicts[0].problems, *verdicts[1].problems]


def _lost(verdict: Verdict, promise: Mapping[str, ExpectedFile]) -> set[str]:
    return {path for path, file in promise.items() if file.kept_as in verdict.missing}


def _unfinished(root: Path) -> Problem:
    return Problem(
        f"{root} is an unfinished copy, and nothing here can complete it.",
        str(root),
        "It was left as it is, and not copied.",
        "Offload its card again, or complete it from a proven copy of that card.",
    )
