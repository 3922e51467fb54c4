"""Where an output goes: a free name, a temporary file until it is checked, and never an original's place."""

from __future__ import annotations

import os
import secrets
import shutil
from collections.abc import Iterator
from contextlib import contextmanager
from dataclasses import dataclass
from datetime import datetime
from pathlib import Path

import av
import av.error
from av.container import OutputContainer

from diadoche.core.diskfiles import PART_SUFFIX, rename_new, sync_folder
from diadoche.core.errors import MediaError, RequestError, TargetFull, TargetUnusable, writing
from diadoche.core.names import safe_name, unique_name
from diadoche.core.sizes import size_text

_SPARE_BYTES = 16_000_000


def output_name(camera: str, start: datetime | None, original: str, ending: str) -> str:
    """Camera, shooting date and time, original name: unique over a shoot unless a camera repeats itself."""
    moment = start.strftime("%Y-%m-%d_%H%M%S") if start else ""
    return safe_name("_".join(filter(None, (camera, moment, original)))) + f".{ending}"


@dataclass(slots=True)
class NewFile:
    """An output on its way: written to `part`, then standing at `final`, unless it is withheld."""

    part: Path
    final: Path | None = None
    withheld: bool = False


@contextmanager
def new_file(folder: Path, name: str, expected_bytes: int, sources: tuple[Path, ...]) -> Iterator[NewFile]:
    """A temporary file in `folder` that gets a free name when the block ends well, and is removed when not.

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
    # Two jobs may make an output of one name at once: each writes a file of its own.
    made = NewFile(folder / f".{secrets.token_hex(4)}-{name}{PART_SUFFIX}")
    try:
        yield made
        if not made.withheld:
            made.final = _named(made.part, folder, name)
    finally:
        made.part.unlink(missing_ok=True)


def _named(part: Path, folder: Path, name: str) -> Path:
    """Makes the file durable and gives it the first free name."""
    with writing(part):
        descriptor = os.open(part, os.O_RDONLY)
        try:
            os.fsync(descriptor)
        finally:
            os.close(descriptor)
        while True:
            final = folder / unique_name(name, lambda taken: os.path.lexists(folder / taken))
            try:
                rename_new(part, final)
            except FileExistsError:
                continue
            sync_folder(folder)
            return final


@contextmanager
def muxing(path: Path, container: str, options: dict[str, str] | None = None) -> Iterator[OutputContainer]:
    """Opens a new media file for writing, and turns the library's errors into ours.

    Raises:
        TargetFull, TargetUnusable: the disk refused.
    """
    format_name = {"mkv": "matroska"}.get(container, container)
    with writing(path):
        try:
            with av.open(os.fspath(path), "w", format=format_name, options=options or {}) as target:
                yield target
        except av.error.FFmpegError as error:
            if isinstance(error, OSError):
                raise OSError(error.errno, error.strerror) from error
            name = path.name.removesuffix(PART_SUFFIX).partition("-")[2] or path.name
            raise MediaError(
                f"{name} cannot be written: {container.upper()} does not take what it would hold.",
                path=path.with_name(name),
                safe="The originals are untouched; nothing half-made is kept.",
                do="Choose another container or recipe.",
            ) from error
