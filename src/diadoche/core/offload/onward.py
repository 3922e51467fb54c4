"""Copying a proven copy on: what its manifests promise is compared before anything gets a name at the new place."""

from __future__ import annotations

from collections.abc import Callable, Mapping
from pathlib import Path

from diadoche.core.answering import NoAnswer, answered
from diadoche.core.cards.tree import Tree
from diadoche.core.disks import Disk, disk_of, limits_of
from diadoche.core.errors import Problem, RequestError
from diadoche.core.names import shown
from diadoche.core.offload.digest_file import contradict
from diadoche.core.offload.digests import DEFAULT_DIGEST
from diadoche.core.offload.found_copies import copy_tree
from diadoche.core.offload.journal import Journal, is_unfinished, read_journal
from diadoche.core.offload.kept_names import kept_names
from diadoche.core.offload.mhl import Listed, read_history
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
) -> OffloadPlan:
    """The plan of copying a proven copy on; `offload` carries it out, and the chain of manifests goes along.

    What the manifests list and the copy has lost is a problem of the plan: no new copy is whole then.

    Args:
        root: the proven copy.
        targets: for each place, the folder below it that the new copy gets; one of the same card that stands
            there unfinished is completed.
        filed_under: what the copy is filed under.
        watch: told while the copy is listed.
        find_disk: tells the physical disk of a folder.

    Raises:
        MediaError: the copy has no manifest.
        RequestError: it says of itself that it is not whole, or a target lies inside it.
    """
    if is_unfinished(root):
        raise RequestError(
            f"{root} is not a whole copy.", path=root, safe="Nothing was written.", do="Choose a proven copy."
        )
    listed = read_history(root)
    tree = copy_tree(root, watch)
    for target in targets.values():
        if _resolved(target) == root.resolve() or root.resolve() in _resolved(target).parents:
            raise RequestError(f"{target} lies in the copy itself.", path=target, do="Choose a folder on another disk.")
    made = [_target(place, target, tree, listed, find_disk) for place, target in targets.items()]
    journals = [journal for each in made if each.resumed and (journal := read_journal(each.root))]
    return OffloadPlan(
        root,
        filed_under,
        tree.files,
        tree.folders,
        journals[0].fingerprint if journals else tree.fingerprint(),
        _digests_of(listed),
        tuple(made),
        not listed.less_than_whole,
        left_out=tree.left_out,
        unlisted=tree.unlisted,
        promised=listed.digests,
        history=root,
        lost=_lost(root, tree, listed),
    )


def _resolved(path: Path) -> Path:
    try:
        return answered(path.resolve)
    except OSError:
        return path.absolute()


def _lost(root: Path, tree: Tree, listed: Listed) -> tuple[Problem, ...]:
    there = {file.path for file in tree.files}
    missing = [path for path in listed.digests if path not in there]
    lost = tuple(
        Problem(
            f"{shown(path)} is listed in the manifest of {root}, and is not there any more.",
            str(root / path),
            "What is there is copied on; no copy made from it is whole.",
            "Fetch the file from another proven copy first.",
        )
        for path in missing
    )
    if not listed.not_whole:
        return lost
    unfinished = Problem(
        f"The manifest of {root} says that it is not whole.",
        str(root),
        "What is there is copied on; no copy made from it is whole.",
        "Offload the card again, or complete the copy from another one.",
    )
    return (unfinished, *lost)


def _target(place: Path, root: Path, tree: Tree, listed: Listed, find_disk: Callable[[Path], Disk]) -> Target:
    def look() -> Target:
        limits = limits_of(place)
        names = kept_names([*(each.path for each in tree.folders), *(each.path for each in tree.files)], limits)
        journal = read_journal(root)
        problem = _not_of(journal, root, tree, listed) or unusable_reason(place, tree.files, limits)
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


def _not_of(journal: Journal | None, root: Path, tree: Tree, listed: Listed) -> Problem | None:
    """What speaks against going on in a folder: it has to be the card's own, by what its journal lists."""
    if journal is None:
        return _standing_copy(root) if is_unfinished(root) or _has_something(root) else None
    sizes = {file.path: file.size_bytes for file in tree.files}
    for path, file in journal.copied.items():
        known = listed.digests.get(path)
        strange = (
            known is None or contradict(known, file.digests) or sizes.get(path, file.size_bytes) != file.size_bytes
        )
        if strange and journal.fingerprint != tree.fingerprint():
            return Problem(
                f"{root} is an unfinished copy of another card.",
                str(root),
                "Nothing was written there, and nothing was changed.",
                "Choose another place.",
            )
    return None


def _has_something(root: Path) -> bool:
    return root.is_dir() and any(root.iterdir())


def _standing_copy(root: Path) -> Problem:
    return Problem(
        f"Something stands at {root} already.",
        str(root),
        "Nothing was written there, and nothing was changed.",
        "Verify it if it is a copy of this card, fetch single files with restore, or choose another place.",
    )


def _digests_of(listed: Listed) -> tuple[str, ...]:
    """The digest that most files are listed with: a chain compares like with like."""
    names = [name for digests in listed.digests.values() for name in digests]
    return (max(sorted(set(names)), key=names.count),) if names else (DEFAULT_DIGEST,)
