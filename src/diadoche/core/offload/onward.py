"""What can be done with a proven copy: copy it on, complete another with it, fetch files from it, take one in.

Nothing here reads a card, and nothing is ever deleted or overwritten.
"""

from __future__ import annotations

import os
from collections.abc import Callable, Iterable, Mapping
from dataclasses import dataclass
from datetime import UTC, datetime
from pathlib import Path

from diadoche.core.cards.tree import Tree, list_tree
from diadoche.core.diskfiles import PART_SUFFIX, DirectReader, rename_new, sync_folder
from diadoche.core.disks import Disk, disk_of, limits_of
from diadoche.core.errors import MediaError, Problem, RequestError, reading, writing
from diadoche.core.names import shown, unique_name
from diadoche.core.offload.digests import DEFAULT_DIGEST, DIGESTS
from diadoche.core.offload.journal import JOURNAL_NAME, CopiedFile, is_unfinished, read_journal
from diadoche.core.offload.kept_names import kept_names
from diadoche.core.offload.manifests import read_listed
from diadoche.core.offload.mhl import FOLDER, Listed, ManifestRequest, read_history, write_manifest
from diadoche.core.offload.naming import NamingValues
from diadoche.core.offload.plan import OffloadPlan, Target
from diadoche.core.offload.preflight import unusable_reason
from diadoche.core.watch import Progress, Watch


def copy_tree(root: Path, watch: Watch | None = None) -> Tree:
    """A copy as it came off the card: without the manifests and the journal."""
    tree = list_tree(root, watch)
    return Tree(
        root,
        tuple(file for file in tree.files if not _is_ours(file.path)),
        tuple(folder for folder in tree.folders if not _is_ours(folder.path)),
        tree.left_out,
    )


def _is_ours(path: str) -> bool:
    return path.split("/")[0] == FOLDER or path == JOURNAL_NAME


def plan_onward(
    root: Path,
    targets: Mapping[Path, Path],
    taking: NamingValues,
    watch: Watch,
    find_disk: Callable[[Path], Disk] = disk_of,
) -> OffloadPlan:
    """The plan of copying a proven copy on; `offload` carries it out, and the chain of manifests goes along.

    Args:
        root: the proven copy.
        targets: for each place, the folder below it that the new copy gets; one that stands there
            unfinished is completed.
        taking: what the copy is filed under.
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
    size_bytes = tree.size_bytes
    made = []
    for place, target in targets.items():
        if target.resolve() == root.resolve() or root.resolve() in target.resolve().parents:
            raise RequestError(f"{target} lies in the copy itself.", path=target, do="Choose a folder on another disk.")
        journal = read_journal(target)
        limits = limits_of(place)
        names = kept_names([*(each.path for each in tree.folders), *(each.path for each in tree.files)], limits)
        problem = unusable_reason(place, tree.files, limits, size_bytes, 0)
        made.append(Target(place, target, journal is not None, problem, find_disk(place), names))
    journals = [journal for target in targets.values() if (journal := read_journal(target))]
    return OffloadPlan(
        root,
        taking,
        tree.files,
        tree.folders,
        journals[0].fingerprint if journals else tree.fingerprint(),
        _digests_of(listed),
        tuple(made),
        left_out=tree.left_out,
        promised=listed.digests,
        history=root,
    )


def _digests_of(listed: Listed) -> tuple[str, ...]:
    """The digest that most files are listed with: a chain compares like with like."""
    names = [name for digests in listed.digests.values() for name in digests]
    return (max(set(names), key=names.count),) if names else (DEFAULT_DIGEST,)


@dataclass(frozen=True, slots=True)
class Restored:
    """What came back: for each path where it stands now, and what could not be fetched."""

    files: Mapping[str, Path]
    problems: tuple[Problem, ...]


def restore(root: Path, paths: Iterable[str], to: Path, watch: Watch) -> Restored:
    """Fetches files from a proven copy into another folder, and proves each against the manifest.

    Where `to` is a copy of the same card, a file of the same name that is not what the manifest says steps
    aside under another name; anywhere else the fetched file takes a free name.

    Raises:
        MediaError: the copy has no manifest.
        RequestError: a file is not listed in it.
        TargetError: the folder cannot be written to; nothing half-made stands there.
        Cancelled: the watch was stopped.
    """
    _, listed = read_listed(root)
    wanted = list(paths)
    unknown = [path for path in wanted if path not in listed.digests]
    if unknown:
        raise RequestError(f"{shown(unknown[0])} is not in the manifest of {root}.", path=root)
    repairs = (to / FOLDER).is_dir()
    done: dict[str, Path] = {}
    problems: list[Problem] = []
    reader = DirectReader()
    try:
        for number, path in enumerate(wanted):
            watch.step(Progress(number, len(wanted), f"fetching {shown(path)}"))
            try:
                done[path] = _fetch(root / path, listed.digests[path], to / path, reader, watch, repairs=repairs)
            except (MediaError, OSError) as error:
                problems.append(error.problem if isinstance(error, MediaError) else _unreadable(root / path, error))
    finally:
        reader.close()
    return Restored(done, tuple(problems))


def _fetch(
    source: Path, digests: Mapping[str, str], final: Path, reader: DirectReader, watch: Watch, *, repairs: bool
) -> Path:
    name, wanted = next(iter(digests.items()))
    if final.exists() and _digest(final, name, reader, watch) == wanted:
        return final
    part = final.with_name(PART_SUFFIX + str(os.getpid()))
    digest = DIGESTS[name]()
    try:
        with writing(final):
            final.parent.mkdir(parents=True, exist_ok=True)
            with part.open("wb") as file:
                for block in reader.blocks(source):
                    watch.check()
                    digest.update(block)
                    file.write(block)
                file.flush()
                info = source.stat()
                os.utime(file.fileno(), ns=(info.st_mtime_ns, info.st_mtime_ns))
                os.fsync(file.fileno())
        if digest.hexdigest() != wanted or _digest(part, name, reader, watch) != wanted:
            raise MediaError(
                f"{source} is not what its manifest says.",
                path=source,
                safe="Nothing was put in its place.",
                do="Try another copy.",
            )
        with writing(final):
            if final.exists() and repairs:
                rename_new(final, final.with_name(_aside(final)))
            elif final.exists():
                final = final.with_name(_free(final))
            rename_new(part, final)
            sync_folder(final.parent)
    finally:
        part.unlink(missing_ok=True)
    return final


def _aside(path: Path) -> str:
    name = f"{path.stem} (not as it was){path.suffix}"
    return unique_name(name, lambda each: path.with_name(each).exists())


def _free(path: Path) -> str:
    return unique_name(path.name, lambda each: path.with_name(each).exists())


def _digest(path: Path, name: str, reader: DirectReader, watch: Watch) -> str:
    digest = DIGESTS[name]()
    with reading(path):
        for block in reader.blocks(path):
            watch.check()
            digest.update(block)
    return digest.hexdigest()


def _unreadable(path: Path, error: OSError) -> Problem:
    return Problem(
        f"{path} cannot be read: {error.strerror or error}.",
        str(path),
        "Nothing was put in its place.",
        "Try another copy.",
    )


def take_in(root: Path, watch: Watch, *, version: str, digest: str = DEFAULT_DIGEST) -> tuple[Path, Tree]:
    """Makes a folder a copy where it lies: every file is read and listed in a manifest; nothing else is written.

    A folder that has a manifest already is read against it instead, and gets a new generation.

    Raises:
        MediaError: a manifest that is there does not match.
        TargetError: the manifest cannot be written.
        Cancelled: the watch was stopped.
    """
    tree = copy_tree(root, watch)
    promised = read_history(root).digests if (root / FOLDER).is_dir() else {}
    files: list[CopiedFile] = []
    done, reader = 0, DirectReader()
    try:
        for file in tree.files:
            watch.step(Progress(done, tree.size_bytes, f"reading {shown(file.path)}"))
            found = _digest(root / file.path, digest, reader, watch)
            if promised.get(file.path, {}).get(digest, found) != found:
                raise MediaError(
                    f"{shown(file.path)} is not what the manifest in {root} says.",
                    path=root / file.path,
                    safe="Nothing was changed.",
                    do="Verify the folder, and restore the file from another copy.",
                )
            files.append(CopiedFile(file.path, file.path, file.size_bytes, {digest: found}))
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
                "Taken in where it lay: listed, not copied.",
            ),
        )
    return manifest, tree


def copies_below(folder: Path) -> list[Path]:
    """Every folder below that has manifests of its own, in order of the paths; not copies within copies."""
    found: list[Path] = []
    for here, folders, _files in os.walk(folder):
        if FOLDER in folders:
            found.append(Path(here))
            folders.clear()
        folders.sort()
    return found


@dataclass(frozen=True, slots=True)
class Unlike:
    """How two places differ: copies that one lacks, and files of a common copy that one lacks or has otherwise."""

    only_here: tuple[Path, ...]
    only_there: tuple[Path, ...]
    missing_here: Mapping[Path, tuple[str, ...]]
    missing_there: Mapping[Path, tuple[str, ...]]
    differing: tuple[str, ...]


def compare_places(here: Path, there: Path, watch: Watch) -> Unlike:
    """Compares two places by their manifests and by what stands there; nothing is read in full, nothing is changed.

    Raises:
        MediaError: a manifest cannot be read.
        Cancelled: the watch was stopped.
    """
    ours = {root.relative_to(here) for root in copies_below(here)}
    theirs = {root.relative_to(there) for root in copies_below(there)}
    missing_here: dict[Path, tuple[str, ...]] = {}
    missing_there: dict[Path, tuple[str, ...]] = {}
    differing: list[str] = []
    for copy in sorted(ours & theirs):
        watch.check()
        one, other = read_history(here / copy).digests, read_history(there / copy).digests
        common = {path for path in one.keys() & other.keys() if _agree(one[path], other[path])}
        differing += [f"{copy}/{path}" for path in sorted(one.keys() | other.keys()) if path not in common]
        missing_here[copy] = tuple(path for path in sorted(common) if not (here / copy / path).exists())
        missing_there[copy] = tuple(path for path in sorted(common) if not (there / copy / path).exists())
    return Unlike(
        tuple(sorted(ours - theirs)),
        tuple(sorted(theirs - ours)),
        {copy: paths for copy, paths in missing_here.items() if paths},
        {copy: paths for copy, paths in missing_there.items() if paths},
        tuple(differing),
    )


def _agree(one: Mapping[str, str], other: Mapping[str, str]) -> bool:
    shared = one.keys() & other.keys()
    return bool(shared) and all(one[name] == other[name] for name in shared)
