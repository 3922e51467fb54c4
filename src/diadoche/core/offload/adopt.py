"""A folder made a copy where it lies."""

from __future__ import annotations

from datetime import UTC, datetime
from pathlib import Path

from diadoche.core.cards.tree import Tree
from diadoche.core.diskfiles import DirectReader
from diadoche.core.errors import MediaError, RequestError, reading, writing
from diadoche.core.names import shown
from diadoche.core.offload.digest_file import contradict, digests_of
from diadoche.core.offload.digests import DEFAULT_DIGEST
from diadoche.core.offload.found_copies import copy_tree
from diadoche.core.offload.journal import CopiedFile, is_unfinished
from diadoche.core.offload.manifest_words import TAKEN_IN
from diadoche.core.offload.mhl import FOLDER, ManifestRequest, read_history, write_manifest
from diadoche.core.watch import Progress, Watch


def adopt_folder(root: Path, watch: Watch, *, version: str, digest: str = DEFAULT_DIGEST) -> tuple[Path, Tree]:
    """Makes a folder a copy where it lies: every file is read and listed in a manifest; nothing else is written.

    A folder that has a manifest already is read against it, by every kind of digest in it, and gets a new generation.

    Raises:
        RequestError: it is an unfinished copy, or a folder in it cannot be listed.
        MediaError: a manifest that is there does not match, or lists what is not there.
        TargetError: the manifest cannot be written.
        Cancelled: the watch was stopped.
    """
    if is_unfinished(root):
        raise RequestError(
            f"{root} is an unfinished copy.", path=root, safe="Nothing was changed.", do="Complete it first."
        )
    tree = copy_tree(root, watch)
    if tree.unlisted:
        raise RequestError(tree.unlisted[0].what, path=root, safe="Nothing was changed.", do="Look at its disk.")
    promised = read_history(root).digests if (root / FOLDER).is_dir() else {}
    lost = sorted(promised.keys() - {file.path for file in tree.files})
    if lost:
        raise _not_as_listed(root, lost[0], "is not there any more")
    files: list[CopiedFile] = []
    done, reader = 0, DirectReader()
    try:
        for file in tree.files:
            watch.step(Progress(done, tree.size_bytes, f"reading {shown(file.path)}"))
            known = promised.get(file.path, {})
            with reading(root / file.path):
                found = digests_of(root / file.path, {digest, *known}, reader, step=lambda _count: watch.check())
            if contradict(known, found):
                raise _not_as_listed(root, file.path, "is not what its manifest says")
            files.append(CopiedFile(file.path, file.path, file.size_bytes, {digest: found[digest]}))
            done += file.size_bytes
    finally:
        reader.close()
    with writing(root):
        manifest = write_manifest(
            root,
            ManifestRequest(
                tuple(files),
                tree.folders,
                {file.path: file.changed_ns for file in tree.files},
                (digest,),
                version,
                datetime.now(UTC),
                TAKEN_IN,
            ),
        )
    return manifest, tree


def _not_as_listed(root: Path, path: str, why: str) -> MediaError:
    return MediaError(
        f"{shown(path)} in {root} {why}: it is not what the manifest lists.",
        path=root / path,
        safe="Nothing was changed.",
        do="Verify the folder, and restore the file from another copy.",
    )
