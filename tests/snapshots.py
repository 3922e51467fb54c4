"""What a folder holds, to the byte and the time stamp, so that "unchanged" can be asserted."""

from __future__ import annotations

import hashlib
import os
from pathlib import Path

Snapshot = dict[str, tuple[int, int, int, str]]


def snapshot(root: Path) -> Snapshot:
    """For every file and folder: mode, modification and access time in ns, digest of the content."""
    found: Snapshot = {}
    _take(root, root, found)
    return found


def _take(folder: Path, root: Path, found: Snapshot) -> None:
    # Folders too are opened without leaving an access time, or taking the picture would change it.
    descriptor = os.open(folder, os.O_RDONLY | os.O_DIRECTORY | os.O_NOATIME)
    try:
        with os.scandir(descriptor) as entries:
            names = sorted(entry.name for entry in entries)
    finally:
        os.close(descriptor)
    for name in names:
        path = folder / name
        info = path.lstat()
        content = ""
        if path.is_file() and not path.is_symlink():
            with os.fdopen(os.open(path, os.O_RDONLY | os.O_NOATIME), "rb") as file:
                content = hashlib.sha256(file.read()).hexdigest()
        found[str(path.relative_to(root))] = (info.st_mode, info.st_mtime_ns, info.st_atime_ns, content)
        if path.is_dir() and not path.is_symlink():
            _take(path, root, found)


def contents(root: Path, *, without: str = "ascmhl") -> dict[str, str]:
    """Digest of every file by its path, the manifest folder left out; folders have none."""
    return {path: entry[3] for path, entry in snapshot(root).items() if path.split("/")[0] != without}


def flip_unsampled(path: Path) -> None:
    """Changes a bit of a file that no quick look reads (`content_key`: both ends, and thirty places between)."""
    info, data = path.stat(), bytearray(path.read_bytes())
    step = len(data) // 31
    assert step > 5000, "every byte of so small a file is looked at"
    data[step * 15 + 4500] ^= 1
    path.write_bytes(data)
    os.utime(path, ns=(info.st_atime_ns, info.st_mtime_ns))
