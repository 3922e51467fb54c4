"""Files fetched from a proven copy, each proven against the manifest; nothing is ever overwritten."""

from __future__ import annotations

import os
from collections.abc import Iterable, Mapping
from dataclasses import dataclass
from pathlib import Path

from diadoche.core.diskfiles import PART_SUFFIX, DirectReader, make_folders, rename_new, sync_folder
from diadoche.core.errors import MediaError, Problem, RequestError, reading, writing
from diadoche.core.names import shown, unique_name
from diadoche.core.offload.digest_file import digests_of
from diadoche.core.offload.digests import DIGESTS
from diadoche.core.offload.manifests import read_listed
from diadoche.core.offload.mhl import FOLDER
from diadoche.core.watch import Progress, Watch


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
    if os.path.lexists(final) and _is(final, digests, reader, watch):
        return final
    part = final.with_name(f"{PART_SUFFIX}{os.getpid()}")
    try:
        if not digests or _copied(source, part, digests, reader, watch) != digests:
            raise _not_as_listed(source)
        if not _is(part, digests, reader, watch):
            raise _not_as_listed(source)
        with writing(final):
            if os.path.lexists(final) and repairs:
                rename_new(final, final.with_name(_aside(final)))
            elif os.path.lexists(final):
                final = final.with_name(_free(final))
            rename_new(part, final)
            sync_folder(final.parent)
    finally:
        part.unlink(missing_ok=True)
    return final


def _copied(source: Path, part: Path, digests: Mapping[str, str], reader: DirectReader, watch: Watch) -> dict[str, str]:
    """Copies under a temporary name; gives the digests of what was read, all that the manifest has."""
    made = {name: DIGESTS[name]() for name in digests}
    with writing(part):
        make_folders(part.parent)
        with part.open("wb") as file:
            for block in reader.blocks(source):
                watch.check()
                for digest in made.values():
                    digest.update(block)
                file.write(block)
            file.flush()
            info = source.stat()
            os.utime(file.fileno(), ns=(info.st_mtime_ns, info.st_mtime_ns))
            os.fsync(file.fileno())
    return {name: digest.hexdigest() for name, digest in made.items()}


def _is(path: Path, digests: Mapping[str, str], reader: DirectReader, watch: Watch) -> bool:
    with reading(path):
        return digests_of(path, digests, reader, step=lambda _count: watch.check()) == digests


def _not_as_listed(source: Path) -> MediaError:
    return MediaError(
        f"{source} is not what its manifest says.",
        path=source,
        safe="Nothing was put in its place.",
        do="Try another copy.",
    )


def _aside(path: Path) -> str:
    name = f"{path.stem} (not as it was){path.suffix}"
    return unique_name(name, lambda each: os.path.lexists(path.with_name(each)))


def _free(path: Path) -> str:
    return unique_name(path.name, lambda each: os.path.lexists(path.with_name(each)))


def _unreadable(path: Path, error: OSError) -> Problem:
    return Problem(
        f"{path} cannot be read: {error.strerror or error}.",
        str(path),
        "Nothing was put in its place.",
        "Try another copy.",
    )
