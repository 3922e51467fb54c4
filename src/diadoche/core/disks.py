"""Which physical disk a folder is on, and what its filesystem can hold.

Two copies on one disk are one copy: both go with it. Where nothing can be known about a disk, all such
places count as one together, so that the count is never too high.

Sources: [PROC] proc(5), /proc/self/mountinfo; [SYSFS] the kernel's sysfs rules for block devices;
[FATSPEC] FAT32 file sizes; [EXFAT] section 7.7.3, forbidden characters.
"""

from __future__ import annotations

import os
import re
from dataclasses import dataclass
from pathlib import Path
from typing import Literal

DiskKind = Literal["disk", "network", "memory", "unknown"]
_NETWORK = {"nfs", "nfs4", "cifs", "smb3", "smbfs", "afs", "ceph", "9p", "fuse.sshfs", "fuse.gvfsd-fuse"}
_MEMORY = {"tmpfs", "ramfs", "devtmpfs"}
_FAT = {"vfat", "msdos", "fat"}
_WINDOWS_NAMES = {"vfat", "msdos", "fat", "exfat", "ntfs", "ntfs3", "fuseblk"}
_FAT_LARGEST_BYTES = 4_294_967_295
_FORBIDDEN_THERE = re.compile(r'[\x00-\x1f"*/:<>?\\|]')
_ESCAPED = re.compile(r"\\([0-7]{3})")
_UNKNOWN_KEY = "unknown"


@dataclass(frozen=True, slots=True)
class Mount:
    """A mounted filesystem, as the kernel lists it."""

    device: str
    point: Path
    kind: str
    source: str
    options: frozenset[str]

    @property
    def read_only(self) -> bool:
        """Whether it was mounted for reading alone."""
        return "ro" in self.options


@dataclass(frozen=True, slots=True)
class Disk:
    """What two folders have in common when they are lost together. Equal keys: the same disk."""

    key: str
    kind: DiskKind = "unknown"
    words: str = "an unknown disk"
    system: bool = False


UNKNOWN_DISK = Disk(_UNKNOWN_KEY)


@dataclass(frozen=True, slots=True)
class Limits:
    """What a filesystem can hold."""

    kind: str
    largest_file_bytes: int | None = None
    plain_names: bool = False
    folds_case: bool = False

    def refuses(self, path: str, size_bytes: int) -> str:
        """Why a file cannot be kept there under its name, or nothing."""
        if self.largest_file_bytes is not None and size_bytes > self.largest_file_bytes:
            return f"is larger than {self.kind} can hold ({self.largest_file_bytes:,} bytes)"
        for name in path.split("/") if self.plain_names else ():
            if (
                _FORBIDDEN_THERE.search(name)
                or name.endswith((" ", "."))
                or any("\udc80" <= each <= "\udcff" for each in name)
            ):
                return f"has a name that {self.kind} cannot hold"
        return ""


def mounts(table: Path = Path("/proc/self/mountinfo")) -> list[Mount]:
    """What is mounted now; later mounts lie on top of earlier ones [PROC]."""
    found = []
    for line in table.read_text("utf-8", "surrogateescape").splitlines():
        before, _, after = line.partition(" - ")
        fields, rest = before.split(" "), after.split(" ")
        if len(fields) >= 6 and len(rest) >= 3:
            options = frozenset(fields[5].split(",")) | frozenset(rest[2].split(",") if rest[2] == "ro" else ())
            found.append(Mount(fields[2], Path(_plain(fields[4])), rest[0], _plain(rest[1]), options))
    return found


def _plain(text: str) -> str:
    return _ESCAPED.sub(lambda match: chr(int(match[1], 8)), text)


def standing_part(path: Path) -> Path:
    """The path, or the innermost folder above it that is there."""
    while not path.exists() and path != path.parent:
        path = path.parent
    return path


def mount_of(path: Path, listed: list[Mount] | None = None) -> Mount | None:
    """The filesystem that a path lies on, or would lie on once it is made."""
    real = standing_part(path).resolve()
    around = [real, *real.parents]
    inside = [mount for mount in (mounts() if listed is None else listed) if mount.point in around]
    return max(reversed(inside), key=lambda mount: len(mount.point.parts), default=None)


def limits_of(path: Path) -> Limits:
    """What the filesystem of a path can hold, as far as its kind tells."""
    mount = mount_of(path)
    kind = mount.kind if mount is not None else ""
    spoken = {"vfat": "FAT32", "msdos": "FAT", "exfat": "exFAT", "ntfs3": "NTFS", "fuseblk": "NTFS"}.get(kind, kind)
    return Limits(spoken, _FAT_LARGEST_BYTES if kind in _FAT else None, kind in _WINDOWS_NAMES, kind in _WINDOWS_NAMES)


def disk_of(path: Path, sys: Path = Path("/sys")) -> Disk:
    """The physical disk of a folder: one for each network server, one together for all that is unknown."""
    mount = mount_of(path)
    if mount is None:
        return UNKNOWN_DISK
    if mount.kind in _NETWORK or mount.source.startswith("//"):
        server = _server(mount.source)
        return Disk(f"server:{server}", "network", f"the server {server}")
    if mount.kind in _MEMORY:
        return Disk("memory", "memory", "this machine's memory")
    names = _block_disks(mount.point.stat().st_dev, sys, depth=0)
    if not names:
        return UNKNOWN_DISK
    system = bool(names & _block_disks(Path("/").stat().st_dev, sys, depth=0))
    key = "+".join(sorted(names))
    return Disk(f"disk:{_serial(key, sys)}", "disk", _words(key, sys), system)


def _server(source: str) -> str:
    if source.startswith("//"):
        return source[2:].partition("/")[0]
    return source.rpartition("@")[2].partition(":")[0] or source


def _block_disks(device: int, sys: Path, depth: int) -> frozenset[str]:
    """The whole disks beneath a block device: through partitions, mapped volumes and loops [SYSFS]."""
    link = sys / "dev/block" / f"{os.major(device)}:{os.minor(device)}"
    if depth > 8 or not link.exists():
        return frozenset()
    folder = link.resolve()
    if (folder / "partition").exists():
        folder = folder.parent
    slaves = [slave.resolve() for slave in (folder / "slaves").glob("*")]
    if slaves:
        return frozenset().union(*(_block_disks(_device(slave), sys, depth + 1) for slave in slaves))
    backing = folder / "loop/backing_file"
    if backing.exists():
        file = Path(backing.read_text().strip())
        return _block_disks(file.stat().st_dev, sys, depth + 1) if file.exists() else frozenset()
    return frozenset({folder.name})


def _device(folder: Path) -> int:
    major, _, minor = (folder / "dev").read_text().strip().partition(":")
    return os.makedev(int(major), int(minor))


def _serial(key: str, sys: Path) -> str:
    """A name that stays when the disk is plugged in elsewhere: the same disk may be sda today and sdb tomorrow."""
    for name in ("wwid", "device/wwid", "serial", "device/serial"):
        place = sys / "class/block" / key / name
        try:
            if text := place.read_text("utf-8", "replace").strip():
                return " ".join(text.split())
        except OSError:
            continue
    return key


def _words(key: str, sys: Path) -> str:
    try:
        model = " ".join((sys / "class/block" / key / "device/model").read_text("utf-8", "replace").split())
    except OSError:
        model = ""
    return f"the disk {model} ({key})" if model else f"the disk {key}"
