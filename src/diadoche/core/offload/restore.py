"""Files fetched from a proven copy, each proven against the manifest; nothing is ever overwritten."""

from __future__ import annotations

import os
from collections.abc import Iterable, Mapping
from contextlib import suppress
from dataclasses import dataclass
from pathlib import Path, PurePosixPath

from diadoche.core.diskfiles import PART_SUFFIX, DirectReader, make_folders
from diadoche.core.errors import MediaError, Problem, RequestError, reading, writing
from diadoche.core.names import shown, unique_name
from diadoche.core.offload.digest_file import digests_of
from diadoche.core.offload.digests import DIGESTS
from diadoche.core.offload.expected import CardTruth, ExpectedFile, Outcome, Promise
from diadoche.core.offload.identity import same_taking
from diadoche.core.offload.manifest_reading import read_history
from diadoche.core.offload.manifest_words import FOLDER
from diadoche.core.offload.manifests import read_promise
from diadoche.core.open_folder import OpenFolder, Placed
from diadoche.core.watch import Progress, Watch


@dataclass(frozen=True, slots=True)
class Restored:
    """What came back: for each path where it stands now, and what could not be fetched."""

    files: Mapping[str, Path]
    problems: tuple[Problem, ...]


def restore(root: Path, paths: Iterable[str], to: Path, watch: Watch, card: CardTruth | None = None) -> Restored:
    """Fetches files from a proven copy into another folder, and proves each against what it has to be.

    Where `to` is a copy, it has to be one of the same card: a file there that is not what it has to be steps aside
    under another name, and one that is stays. Anywhere else the fetched file takes a free name.

    Args:
        root: the proven copy.
        paths: of files, as they are called in it.
        to: the folder they go to.
        watch: told how far it is.
        card: what the ledger kept of the card's own reading.

    Raises:
        MediaError: the copy has no manifest, or nothing vouches for what it says.
        RequestError: a file is not listed in it, or `to` is a copy of another card.
        TargetError: the folder cannot be written to; nothing half-made stands there.
        Cancelled: the watch was stopped.
    """
    _, promise = read_promise(root, card)
    if not promise.counts:
        raise _not_as_listed(root / FOLDER)
    wanted = list(paths)
    unknown = [path for path in wanted if path not in promise.files]
    if unknown:
        raise RequestError(f"{shown(unknown[0])} is not in the manifest of {root}.", path=root)
    repaired = _repaired(to, promise, root)
    done: dict[str, Path] = {}
    problems: list[Problem] = []
    with writing(to):
        make_folders(to)
    reader = DirectReader()
    try:
        with OpenFolder.at(root) as source, OpenFolder.at(to) as target:
            for number, path in enumerate(wanted):
                watch.step(Progress(number, len(wanted), f"fetching {shown(path)}"))
                file = promise.files[path]
                name = repaired.get(file.path, path) if repaired is not None else path
                fetch = _Fetch(source, target, reader, watch, repairs=repaired is not None)
                try:
                    done[path] = fetch.file(file, name)
                except (MediaError, OSError) as error:
                    problems.append(error.problem if isinstance(error, MediaError) else _unreadable(root / path, error))
    finally:
        reader.close()
    return Restored(done, tuple(problems))


def _repaired(to: Path, promise: Promise, root: Path) -> dict[str, str] | None:
    """For each file by its path on the card, its name in the copy that is to be repaired; None where `to` is no copy.

    Raises:
        RequestError: it is a copy of another card.
    """
    if not (to / FOLDER).is_dir():
        return None
    try:
        theirs = read_history(to)
    except MediaError:
        raise RequestError(
            f"{to} is a copy whose manifests cannot be read.",
            path=to,
            safe="Nothing was changed in it.",
            do="Fetch the files into another folder.",
        ) from None
    if not same_taking(theirs.identity, promise.identity) and not _alike(theirs, promise):
        raise RequestError(
            f"{to} is a copy of another card than {root}.",
            path=to,
            safe="Nothing was changed in it.",
            do="Fetch the file into another folder, or choose a copy of the same card.",
        )
    return {file.path: file.kept_as for file in theirs.files.values()}


def _alike(one: Promise, other: Promise) -> bool:
    """Whether two copies without a common identity are of one card, by all that both say of its files."""
    theirs = {file.path: file for file in other.files.values()}
    common = [(file, theirs[file.path]) for file in one.files.values() if file.path in theirs]
    return bool(common) and all(file.outcome(of_other.digests) is Outcome.EQUAL for file, of_other in common)


@dataclass(frozen=True, slots=True)
class _Fetch:
    """One file after another, from a copy to a folder."""

    source: OpenFolder
    target: OpenFolder
    reader: DirectReader
    watch: Watch
    repairs: bool

    def file(self, file: ExpectedFile, name: str) -> Path:
        """Fetches one; gives where it stands now."""
        if self.target.exists(name) and self._is(self.target, name, file):
            return self.target.path / name
        folder, _, own_name = name.rpartition("/")
        above = f"{folder}/" if folder else ""
        part = f"{above}{PART_SUFFIX}{os.getpid()}"
        try:
            if not file.digests or self._copied(file, part) is not Outcome.EQUAL:
                raise _not_as_listed(self.source.path / file.kept_as)
            if not self._is(self.target, part, file):
                raise _not_as_listed(self.source.path / file.kept_as)
            with writing(self.target.path / name):
                if self.target.exists(name) and self.repairs:
                    self.target.rename_new(name, above + self._free(above, _aside(own_name)))
                elif self.target.exists(name):
                    name = above + self._free(above, own_name)
                self.target.rename_new(part, name)
                self.target.sync(folder)
        finally:
            self.target.forget(part)
        return self.target.path / name

    def _copied(self, file: ExpectedFile, part: str) -> Outcome:
        """Copies under a temporary name; what was read is compared with all that is known of it."""
        made = {kind: DIGESTS[kind]() for kind in file.digests}
        folder = part.rpartition("/")[0]
        with writing(self.target.path / part):
            if folder:
                self.target.make_folder(folder)
            self.target.forget(part)
            with os.fdopen(self.target.open(part, os.O_WRONLY | os.O_CREAT | os.O_EXCL), "wb") as out:
                for block in self.reader.blocks(Placed(self.source, file.kept_as)):
                    self.watch.check()
                    for digest in made.values():
                        digest.update(block)
                    out.write(block)
                out.flush()
                info = self.source.stat(file.kept_as)
                # A place that keeps no times takes the bytes all the same.
                with suppress(OSError):
                    os.utime(out.fileno(), ns=(info.st_mtime_ns, info.st_mtime_ns))
                os.fsync(out.fileno())
        return file.outcome({kind: digest.hexdigest() for kind, digest in made.items()})

    def _is(self, folder: OpenFolder, name: str, file: ExpectedFile) -> bool:
        with reading(folder.path / name):
            found = digests_of(Placed(folder, name), file.digests, self.reader, step=lambda _count: self.watch.check())
        return file.outcome(found) is Outcome.EQUAL

    def _free(self, above: str, name: str) -> str:
        return unique_name(name, lambda each: self.target.exists(above + each))


def _not_as_listed(source: Path) -> MediaError:
    return MediaError(
        f"{source} is not what its manifest says.",
        path=source,
        safe="Nothing was put in its place.",
        do="Try another copy.",
    )


def _aside(name: str) -> str:
    path = PurePosixPath(name)
    return f"{path.stem} (not as it was){path.suffix}"


def _unreadable(path: Path, error: OSError) -> Problem:
    return Problem(
        f"{path} cannot be read: {error.strerror or error}.",
        str(path),
        "Nothing was put in its place.",
        "Try another copy.",
    )
