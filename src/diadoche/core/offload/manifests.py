"""What any manifest says of a folder: our own history, an ASC MHL of somebody else, or a plain list of digests."""

from __future__ import annotations

from pathlib import Path, PurePosixPath

from diadoche.core.errors import MediaError
from diadoche.core.names import shown
from diadoche.core.offload.expected import CardTruth, ExpectedFile, Promise, held_against_card
from diadoche.core.offload.lists import is_list, read_list
from diadoche.core.offload.manifest_reading import read_history
from diadoche.core.offload.manifest_words import FOLDER


def read_promise(path: Path, card: CardTruth | None = None) -> tuple[Path, Promise]:
    """The folder that a manifest is about, and what it says.

    Args:
        path: a folder with manifests in it, or a plain list of digests.
        card: what the ledger kept of the card's own reading.

    Raises:
        MediaError: there is no manifest, or it cannot be read.
    """
    if path.is_file():
        # Our own lists lie in the folder of the manifests, one level below what they list.
        root = path.parent.parent if path.parent.name == FOLDER else path.parent
        return root, held_against_card(_from_lists(root, [path]), card)
    if (path / FOLDER).is_dir():
        return path, read_history(path, card=card)
    lists = sorted(each for each in path.iterdir() if each.is_file() and is_list(each)) if path.is_dir() else []
    if not lists:
        raise MediaError(
            f"{path} has no manifest to check against.",
            path=path,
            safe="Nothing was changed.",
            do="Point at the folder that holds a folder called ascmhl, or at a list of digests.",
        )
    return path, held_against_card(_from_lists(path, lists), card)


def _from_lists(root: Path, lists: list[Path]) -> Promise:
    digests: dict[str, dict[str, str]] = {}
    problems: list[str] = []
    for path in lists:
        for name, found in read_list(path).items():
            relative = _inside(root, name)
            if relative is None:
                problems.append(f"{path.name} names {shown(name)}, which lies outside this folder: not followed.")
            else:
                digests.setdefault(relative, {}).update(found)
    names = {path.relative_to(root).as_posix() for path in lists}
    files = {name: ExpectedFile(name, name, each) for name, each in digests.items() if name not in names}
    return Promise(files, tuple(problems), tuple(names))


def _inside(root: Path, name: str) -> str | None:
    path = PurePosixPath(name)
    if path.is_absolute():
        path = path.relative_to(root.as_posix()) if path.is_relative_to(root.as_posix()) else PurePosixPath("..")
    return None if ".." in path.parts else path.as_posix()
