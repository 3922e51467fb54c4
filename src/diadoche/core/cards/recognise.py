"""Which card a path belongs to: its layout, its top folder, and its sisters in a card set."""

from __future__ import annotations

import re
from collections.abc import Sequence
from contextlib import nullcontext
from dataclasses import dataclass
from pathlib import Path

from diadoche.core.cards.layout import Layout, matched
from diadoche.core.cards.tree import Tree, inner_folders, list_tree
from diadoche.core.errors import RequestError
from diadoche.core.watch import Watch

# How far above what was pointed at the top of a card may lie: PRIVATE/AVCHD/BDMV/STREAM/file.
_LEVELS_UP = 5
# A rig has at most so many cards worth looking for beside one of them.
_MOST_SISTERS = 32
# Files of one card are alike: a few tell as much as all.
_ENOUGH = 200


@dataclass(frozen=True, slots=True)
class RecognisedLayout:
    """A card's top folder as found, its layout, and what showed it. No layout: it is no card.

    `members` are the folders of the single cards where `tree` holds a whole card set, else just "".
    """

    tree: Tree
    layout: Layout | None
    evidence: str
    members: tuple[str, ...] = ("",)


def recognise(
    path: Path, layouts: Sequence[Layout], as_layout: str = "", watch: Watch | None = None
) -> RecognisedLayout:
    """Finds the card that `path` belongs to, whatever level of it is pointed at.

    Args:
        path: a folder or a file of the card.
        layouts: in the order in which they are tried.
        as_layout: the one that the person says it is; the folder pointed at is then its top.
        watch: told of the calls to the card that have not returned.

    Raises:
        RequestError: there is nothing at that path, or no such layout.
        OSError: it cannot be listed.
    """
    path = path.expanduser()
    with watch.calls if watch is not None else nullcontext():
        exists = path.exists()
    if not exists:
        raise RequestError(f"There is nothing at {path}.", path=path, do="Check the path, or put the card in.")
    # Not resolved: a reader may show its card through a link, and a card pulled must be seen to be gone.
    path = path.absolute()
    folder = path if path.is_dir() else path.parent
    tree = list_tree(folder, watch)
    if as_layout:
        return _told(tree, layouts, as_layout)
    *named, loose = layouts
    found = _match(tree, named)
    if found.layout is not None:
        return _climbed(found, found.layout)
    if card_set := _card_set(tree, named):
        return card_set
    # Below the marked folder itself: in BDMV, in STREAM, beside a single file.
    for parent in list(folder.parents)[:_LEVELS_UP]:
        for layout in named:
            if _leads_through(tree, parent, layout):
                above = _match(list_tree(parent), [layout])
                if above.layout is not None:
                    return _climbed(above, layout)
    return _match(tree, [*named, loose])


def _told(tree: Tree, layouts: Sequence[Layout], name: str) -> RecognisedLayout:
    layout = next((each for each in layouts if each.name == name), None)
    if layout is None:
        names = ", ".join(each.name for each in layouts)
        raise RequestError(f"There is no card layout called {name}.", do=f"Choose from {names}.")
    return RecognisedLayout(tree, layout, "you say so")


def _card_set(tree: Tree, layouts: Sequence[Layout]) -> RecognisedLayout | None:
    """A folder that holds the cards of one rig side by side."""
    tops = [folder.path for folder in tree.folders if "/" not in folder.path]
    for layout in layouts:
        if not layout.cards_a_set:
            continue
        found = [(top, layout.evidence(tree.below(top))) for top in tops]
        members = tuple(top for top, evidence in found if evidence)
        if len(members) > 1:
            return RecognisedLayout(
                tree, layout, ", ".join(f"{top}/{evidence}" for top, evidence in found if evidence), members
            )
    return None


def sisters(card: RecognisedLayout) -> tuple[Path, ...]:
    """The other cards of a rig that lie or are mounted beside this one, by their layout and a recording in common."""
    layout, root = card.layout, card.tree.root
    if layout is None or not layout.cards_a_set or card.members != ("",):
        return ()
    mine = recording_names(card)
    found = []
    try:
        beside = [
            name for name in inner_folders(root.parent) if root.parent / name != root and not name.startswith(".")
        ]
    except OSError:
        return ()
    for name in sorted(beside)[:_MOST_SISTERS]:
        try:
            other = _match(list_tree(root.parent / name), [layout])
        except OSError:
            continue
        if other.layout is not None and mine & recording_names(other):
            found.append(other.tree.root)
    return tuple(found)


def lens_of(card: RecognisedLayout) -> int:
    """Which lens of a rig this one card holds; 0 where it is no rig's, or the one with the stitched files."""
    layout = card.layout
    if layout is None or not layout.cards_a_set or card.members != ("",):
        return 0
    found = (matched(layout.lenses, file.path) for file in card.tree.files)
    return next((int(match["lens"]) for match in found if match), 0)


def recording_names(card: RecognisedLayout) -> set[str]:
    """What the recordings of a rig's card are called, whichever lens it holds."""
    layout = card.layout
    if layout is None:
        return set()
    patterns = [re.compile(each, re.IGNORECASE) for each in (*layout.lenses, *layout.stitched)]
    found = (pattern.fullmatch(file.path) for file in card.tree.files for pattern in patterns)
    return {match["recording"] for match in found if match}


def _climbed(found: RecognisedLayout, layout: Layout) -> RecognisedLayout:
    """The highest folder from which the same mark still fits: PRIVATE belongs to the card above it."""
    top, folder = found, found.tree.root
    # A file tells nothing about the folders above it; only a folder of a known name has a known place.
    if not found.evidence.endswith("/"):
        return found
    for parent in list(folder.parents)[:_LEVELS_UP]:
        longer = f"{folder.relative_to(parent).as_posix()}/{found.evidence}"
        if any(re.fullmatch(mark, longer, re.IGNORECASE) for mark in layout.marks):
            top = RecognisedLayout(list_tree(parent), layout, longer)
    return top


def _match(tree: Tree, layouts: Sequence[Layout]) -> RecognisedLayout:
    for layout in layouts:
        evidence = layout.evidence(tree)
        if evidence:
            return RecognisedLayout(tree, layout, evidence)
    return RecognisedLayout(tree, None, "")


def _leads_through(tree: Tree, parent: Path, layout: Layout) -> bool:
    """Whether a marked folder of a card with its top at `parent` is `folder`, holds it, or lies just below it."""
    folder = tree.root
    inner = folder.relative_to(parent).as_posix()
    parts = inner.split("/")
    paths = ["/".join(parts[:count]) for count in range(1, len(parts) + 1)]
    paths += [f"{inner}/{name}" for name in _inner_folders_if_any(folder)]
    # The marked folder may stand beside ours: CLIPINF leads to the card as STREAM does.
    above = "".join(f"{part}/" for part in parts[:-1])
    paths += [f"{above}{name}" for name in _inner_folders_if_any(folder.parent)]
    candidates = [f"{path}/" for path in paths] + [f"{inner}/{file.path}" for file in tree.files[:_ENOUGH]]
    return any(re.fullmatch(mark, each, re.IGNORECASE) for mark in layout.marks for each in candidates)


def _inner_folders_if_any(folder: Path) -> list[str]:
    """Names that may show which layout this is; what cannot be listed shows none, and nothing is concluded from it."""
    try:
        return inner_folders(folder)
    except OSError:
        return []
