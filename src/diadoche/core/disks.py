"""Which physical disk a folder is on, and what its filesystem can hold.

Two copies on one disk are one copy: both go with it. Two places count as different disks only where that is
known: an unknown disk may be any of the known ones, and memory is no disk at all.

Sources: [PROC] proc(5), /proc/self/mountinfo; [SYSFS] the kernel's sysfs rules for block devices,
and /sys/fs/btrfs for the members of a volume; [NFS], [CIFS] nfs(5) and mount.cifs(8): the option addr;
[FATSPEC] FAT32 file sizes; [EXFAT] section 7.7.3, forbidden characters.
"""

from __future__ import annotations

import ipaddress
import os
import re
from collections.abc import Iterable
from contextlib import suppress
from dataclasses import dataclass
from enum import StrEnum
from itertools import chain, pairwise
from pathlib import Path
from typing import Literal

DiskKind = Literal["disk", "network", "memory", "unknown"]
_NETWORK = {"nfs", "nfs4", "cifs", "smb3", "smbfs", "afs", "ceph", "9p", "fuse.sshfs", "fuse.gvfsd-fuse"}
_MEMORY = {"tmpfs", "ramfs", "devtmpfs"}
_FAT = {"vfat", "msdos", "fat"}
_WINDOWS_NAMES = {"vfat", "msdos", "fat", "exfat", "ntfs", "ntfs3", "fuseblk"}
_FAT_LARGEST_BYTES = 4_294_967_295
_ON_BLOCKS = {
    "ext2", "ext3", "ext4", "xfs", "btrfs", "f2fs", "jfs",
    "reiserfs", "vfat", "msdos", "exfat", "ntfs3", "hfsplus", "udf",
}  # fmt: skip
# Where one call makes everything durable: elsewhere (shares, FUSE) it reaches the far side's memory, not its disk.
_SYNCED_AT_ONCE = _ON_BLOCKS | _MEMORY | {"overlay", "zfs"}
_FORBIDDEN_THERE = re.compile(r'[\x00-\x1f"*/:<>?\\|]')
_ESCAPED = re.compile(r"\\([0-7]{3})")
_UNKNOWN_KEY = "unknown"
# Block devices that are no disks: compressed and plain memory; disks of another machine.
_MEMORY_BLOCKS, _NETWORK_BLOCKS = re.compile(r"(zram|ram)\d+"), re.compile(r"(nbd|drbd|rbd)\d+")
_BY_UUID = Path("/dev/disk/by-uuid")


@dataclass(frozen=True, slots=True)
class Mount:
    """A mounted filesystem, as the kernel lists it."""

    device: str
    point: Path
    kind: str
    source: str
    options: frozenset[str]
    # Of the server, where it is one.
    address: str = ""

    @property
    def read_only(self) -> bool:
        """Whether it was mounted for reading alone."""
        return "ro" in self.options


@dataclass(frozen=True, slots=True)
class Disk:
    """What two folders have in common when they are lost together.

    `key` is "disk:" and the names of its members with a plus between, "server:" and an address, "here:" and a letter
    for a disk that nothing will tell again once it was away, or a word for what is not known; `distinct_disks` counts
    such keys.
    """

    key: str
    kind: DiskKind = "unknown"
    words: str = "an unknown disk"
    system: bool = False


UNKNOWN_DISK = Disk(_UNKNOWN_KEY)


def distinct_disks(keys: Iterable[str], *, together: bool = False) -> int:
    """On how many different disks copies are known to be: never too many.

    Whatever shares a member is one; all that is unknown, memory included, may be on any of them. All servers are one,
    for one may have several addresses.

    Args:
        keys: of disks.
        together: they are all here at this moment: then letters tell disks apart, too.
    """
    given = set(keys)
    groups: list[set[str]] = []
    for key in given:
        members = _members(key, together=together)
        if not members:
            continue
        touching = [group for group in groups if group & members]
        groups = [group for group in groups if not group & members]
        groups.append(members.union(*touching))
    return len(groups) or (1 if given else 0)


def is_known_disk(key: str) -> bool:
    """Whether a key tells one disk or server from all others."""
    return bool(_members(key))


def _members(key: str, *, together: bool = False) -> set[str]:
    kind, _, name = key.partition(":")
    if kind == "here" and name and together:
        return {f"disk:{each}" for each in name.split("+")}
    if kind == "disk":
        return {f"disk:{each}" for each in name.split("+") if each}
    if kind == "server":
        # A name may be anything, this machine included.
        return {"server"} if _is_address(name) else set()
    return {key} if kind == "simulated" and name else set()


def _is_address(text: str) -> bool:
    try:
        return not ipaddress.ip_address(text.partition("%")[0]).is_loopback
    except ValueError:
        return False


@dataclass(frozen=True, slots=True)
class Limits:
    """What a filesystem can hold, and whether one call makes all of it durable."""

    kind: str
    largest_file_bytes: int | None = None
    plain_names: bool = False
    folds_case: bool = False
    synced_at_once: bool = False

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
            address = next((each[5:] for each in rest[2].split(",") if each.startswith("addr=")), "")
            found.append(Mount(fields[2], Path(_plain(fields[4])), rest[0], _plain(rest[1]), options, address))
    return found


def _plain(text: str) -> str:
    return _ESCAPED.sub(lambda match: chr(int(match[1], 8)), text)


def standing_part(path: Path) -> Path:
    """The path, or the innermost folder above it that is there."""
    while path != path.parent and not path.exists():
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
    plain = kind in _WINDOWS_NAMES
    return Limits(spoken, _FAT_LARGEST_BYTES if kind in _FAT else None, plain, plain, kind in _SYNCED_AT_ONCE)


def disk_of(path: Path, sys: Path = Path("/sys")) -> Disk:
    """The physical disk of a folder: one for each network server, one together for all that is unknown."""
    mount = mount_of(path)
    return UNKNOWN_DISK if mount is None else disk_of_mount(mount, sys)


def disk_of_mount(mount: Mount, sys: Path = Path("/sys"), filesystems: Path = _BY_UUID) -> Disk:
    """The physical disk, or the disks together, that a mounted filesystem is on.

    Args:
        mount: the filesystem.
        sys: the kernel's own tree.
        filesystems: where filesystems are listed by their own ids.
    """
    if mount.kind in _NETWORK or mount.source.startswith("//"):
        name = _server(mount.source)
        known = mount.address or name
        if not _is_address(known) or known.partition("%")[0] in own_addresses():
            return Disk(_UNKNOWN_KEY, "unknown", f"the server {name}, whose address is not known")
        return Disk(f"server:{known}", "network", f"the server {name}")
    if mount.kind in _MEMORY:
        return Disk("memory", "memory", "this machine's memory")
    names = _mount_disks(mount, sys)
    if any(_MEMORY_BLOCKS.fullmatch(name) for name in names):
        return Disk("memory", "memory", "this machine's memory")
    if not names or any(_NETWORK_BLOCKS.fullmatch(name) for name in names):
        return UNKNOWN_DISK
    root = mount_of(Path("/"))
    system = bool(root and names & _mount_disks(root, sys))
    found = {name: _lasting_name(name, sys, filesystems) for name in names}
    if not all(found.values()):
        return Disk(f"here:{'+'.join(sorted(names))}", "disk", _words(sorted(names), sys), system)
    key = "+".join(sorted(each.replace("+", "_") for each in found.values()))
    return Disk(f"disk:{key}", "disk", _words(sorted(names), sys), system)


def own_addresses(net: Path = Path("/proc/net")) -> frozenset[str]:
    """The addresses of this machine itself: what it serves to itself is on its own disks [PROC]."""
    found = set()
    with suppress(OSError):
        lines = (net / "fib_trie").read_text().splitlines()
        found = {above.split()[-1] for above, line in pairwise(lines) if "host LOCAL" in line}
    with suppress(OSError):
        for line in (net / "if_inet6").read_text().splitlines():
            found.add(str(ipaddress.IPv6Address(bytes.fromhex(line.split()[0]))))
    return frozenset(found)


def _server(source: str) -> str:
    if source.startswith("//"):
        return source[2:].partition("/")[0]
    return source.rpartition("@")[2].partition(":")[0].strip("[]") or source


def _mount_disks(mount: Mount, sys: Path) -> frozenset[str]:
    """The whole disks that a filesystem is on; none where one of them is not known."""
    stack = _mount_stack(mount, sys)
    return frozenset(folder.name for folder in stack if not _slaves(folder) and not _is_loop(folder))


def _mount_stack(mount: Mount, sys: Path) -> tuple[Path, ...]:
    if mount.kind == "btrfs":
        # Its own device number names no disk; the volume's members are listed [SYSFS].
        return _btrfs_stack(mount, sys)
    try:
        return _block_stack(mount.point.stat().st_dev, sys, depth=0)
    except OSError:
        return ()


def _btrfs_stack(mount: Mount, sys: Path) -> tuple[Path, ...]:
    source = Path(mount.source)
    for devices in sorted((sys / "fs/btrfs").glob("*/devices")):
        members = sorted(devices.iterdir())
        if any(member.name == source.resolve().name for member in members):
            return _all_known(_block_stack(_device(member.resolve()), sys, depth=0) for member in members)
    return ()


def _block_stack(device: int, sys: Path, depth: int) -> tuple[Path, ...]:
    """The kernel's folders of the block devices beneath one: through partitions, mapped volumes and loops [SYSFS].

    Empty where one of those beneath is not known: half of the truth would count too many.
    """
    link = sys / "dev/block" / f"{os.major(device)}:{os.minor(device)}"
    if depth > 8 or not link.exists():
        return ()
    folder = link.resolve()
    if (folder / "partition").exists():
        folder = folder.parent
    if slaves := _slaves(folder):
        below = _all_known(_block_stack(_device(slave), sys, depth + 1) for slave in slaves)
        return (folder, *below) if below else ()
    if _is_loop(folder):
        # A file that was deleted has lost its name: its disk cannot be told any more.
        file = Path((folder / "loop/backing_file").read_text().strip())
        below = _block_stack(file.stat().st_dev, sys, depth + 1) if file.exists() else ()
        return (folder, *below) if below else ()
    return (folder,)


def _all_known(stacks: Iterable[tuple[Path, ...]]) -> tuple[Path, ...]:
    """Several stacks as one; nothing where one of them is not known."""
    found = tuple(stacks)
    return tuple(chain.from_iterable(found)) if all(found) else ()


def _slaves(folder: Path) -> list[Path]:
    return [slave.resolve() for slave in (folder / "slaves").glob("*")]


def _is_loop(folder: Path) -> bool:
    return (folder / "loop/backing_file").exists()


def _device(folder: Path) -> int:
    major, _, minor = (folder / "dev").read_text().strip().partition(":")
    return os.makedev(int(major), int(minor))


def _lasting_name(name: str, sys: Path, filesystems: Path) -> str:
    """A name that stays when the disk is plugged in elsewhere: the same disk may be sda today and sdb tomorrow.

    Without a serial number (most sticks) it is known by the ids of the filesystems on it; nothing where it has none.
    """
    if serial := _serial(name, sys):
        return serial
    block = sys / "class/block" / name
    blocks = {name, *(each.parent.name for each in block.glob("*/partition"))}
    try:
        ids = sorted(link.name for link in filesystems.iterdir() if link.resolve().name in blocks)
    except OSError:
        return ""
    return f"filesystem {' '.join(ids)}" if ids else ""


def _serial(name: str, sys: Path) -> str:
    """The serial number of a disk, or nothing where it has none."""
    for file in ("wwid", "device/wwid", "serial", "device/serial"):
        place = sys / "class/block" / name / file
        try:
            if text := place.read_text("utf-8", "replace").strip():
                return " ".join(text.split())
        except OSError:
            continue
    return ""


def _words(names: list[str], sys: Path) -> str:
    if len(names) > 1:
        return f"the disks {' and '.join(names)} together"
    try:
        model = " ".join((sys / "class/block" / names[0] / "device/model").read_text("utf-8", "replace").split())
    except OSError:
        model = ""
    return f"the disk {model} ({names[0]})" if model else f"the disk {names[0]}"


class ReadBack(StrEnum):
    """What a reading back of a copy is known to have reached; a proof says no more than that."""

    DISK = "read back from the disk itself"
    NETWORK = "read back over the network; the server may have answered from its memory"
    CACHE = "read back, not past the cache"


def read_back_of(path: Path, *, passed_cache: bool, sys: Path = Path("/sys")) -> ReadBack:
    """How far readings below a folder reach.

    Args:
        path: the folder.
        passed_cache: whether the system took every file opened for direct reading.
        sys: the kernel's own tree.
    """
    mount = mount_of(path)
    return ReadBack.CACHE if mount is None else read_back_of_mount(mount, passed_cache=passed_cache, sys=sys)


def read_back_of_mount(mount: Mount, *, passed_cache: bool, sys: Path = Path("/sys")) -> ReadBack:
    """How far readings of a mounted filesystem reach; arguments as above."""
    if mount.kind in _NETWORK or mount.source.startswith("//"):
        return ReadBack.NETWORK
    # FUSE and others take a direct reading too, and answer it from a cache of their own.
    if passed_cache and mount.kind in _ON_BLOCKS and _reaches_disks(mount, sys):
        return ReadBack.DISK
    return ReadBack.CACHE


def _reaches_disks(mount: Mount, sys: Path) -> bool:
    """Whether nothing beneath a filesystem is a file that is read through the page cache: a loop without direct access.

    What lies beneath it is known for that, or it is not said.
    """
    stack = _mount_stack(mount, sys)
    if any(_MEMORY_BLOCKS.fullmatch(each.name) or _NETWORK_BLOCKS.fullmatch(each.name) for each in stack):
        return False
    try:
        return bool(stack) and all((each / "loop/dio").read_text().strip() == "1" for each in stack if _is_loop(each))
    except OSError:
        return False
