"""Which disk a folder is on, and what its filesystem holds: by real mounts, and by tables written by hand."""

from __future__ import annotations

import os
from pathlib import Path

import pytest

from diadoche.core.cards.tree import FileEntry
from diadoche.core.disks import (
    UNKNOWN_DISK,
    Disk,
    Limits,
    Mount,
    ReadBack,
    disk_of,
    disk_of_mount,
    distinct_disks,
    limits_of,
    mount_of,
    mounts,
    own_addresses,
    read_back_of_mount,
    standing_part,
)
from diadoche.core.offload.preflight import Room, advice, gone, unusable_reason
from tests.mounts import Image


def test_the_table_of_mounts_is_read_as_the_kernel_writes_it(tmp_path: Path) -> None:
    """Lines as proc(5) shows them: optional fields before the dash, octal escapes in names."""
    table = tmp_path / "mountinfo"
    table.write_text(
        "36 35 98:0 / /mnt/card\\040one rw,noatime master:1 shared:2 - vfat /dev/sdb1 rw,errors=remount-ro\n"
        "37 35 0:45 / /mnt/share ro - cifs //nas/video\\040pool ro,vers=3\n"
        "nonsense\n"
    )
    one, share = mounts(table)
    assert (one.point, one.kind, one.source, one.read_only) == (Path("/mnt/card one"), "vfat", "/dev/sdb1", False)
    assert (share.point, share.source, share.read_only) == (Path("/mnt/share"), "//nas/video pool", True)


def test_the_innermost_and_latest_mount_counts(tmp_path: Path) -> None:
    table = tmp_path / "mountinfo"
    inner = tmp_path / "inner"
    inner.mkdir()
    table.write_text(
        f"1 0 8:1 / / rw - ext4 /dev/sda1 rw\n2 1 8:2 / {inner} rw - ext4 /dev/sda2 rw\n"
        f"3 2 8:3 / {inner} rw - exfat /dev/sdb1 rw\n"
    )
    found = mount_of(inner / "not/yet/there", mounts(table))
    assert found is not None
    assert found.kind == "exfat"


def test_a_loop_image_is_on_the_disk_of_its_file(image: Image, tmp_path: Path) -> None:
    """Two places that look apart, and are lost together."""
    under, inside = disk_of(tmp_path), disk_of(image.point)
    assert inside.key == under.key
    assert mount_of(image.point / "deep/er") is not None
    assert limits_of(image.point) == Limits("ext4", synced_at_once=True)
    told = advice([tmp_path / "a", image.point / "b"], [under, inside], lambda _place: 0)
    assert any("together they count as one copy" in each.what for each in told)


def test_a_volume_of_several_disks_is_on_all_of_them(tmp_path: Path) -> None:
    """btrfs has a device number that names no disk; its members are listed."""
    sys = _sysfs(
        tmp_path / "sys",
        {
            "sdx": {"device/wwid": "one\n", "dev": "8:0"},
            "sdx/sdx1": {"partition": "1", "dev": "8:1"},
            "sdy": {"device/wwid": "two\n", "dev": "8:16"},
        },
        {"8:1": "sdx/sdx1", "8:16": "sdy"},
    )
    devices = sys / "fs/btrfs/some-uuid/devices"
    devices.mkdir(parents=True)
    (devices / "sdx1").symlink_to(sys / "block/sdx/sdx1")
    (devices / "sdy").symlink_to(sys / "block/sdy")
    volume = Mount("0:50", tmp_path, "btrfs", "/dev/sdx1", frozenset())
    assert disk_of_mount(volume, sys).key == "disk:one+two"
    # A member that is not known leaves the whole unknown: half of the truth would count too many.
    (sys / "dev/block/8:16").unlink()
    assert disk_of_mount(volume, sys) == UNKNOWN_DISK


@pytest.mark.parametrize(
    ("loop", "links", "reached"),
    [
        ({}, {"8:0": "sdx"}, ReadBack.DISK),
        ({"loop/dio": "0\n"}, {"8:0": "sdx"}, ReadBack.CACHE),
        ({"loop/dio": "1\n"}, {"8:0": "sdx"}, ReadBack.DISK),
        ({"loop/dio": "1\n"}, {}, ReadBack.CACHE),
    ],
    ids=["a disk", "a file through the cache", "a file past it", "a file on what is not known"],
)
def test_a_proof_reaches_the_disk_only_where_all_beneath_is_known(
    tmp_path: Path, loop: dict[str, str], links: dict[str, str], reached: ReadBack
) -> None:
    """A mapped volume, as an encrypted one is, over a disk, or over a file on it."""
    image = tmp_path / "image"
    image.write_bytes(b"")
    here = image.stat().st_dev
    below = "loop0" if loop else "sdx"
    backing = {"loop/backing_file": f"{image}\n", "dev": "7:0"} if loop else {}
    sys = _sysfs(
        tmp_path / "sys",
        {"dm-0": {"dev": "253:0"}, "sdx": {"dev": "8:0"}} | ({"loop0": backing | loop} if loop else {}),
        {"253:0": "dm-0", **links} | ({"7:0": "loop0"} if loop else {}),
    )
    if links:
        (sys / f"dev/block/{os.major(here)}:{os.minor(here)}").symlink_to(sys / "block/sdx")
    (sys / "block/dm-0/slaves").mkdir()
    (sys / "block/dm-0/slaves" / below).symlink_to(sys / "block" / below)
    devices = sys / "fs/btrfs/some-uuid/devices"
    devices.mkdir(parents=True)
    (devices / "dm-0").symlink_to(sys / "block/dm-0")
    volume = Mount("0:50", tmp_path, "btrfs", "/dev/dm-0", frozenset())
    assert read_back_of_mount(volume, passed_cache=True, sys=sys) is reached
    assert read_back_of_mount(volume, passed_cache=False, sys=sys) is ReadBack.CACHE


def test_a_server_counts_by_its_address(tmp_path: Path) -> None:
    table = tmp_path / "mountinfo"
    lines = [("nas:/video", "rw,vers=4.2,addr=10.0.0.5"), ("10.0.0.5:/sound", "rw"), ("nas:/other", "rw,vers=3")]
    table.write_text("".join(f"1 0 0:4{n} / /m{n} rw - nfs4 {at} {how}\n" for n, (at, how) in enumerate(lines)))
    by_name, by_address, unknown = (disk_of_mount(mount, tmp_path) for mount in mounts(table))
    assert by_name.key == by_address.key == "server:10.0.0.5"
    assert (unknown.key, unknown.kind) == ("unknown", "unknown")


def test_memory_is_a_disk_of_its_own(small_disk: Path) -> None:
    assert disk_of(small_disk).kind == "memory"
    assert disk_of(small_disk / "not there yet").key == "memory"


def test_servers_and_unknown_disks() -> None:
    assert UNKNOWN_DISK.kind == "unknown"
    told = advice([Path("/a"), Path("/b")], [UNKNOWN_DISK, UNKNOWN_DISK], lambda _place: 0)
    assert "may be on the same disk" in told[0].what


def test_only_disks_that_are_known_to_be_different_count() -> None:
    # One server may have several addresses.
    assert distinct_disks(["server:10.0.0.5", "server:10.0.0.6"]) == 1
    assert distinct_disks(["server:10.0.0.5", "disk:one"]) == 2
    # Without serial number and filesystem: two, while they are here together; one that comes back may be either.
    assert distinct_disks(["here:sdx", "here:sdy"], together=True) == 2
    assert distinct_disks(["here:sdx", "here:sdy"]) == 1


def test_what_this_machine_serves_to_itself_is_no_other_disk() -> None:
    own = sorted(own_addresses())
    assert "127.0.0.1" in own
    for address in own:
        share = Mount("0:50", Path("/m"), "nfs4", f"{address}:/video", frozenset(), address)
        assert disk_of_mount(share).key == "unknown"


def test_compressed_memory_is_no_disk(tmp_path: Path) -> None:
    """A filesystem over /dev/zram0, asked for by its volume."""
    sys = _sysfs(tmp_path / "sys", {"zram0": {"dev": "252:0"}}, {"252:0": "zram0"})
    devices = sys / "fs/btrfs/some-uuid/devices"
    devices.mkdir(parents=True)
    (devices / "zram0").symlink_to(sys / "block/zram0")
    volume = Mount("0:50", tmp_path, "btrfs", "/dev/zram0", frozenset())
    assert disk_of_mount(volume, sys).kind == "memory"
    assert read_back_of_mount(volume, passed_cache=True, sys=sys) is ReadBack.CACHE


def test_a_disk_without_serial_number_is_known_by_its_filesystems(tmp_path: Path) -> None:
    """The same stick, as another letter the second time; and one that nothing tells again."""
    keys = []
    for letter in ("sdx", "sdy"):
        folder = tmp_path / letter
        sys = _sysfs(
            folder, {letter: {"dev": "8:0"}, f"{letter}/{letter}1": {"partition": "1", "dev": "8:1"}},
            {"8:1": f"{letter}/{letter}1"},
        )  # fmt: skip
        devices = sys / "fs/btrfs/some-uuid/devices"
        devices.mkdir(parents=True)
        (devices / f"{letter}1").symlink_to(sys / f"block/{letter}/{letter}1")
        ids = folder / "by-uuid"
        ids.mkdir()
        stick = Mount("0:50", tmp_path, "btrfs", f"/dev/{letter}1", frozenset())
        assert disk_of_mount(stick, sys, ids).key == f"here:{letter}"
        (ids / "1234-ABCD").symlink_to(f"/dev/{letter}1")
        keys.append(disk_of_mount(stick, sys, ids).key)
    assert keys == ["disk:filesystem 1234-ABCD"] * 2


def _sysfs(folder: Path, entries: dict[str, dict[str, str]], devices: dict[str, str]) -> Path:
    for name, files in entries.items():
        for file, text in files.items():
            path = folder / "block" / name / file
            path.parent.mkdir(parents=True, exist_ok=True)
            path.write_text(text)
    (folder / "dev/block").mkdir(parents=True)
    for number, name in devices.items():
        (folder / "dev/block" / number).symlink_to(folder / "block" / name)
    (folder / "class/block").mkdir(parents=True)
    for name in entries:
        link = folder / "class/block" / name.rpartition("/")[2]
        if not link.exists():
            link.symlink_to(folder / "block" / name)
    return folder


@pytest.mark.usefixtures("known_disk")
def test_a_partition_is_on_its_whole_disk_with_the_models_name(tmp_path: Path) -> None:
    here = tmp_path.stat().st_dev
    number = f"{os.major(here)}:{os.minor(here)}"
    sys = _sysfs(
        tmp_path / "sys",
        {
            "sdx": {"device/model": "Shuttle 4T  \n", "device/wwid": "naa.5000\n", "dev": "8:0"},
            "sdx/sdx1": {"partition": "1", "dev": number},
        },
        {number: "sdx/sdx1"},
    )
    found = disk_of(tmp_path, sys)
    assert (found.key, found.kind) == ("disk:naa.5000", "disk")
    assert found.words == "the disk Shuttle 4T (sdx)"


@pytest.mark.parametrize(
    ("limits", "path", "size", "why"),
    [
        (Limits("FAT32", 4_294_967_295), "a.mov", 4_294_967_295, ""),
        (Limits("FAT32", 4_294_967_295), "a.mov", 4_294_967_296, "larger than FAT32"),
        (Limits("exFAT", plain_names=True), "a/b?.mov", 1, "a name that exFAT cannot hold"),
        (Limits("exFAT", plain_names=True), "a/b ", 1, "a name that exFAT cannot hold"),
        (Limits("exFAT", plain_names=True), "ok/.hidden", 1, ""),
        (Limits("ext4"), 'any?"*', 1, ""),
    ],
)
def test_limits(limits: Limits, path: str, size: int, why: str) -> None:
    assert why in limits.refuses(path, size)
    assert bool(why) == bool(limits.refuses(path, size))


def test_what_hinders_is_found_before_the_first_byte(tmp_path: Path, small_disk: Path, read_only_disk: Path) -> None:
    files = [FileEntry("A.MOV", 5_000_000_000, 0)]
    fat = Limits("FAT32", 4_294_967_295)
    assert unusable_reason(tmp_path, [], Limits("")) is None
    for place, limits, word in (
        (tmp_path, fat, "larger than FAT32"),
        (read_only_disk / "new", Limits(""), "cannot be written to"),
    ):
        problem = unusable_reason(place, files, limits)
        assert problem is not None
        assert word in problem.what
    for needed, also, shared, word in (
        (7_000_000, 0, 0, "this card needs 7.0 MB"),
        (1_000_000, 6_000_000, 0, "6.0 MB more is to come"),
        (1_000_000, 0, 6_000_000, "another place on the same filesystem takes 6.0 MB"),
    ):
        problem = Room.of(small_disk).missing(small_disk, needed, also, shared)
        assert problem is not None
        assert word in problem.what
    assert Room.of(small_disk).missing(small_disk, 1_000_000, 1_000_000, 1_000_000) is None


def test_a_place_whose_disk_is_not_plugged_in_is_not_the_system_disk() -> None:
    system, other = Disk("disk:sys", "disk", "the disk sys", system=True), Disk("disk:b", "disk", "the disk b")
    problem = gone(Path("/media/shuttle"), system, "disk:shuttle")
    assert problem is not None
    assert "not plugged in" in problem.what
    assert gone(Path("/media/shuttle"), other, "disk:shuttle") is None
    assert gone(Path("/home/x"), system, "disk:sys") is None
    assert gone(Path("/home/x"), system, "") is None


def test_the_system_disk_is_advised_against() -> None:
    told = advice([Path("/a")], [Disk("d", "disk", "the disk d", system=True)], lambda _place: 3)
    assert "runs from" in told[0].what
    assert "3 names" in told[1].what


def test_the_standing_part_of_a_path(tmp_path: Path) -> None:
    assert standing_part(tmp_path / "x/y/z") == tmp_path
