"""Where an output goes: a free name, a temporary file until it is checked, and never an original's place."""

from __future__ import annotations

import errno
import fcntl
import os
import re
import secrets
import shutil
import threading
import time
from collections.abc import Iterator
from concurrent.futures import ThreadPoolExecutor
from contextlib import contextmanager, suppress
from dataclasses import dataclass
from datetime import datetime
from pathlib import Path

import av
import av.error
from av.container import OutputContainer

from diadoche.core.diskfiles import PART_SUFFIX, begin_writeback, rename_new, sync_folder
from diadoche.core.disks import limits_of
from diadoche.core.errors import MediaError, RequestError, TargetFull, TargetUnusable, writing
from diadoche.core.names import safe_name, unique_name
from diadoche.core.sizes import size_text

_SPARE_BYTES = 16_000_000
_TEMPORARY = re.compile(r"\.[0-9a-f]{8}-.+" + re.escape(PART_SUFFIX), re.DOTALL)
# A part this young may not have been marked by its writer yet.
_FRESH_S = 60.0
_WRITTEN_DOWN_EVERY_S = 0.2
_ISO = {"mov", "mp4"}
# Ticks a second of a film's edit lists. Where they end, nobody plays on: by the library's thousand ticks, the last half
# millisecond of sound was lost. These hold a sample of 48 kHz, and a picture of 24, 25, 30, 50 or 60, ×1000/1001 too.
_MOVIE_TICKS = 240_000


def output_name(camera: str, start: datetime | None, original: str, ending: str) -> str:
    """Camera, shooting date and time, original name: unique over a shoot unless a camera repeats itself."""
    moment = start.strftime("%Y-%m-%d_%H%M%S") if start else ""
    return safe_name("_".join(filter(None, (camera, moment, original)))) + f".{ending}"


@dataclass(slots=True)
class NewFile:
    """An output on its way, a file or a folder: written to `part`, then standing at `final`, unless it is withheld."""

    part: Path
    final: Path | None = None
    withheld: bool = False


@contextmanager
def new_file(
    folder: Path, name: str, expected_bytes: int, sources: tuple[Path, ...], *, is_folder: bool = False
) -> Iterator[NewFile]:
    """A temporary file in `folder` that gets a free name when the block ends well, and is removed when not.

    Args:
        folder: where it goes; made where it does not stand yet.
        name: what it is to be called.
        expected_bytes: how large it becomes, at a guess.
        sources: the originals; none of them may lie there.
        is_folder: a folder of files, which gets its name when all of them are whole.

    Raises:
        RequestError: the folder is one of the sources' own.
        TargetFull, TargetUnusable: it cannot be written.
    """
    if any(source.resolve().parent == folder.resolve() for source in sources):
        raise RequestError(
            f"{folder} holds the originals themselves.",
            path=folder,
            safe="Nothing was written; originals stay alone.",
            do="Choose another folder for outputs.",
        )
    with writing(folder):
        folder.mkdir(parents=True, exist_ok=True)
        if not os.access(folder, os.W_OK) or os.statvfs(folder).f_flag & os.ST_RDONLY:
            raise TargetUnusable(
                f"{folder} cannot be written to.", path=folder, safe="Nothing was written.", do="Choose another folder."
            )
        free = shutil.disk_usage(folder).free
    if free < expected_bytes + _SPARE_BYTES:
        raise TargetFull(
            f"{folder} has {size_text(free)} free; {name} needs about {size_text(expected_bytes)}.",
            path=folder,
            safe="Nothing was written; the originals are untouched.",
            do="Make room there, or choose another folder.",
        )
    local = limits_of(folder).synced_at_once
    if local:
        _clear_abandoned(folder)
    # Two jobs may make an output of one name at once: each writes a file of its own.
    made = NewFile(folder / f".{secrets.token_hex(4)}-{name}{PART_SUFFIX}")
    try:
        with writing(folder):
            if is_folder:
                made.part.mkdir()
            else:
                made.part.touch(exist_ok=False)
            held = _held(made.part, lock=local)
        try:
            yield made
        finally:
            os.close(held)
        if not made.withheld:
            made.final = _named(made.part, folder, name)
    finally:
        if is_folder:
            shutil.rmtree(made.part, ignore_errors=True)
        else:
            made.part.unlink(missing_ok=True)


def _held(part: Path, *, lock: bool) -> int:
    """A descriptor that marks a part as being written, for as long as it is open: also when this process is killed.

    On shares there is no lock: servers may hold it against our own writing, and others may not see it. There nothing is
    ever taken for abandoned.
    """
    descriptor = os.open(part, os.O_RDONLY)
    if lock:
        fcntl.flock(descriptor, fcntl.LOCK_EX | fcntl.LOCK_NB)
    return descriptor


def _clear_abandoned(folder: Path) -> None:
    """Removes what a process that was killed left half-made: parts under our temporary names that nobody writes."""
    with suppress(OSError):
        for part in folder.iterdir():
            if not _TEMPORARY.fullmatch(part.name) or time.time() - part.stat().st_mtime < _FRESH_S:
                continue
            descriptor = os.open(part, os.O_RDONLY)
            try:
                fcntl.flock(descriptor, fcntl.LOCK_EX | fcntl.LOCK_NB)
                if part.is_dir():
                    shutil.rmtree(part, ignore_errors=True)
                else:
                    part.unlink()
            except OSError:
                # Somebody writes it.
                continue
            finally:
                os.close(descriptor)


@contextmanager
def synced_beside(part: Path) -> Iterator[None]:
    """Lets the disk write an output down while it is checked; that it is written is made sure of before it is named.

    Raises:
        TargetFull, TargetUnusable: the disk refused.
    """
    with ThreadPoolExecutor(1, "sync of an output") as pool:
        synced = pool.submit(_sync, part)
        yield
        # An error of writing is told once: the sync before the naming would not hear of one that was told here.
        with writing(part):
            synced.result()


def _sync(path: Path) -> None:
    descriptor = os.open(path, os.O_RDONLY)
    try:
        os.fsync(descriptor)
    finally:
        os.close(descriptor)


def size_of(part: Path) -> int:
    """The bytes of an output, a file or a folder."""
    return sum(each.stat().st_size for each in part.iterdir()) if part.is_dir() else part.stat().st_size


def _named(part: Path, folder: Path, name: str) -> Path:
    """Makes the output durable and gives it the first free name."""
    with writing(part):
        # What stands under a final name is on the disk: first the data of every file, then the names that lead to it.
        for path in (*(sorted(part.iterdir()) if part.is_dir() else ()), part):
            _sync(path)
        while True:
            final = folder / unique_name(name, lambda taken: os.path.lexists(folder / taken))
            try:
                rename_new(part, final)
            except FileExistsError:
                continue
            sync_folder(folder)
            return final


@contextmanager
def _written_down_beside(part: Path) -> Iterator[None]:
    """Has the disk begin early: left alone it would wait until the sync, and then everybody for all of the file."""
    ended = threading.Event()

    def write_down() -> None:
        with suppress(OSError):
            descriptor = os.open(part, os.O_RDONLY)
            try:
                while not ended.wait(_WRITTEN_DOWN_EVERY_S):
                    begin_writeback(descriptor)
            finally:
                os.close(descriptor)

    thread = threading.Thread(target=write_down, name="writing down", daemon=True)
    thread.start()
    try:
        yield
    finally:
        ended.set()
        thread.join()


@contextmanager
def muxing(path: Path, container: str, options: dict[str, str] | None = None) -> Iterator[OutputContainer]:
    """Opens a new media file for writing, and turns the library's errors into ours.

    Raises:
        TargetFull, TargetUnusable: the disk refused.
    """
    format_name = {"mkv": "matroska"}.get(container, container)
    if container in _ISO:
        options = {"movie_timescale": str(_MOVIE_TICKS), **(options or {})}
    name = path.name.removesuffix(PART_SUFFIX).partition("-")[2] or path.name
    with writing(path.with_name(name)), _written_down_beside(path):
        try:
            with av.open(os.fspath(path), "w", format=format_name, options=options or {}) as target:
                yield target
        except av.error.FFmpegError as error:
            # The muxer forbids what its format does not hold by the same number as a disk.
            if isinstance(error, OSError) and error.errno != errno.EPERM:
                raise OSError(error.errno, error.strerror) from error
            raise MediaError(
                f"{name} cannot be written: {container.upper()} does not take what it would hold.",
                path=path.with_name(name),
                safe="The originals are untouched; nothing half-made is kept.",
                do="Choose another container or recipe.",
            ) from error
