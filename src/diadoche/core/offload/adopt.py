"""A folder made a copy where it lies."""

from __future__ import annotations

from dataclasses import dataclass, replace
from datetime import UTC, datetime
from pathlib import Path

from diadoche.core.cards.tree import FileEntry, Tree
from diadoche.core.diskfiles import DirectReader
from diadoche.core.errors import MediaError, RequestError, reading, writing
from diadoche.core.names import shown
from diadoche.core.offload.digest_file import contradict, digests_of
from diadoche.core.offload.digests import DEFAULT_DIGEST
from diadoche.core.offload.expected import CardTruth, ExpectedFile, Promise, promise_of_card
from diadoche.core.offload.found_copies import copy_tree
from diadoche.core.offload.identity import CopyIdentity, new_id
from diadoche.core.offload.journal import CopiedFile, is_unfinished
from diadoche.core.offload.manifest_reading import read_history
from diadoche.core.offload.manifest_words import FOLDER, NOT_WHOLE, TAKEN_IN
from diadoche.core.offload.manifest_writing import ManifestRequest, write_manifest
from diadoche.core.open_folder import OpenFolder, Placed
from diadoche.core.watch import Progress, Watch


@dataclass(frozen=True, slots=True)
class TakenIn:
    """A folder that is a copy where it lies. `from_card`: every file was held against what came off its card."""

    manifest: Path
    tree: Tree
    identity: CopyIdentity
    whole: bool
    from_card: bool


def adopt_folder(
    root: Path, watch: Watch, *, version: str, digest: str = DEFAULT_DIGEST, card: CardTruth | None = None
) -> TakenIn:
    """Makes a folder a copy where it lies: every file is read and listed in a manifest; nothing else is written.

    A folder that has a manifest already is read against it, by every kind of digest in it, and gets a new generation;
    one that the ledger knows is read against what came off its card, whatever its manifests say.

    Raises:
        RequestError: it is an unfinished copy, or a folder in it cannot be listed.
        MediaError: a file is not what it has to be, or is not there; or nothing vouches for the manifests.
        TargetError: the manifest cannot be written.
        Cancelled: the watch was stopped.
    """
    if is_unfinished(root):
        raise RequestError(
            f"{root} is an unfinished copy.", path=root, safe="Nothing was changed.", do="Complete it first."
        )
    promise = _promise(root, card)
    tree = copy_tree(root, watch, promise.files)
    if tree.unlisted:
        raise RequestError(tree.unlisted[0].what, path=root, safe="Nothing was changed.", do="Look at its disk.")
    lost = sorted(promise.files.keys() - {file.path for file in tree.files})
    if lost and not promise.not_whole:
        raise _not_as_listed(root, lost[0], "is not there any more")
    files = _read_all(root, tree, promise, digest, watch)
    identity = CopyIdentity(promise.identity.taking or new_id(), promise.identity.copy or new_id())
    with writing(root), OpenFolder.at(root) as copy:
        manifest = write_manifest(
            copy,
            ManifestRequest(
                files=tuple(files),
                folders=tree.folders,
                changed_ns={file.path: file.changed_ns for file in files_of(tree, promise)},
                digests=(digest,),
                version=version,
                now=datetime.now(UTC),
                identity=identity,
                # What was never finished stays so: that it lies here says nothing of what else was on the card.
                whole=not promise.not_whole,
                asked_for_all=not promise.less_than_whole,
                comment=f"{NOT_WHOLE}. {TAKEN_IN}" if promise.not_whole else TAKEN_IN,
            ),
        )
    from_card = bool(promise.files) and all(file.from_card for file in promise.files.values())
    return TakenIn(manifest, tree, identity, not promise.not_whole, from_card)


def files_of(tree: Tree, promise: Promise) -> list[FileEntry]:
    """The files of a tree by the names that they had on the card."""
    return [replace(file, path=_card_path(promise, file.path)) for file in tree.files]


def _card_path(promise: Promise, name: str) -> str:
    return promise.files[name].path if name in promise.files else name


def _promise(root: Path, card: CardTruth | None) -> Promise:
    if not (root / FOLDER).is_dir():
        return promise_of_card(card) if card is not None and card.files else Promise({})
    promise = read_history(root, card=card)
    if not promise.counts:
        raise MediaError(
            f"The manifests of {root} are not as they were written. {' '.join(promise.problems[:2])}",
            path=root,
            safe="Nothing was changed: what they say counts for nothing now.",
            do="Use another copy of this card, or a ledger that knows what came off it.",
        )
    return promise


def _read_all(root: Path, tree: Tree, promise: Promise, digest: str, watch: Watch) -> list[CopiedFile]:
    files: list[CopiedFile] = []
    done, reader = 0, DirectReader()
    try:
        with OpenFolder.at(root) as copy:
            for file in tree.files:
                watch.step(Progress(done, tree.size_bytes, f"reading {shown(file.path)}"))
                expected = promise.files.get(file.path)
                known = expected.digests if expected is not None else {}
                with reading(root / file.path):
                    found = digests_of(
                        Placed(copy, file.path), {digest, *known}, reader, step=lambda _count: watch.check()
                    )
                if expected is not None and contradict(known, found):
                    raise _not_as_listed(root, file.path, _why(expected))
                path = _card_path(promise, file.path)
                files.append(CopiedFile(path, file.path, file.size_bytes, {digest: found[digest]}))
                done += file.size_bytes
    finally:
        reader.close()
    return files


def _why(expected: ExpectedFile) -> str:
    return "is not what came off the card" if expected.from_card else "is not what its manifest says"


def _not_as_listed(root: Path, path: str, why: str) -> MediaError:
    return MediaError(
        f"{shown(path)} in {root} {why}.",
        path=root / path,
        safe="Nothing was changed.",
        do="Verify the folder, and restore the file from another copy.",
    )
