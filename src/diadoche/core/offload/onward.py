"""Copying a proven copy on: what its manifests promise is compared before anything gets a name at the new place."""

from __future__ import annotations

from collections.abc import Callable, Mapping
from pathlib import Path

from diadoche.core.answering import NoAnswer, answered
from diadoche.core.cards.tree import Tree
from diadoche.core.disks import Disk, disk_of, limits_of
from diadoche.core.errors import MediaError, Problem, RequestError
from diadoche.core.names import shown
from diadoche.core.offload.digests import DEFAULT_DIGEST, DIGESTS
from diadoche.core.offload.expected import CardTruth, Outcome, Promise
from diadoche.core.offload.found_copies import copy_tree
from diadoche.core.offload.identity import new_id, same_taking
from diadoche.core.offload.journal import Journal, is_unfinished, read_journal
from diadoche.core.offload.kept_names import kept_names
from diadoche.core.offload.manifest_reading import read_history
from diadoche.core.offload.naming import NamingValues
from diadoche.core.offload.plan import OffloadPlan, Target
from diadoche.core.offload.preflight import Room, no_answer, not_reachable, unusable_reason
from diadoche.core.watch import Watch


def plan_onward(
    root: Path,
    targets: Mapping[Path, Path],
    filed_under: NamingValues,
    watch: Watch,
    find_disk: Callable[[Path], Disk] = disk_of,
    card: CardTruth | None = None,
) -> OffloadPlan:
    """The plan of copying a proven copy on; `offload` carries it out, and the chain of manifests goes along.

    What the manifests list and the copy has lost is a problem of the plan: no new copy is whole then.

    Args:
        root: the proven copy.
        targets: for each place, the folder below it that the new copy gets; one of the same taking of the card that
            stands there unfinished is completed.
        filed_under: what the copy is filed under.
        watch: told while the copy is listed.
        find_disk: tells the physical disk of a folder.
        card: what the ledger kept of the card's own reading; needed where the manifests were altered.

    Raises:
        MediaError: the copy has no manifest, or nothing vouches for what it says.
        RequestError: it says of itself that it is not whole, or a target lies inside it.
    """
    if is_unfinished(root):
        raise RequestError(
            f"{root} is not a whole copy.", path=root, safe="Nothing was written.", do="Choose a proven copy."
        )
    promise = read_history(root, card=card)
    if not promise.counts:
        raise _altered(root, promise)
    tree = copy_tree(root, watch, promise.files)
    for target in targets.values():
        if _resolved(target) == root.resolve() or root.resolve() in _resolved(target).parents:
            raise RequestError(f"{target} lies in the copy itself.", path=target, do="Choose a folder on another disk.")
    made = [_target(place, target, tree, promise, find_disk) for place, target in targets.items()]
    journals = [journal for each in made if each.resumed and (journal := read_journal(each.root))]
    taking = promise.identity.taking or next((each.identity.taking for each in journals), "") or new_id()
    return OffloadPlan(
        root,
        filed_under,
        tree.files,
        tree.folders,
        journals[0].fingerprint if journals else tree.fingerprint(),
        _digests_of(promise),
        tuple(made),
        not promise.less_than_whole,
        left_out=tree.left_out,
        unlisted=tree.unlisted,
        promised=promise.digests,
        history=root,
        lost=_lost(root, tree, promise),
        card_paths={name: file.path for name, file in promise.files.items() if name != file.path},
        taking=taking,
    )


def _altered(root: Path, promise: Promise) -> MediaError:
    return MediaError(
        f"The manifests of {root} are not as they were written. {' '.join(promise.problems[:2])}",
        path=root,
        safe="Nothing was written: what they say counts for nothing now.",
        do="Use another copy of this card, or a ledger that knows what came off it.",
    )


def _resolved(path: Path) -> Path:
    try:
        return answered(path.resolve)
    except OSError:
        return path.absolute()


def _lost(root: Path, tree: Tree, promise: Promise) -> tuple[Problem, ...]:
    there = {file.path for file in tree.files}
    missing = [path for path in promise.files if path not in there]
    lost = tuple(
        Problem(
            f"{shown(path)} is listed in the manifest of {root}, and is not there any more.",
            str(root / path),
            "What is there is copied on; no copy made from it is whole.",
            "Fetch the file from another proven copy first.",
        )
        for path in missing
    )
    unknown = [path for path in sorted(there) if path in promise.files and not promise.files[path].digests]
    lost += tuple(
        Problem(
            f"{shown(path)} cannot be compared with anything: no digest that is known here is listed for it.",
            str(root / path),
            "It is copied, and not counted as proven.",
            "Verify it with the tool that wrote the manifest.",
        )
        for path in unknown
    )
    if not promise.not_whole:
        return lost
    unfinished = Problem(
        f"The manifest of {root} says that it is not whole.",
        str(root),
        "What is there is copied on; no copy made from it is whole.",
        "Offload the card again, or complete the copy from another one.",
    )
    return (unfinished, *lost)


def _target(place: Path, root: Path, tree: Tree, promise: Promise, find_disk: Callable[[Path], Disk]) -> Target:
    def look() -> Target:
        limits = limits_of(place)
        names = kept_names([*(each.path for each in tree.folders), *(each.path for each in tree.files)], limits)
        journal = read_journal(root)
        problem = _not_of(journal, root, tree, promise) or unusable_reason(place, tree.files, limits)
        there = journal.copied if journal is not None else {}
        needed = sum(file.size_bytes for file in tree.files if file.path not in there)
        problem = problem or Room.of(place).missing(place, needed, 0, 0)
        return Target(place, root, journal is not None, problem, find_disk(place), names, limits)

    try:
        return answered(look, f"look at {place.name}")
    except NoAnswer:
        return Target(place, root, problem=no_answer(place))
    except OSError as error:
        return Target(place, root, problem=not_reachable(place, error))


def _not_of(journal: Journal | None, root: Path, tree: Tree, promise: Promise) -> Problem | None:
    """What speaks against going on in a folder: it has to be of the same taking of the same card."""
    if journal is None:
        return _standing_copy(root) if is_unfinished(root) or _has_something(root) else None
    if same_taking(journal.identity, promise.identity) or _same_card(journal, tree, promise):
        return None
    return Problem(
        f"{root} is an unfinished copy of another card.",
        str(root),
        "Nothing was written there, and nothing was changed.",
        "Choose another place.",
    )


def _same_card(journal: Journal, tree: Tree, promise: Promise) -> bool:
    """Whether an unfinished copy of another taking, or of an older version, is of this card.

    The card has to look the same, and everything that stands in the copy has to be what this one has: then nothing is
    lost by making it a copy of this taking.
    """
    by_card = {file.path: file for file in promise.files.values()}
    for path, file in journal.copied.items():
        expected = by_card.get(path)
        if expected is None or expected.outcome(file.digests) is not Outcome.EQUAL:
            return False
    alike = journal.fingerprint in {tree.fingerprint(), tree.fingerprint(journal.unlisted)}
    return alike or (bool(journal.copied) and not journal.identity.taking)


def _has_something(root: Path) -> bool:
    return root.is_dir() and any(root.iterdir())


def _standing_copy(root: Path) -> Problem:
    return Problem(
        f"Something stands at {root} already.",
        str(root),
        "Nothing was written there, and nothing was changed.",
        "Verify it if it is a copy of this card, fetch single files with restore, or choose another place.",
    )


def _digests_of(promise: Promise) -> tuple[str, ...]:
    """The kinds that have to be computed so that every file is compared; the one that most are listed with first."""
    names = [name for file in promise.files.values() for name in file.digests]
    if not names:
        return (DEFAULT_DIGEST,)
    chosen = [max(sorted(set(names)), key=names.count)]
    for file in promise.files.values():
        if file.digests and not any(name in file.digests for name in chosen):
            chosen.append(next(name for name in DIGESTS if name in file.digests))
    return tuple(chosen)
