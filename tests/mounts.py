"""Cards, failing mounts and altered images; each is skipped with its reason where this machine does not allow it."""

from __future__ import annotations

import os
import random
import subprocess
from collections.abc import Callable, Iterator
from pathlib import Path

import pytest

from diadoche.demo.faulty_folder import FaultyMount, can_mount
from tests.recordings import cut_off

Mounter = Callable[..., FaultyMount]


@pytest.fixture
def small_card(tmp_path: Path) -> Path:
    """A card with large files, small ones that are copied in packs, and an empty one."""
    root = tmp_path / "card"
    (root / "DCIM/100ABCDE").mkdir(parents=True)
    dice = random.Random(7)
    for number, size in enumerate((5_000_000, 700_000, 3_000, 0, 90_000, 1), start=1):
        (root / f"DCIM/100ABCDE/ABCD{number:04}.MP4").write_bytes(cut_off(size, dice.randbytes))
    (root / "EMPTY").mkdir()
    return root


@pytest.fixture
def faulty(tmp_path: Path) -> Iterator[Mounter]:
    """Shows a folder a second time, with faults on cue."""
    if why := can_mount():
        pytest.skip(why)
    mounts: list[FaultyMount] = []

    def mounted(folder: Path, *, writable: bool = False) -> FaultyMount:
        folder.mkdir(exist_ok=True)
        made = FaultyMount(folder, tmp_path / f"mount-{len(mounts)}", writable=writable)
        mounts.append(made)
        return made

    yield mounted
    for each in mounts:
        each.close()


class Image:
    """A file with a filesystem in it, mounted through a loop device; it can be altered beneath the mount."""

    def __init__(self, folder: Path) -> None:
        self.file = folder / "disk.img"
        self.point = folder / "image"
        self.point.mkdir()
        with self.file.open("wb") as file:
            file.truncate(64 * 1024 * 1024)
        _run("mkfs.ext4", "-q", "-F", str(self.file))
        _run("mount", "-o", "loop", str(self.file), str(self.point))

    def flip(self, needle: bytes) -> None:
        """Changes one bit in the image where a run of bytes stands, past the filesystem and its cache."""
        descriptor = os.open(self.file, os.O_RDWR)
        try:
            place = os.pread(descriptor, 64 * 1024 * 1024, 0).find(needle)
            assert place >= 0, "the bytes have not reached the image"
            os.pwrite(descriptor, bytes([needle[0] ^ 1]), place)
            os.fsync(descriptor)
        finally:
            os.close(descriptor)

    def close(self) -> None:
        subprocess.run(["umount", "-l", str(self.point)], check=False)


def _run(*words: str) -> None:
    done = subprocess.run(words, capture_output=True, text=True, check=False)
    if done.returncode:
        pytest.skip(f"{words[0]} is not possible here: {done.stderr.strip()}")


@pytest.fixture
def image(tmp_path: Path) -> Iterator[Image]:
    """A disk of 64 MB that is a file."""
    made = Image(tmp_path)
    yield made
    made.close()
