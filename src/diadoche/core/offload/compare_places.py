"""How two places for copies differ: by what their manifests say, and by reading what stands there."""

from __future__ import annotations

from collections.abc import Callable, Mapping
from dataclasses import dataclass, field
from pathlib import Path

from diadoche.core.errors import DiadocheError, Problem
from diadoche.core.offload.digest_file import agree
from diadoche.core.offload.found_copies import copies_below
from diadoche.core.offload.journal import is_unfinished
from diadoche.core.offload.manifests import read_listed
from diadoche.core.offload.verify import Verdict, verify
from diadoche.core.watch import Watch


@dataclass(slots=True)
class Unlike:
    """How two places differ; paths of copies are relative to their places.

    Args:
        only_here: finished copies that only the first place has.
        only_there: the same of the second.
        wanting_here: copies that are unfinished in the first place, and finished in the second.
        wanting_there: the same the other way round.
        missing_here: files of a common copy that the first place lacks, and the second has as listed.
        missing_there: the same the other way round.
        differing: files that are not what their manifest says, or that the manifests disagree about.
        problems: copies that could not be compared, and unfinished ones that nothing here can complete.
    """

    only_here: list[Path] = field(default_factory=list)
    only_there: list[Path] = field(default_factory=list)
    wanting_here: list[Path] = field(default_factory=list)
    wanting_there: list[Path] = field(default_factory=list)
    missing_here: dict[Path, tuple[str, ...]] = field(default_factory=dict)
    missing_there: dict[Path, tuple[str, ...]] = field(default_factory=dict)
    differing: list[str] = field(default_factory=list)
    problems: list[Problem] = field(default_factory=list)


def compare_places(here: Path, there: Path, watch: Watch) -> Unlike:
    """Compares two places. Every file of copies that both have is read; nothing is changed.

    Raises:
        Cancelled: the watch was stopped.
    """
    unlike = Unlike()
    ours = {root.relative_to(here) for root in copies_below(here)}
    theirs = {root.relative_to(there) for root in copies_below(there)}
    for copy in sorted(ours | theirs):
        watch.check()
        states = _state(here / copy, copy in ours), _state(there / copy, copy in theirs)
        if states == (_FINISHED, _FINISHED):
            try:
                _compare(copy, here, there, unlike, watch)
            except DiadocheError as error:
                unlike.problems.append(error.problem)
        elif states in _ONE_HAS_IT:
            _ONE_HAS_IT[states](unlike).append(copy)
        else:
            unlike.problems.append(_unfinished(here / copy if states[0] == _UNFINISHED else there / copy))
    return unlike


_ABSENT, _UNFINISHED, _FINISHED = "absent", "unfinished", "finished"
# What follows where one place has a finished copy and the other has none, or half of one.
_ONE_HAS_IT: dict[tuple[str, str], Callable[[Unlike], list[Path]]] = {
    (_FINISHED, _ABSENT): lambda unlike: unlike.only_here,
    (_ABSENT, _FINISHED): lambda unlike: unlike.only_there,
    (_UNFINISHED, _FINISHED): lambda unlike: unlike.wanting_here,
    (_FINISHED, _UNFINISHED): lambda unlike: unlike.wanting_there,
}


def _state(root: Path, is_there: bool) -> str:
    if not is_there:
        return _ABSENT
    return _UNFINISHED if is_unfinished(root) else _FINISHED


def _compare(copy: Path, here: Path, there: Path, unlike: Unlike, watch: Watch) -> None:
    one, other = verify(here / copy, watch), verify(there / copy, watch)
    listed_here, listed_there = read_listed(here / copy)[1].digests, read_listed(there / copy)[1].digests
    common = {path for path in listed_here.keys() & listed_there.keys() if agree(listed_here[path], listed_there[path])}
    unlike.differing += [f"{copy}/{path}" for path in sorted((listed_here.keys() | listed_there.keys()) - common)]
    for verdict, listed in ((one, listed_here), (other, listed_there)):
        bad = [path for path in verdict.changed if path in common or path in listed]
        unlike.differing += [f"{copy}/{path}" for path in bad if f"{copy}/{path}" not in unlike.differing]
    _note_missing(unlike.missing_here, copy, one, other, common)
    _note_missing(unlike.missing_there, copy, other, one, common)
    both_lost = sorted(set(one.missing) & set(other.missing))
    unlike.differing += [f"{copy}/{path}" for path in both_lost]
    unlike.problems += [*one.problems, *other.problems]


def _note_missing(
    found: dict[Path, tuple[str, ...]], copy: Path, lacking: Verdict, having: Verdict, common: set[str]
) -> None:
    bad: Mapping[str, None] = dict.fromkeys((*having.missing, *having.changed))
    paths = tuple(path for path in lacking.missing if path in common and path not in bad)
    if paths:
        found[copy] = paths


def _unfinished(root: Path) -> Problem:
    return Problem(
        f"{root} is an unfinished copy, and nothing here can complete it.",
        str(root),
        "It was left as it is, and not copied.",
        "Offload its card again, or complete it from a proven copy of that card.",
    )
