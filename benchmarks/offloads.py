"""Offloads against `dd` and `cp`, on disk and in memory."""

from __future__ import annotations

import os
import shutil
import subprocess
import sys
import tempfile
from collections.abc import Iterator
from datetime import UTC, date, datetime
from pathlib import Path

from benchmarks.measuring import Row, at_most, quiet_disks, ratio, ratios, run
from diadoche.core.cards.tree import list_tree
from diadoche.core.offload.naming import NamingValues
from diadoche.core.offload.offload import offload
from diadoche.core.offload.plan import plan_offload
from diadoche.core.watch import Watch

_LARGE_BYTES = 250_000_000
_MB = 1_000_000
_MEASURED_FILES, _SHARE = 2, 4


def card_of(folder: Path, files: int, size_bytes: int) -> Path:
    """A card of random bytes."""
    card = folder / "card"
    (card / "DCIM/100ABCDE").mkdir(parents=True)
    block = os.urandom(min(size_bytes, 8 * _MB))
    for number in range(files):
        with (card / f"DCIM/100ABCDE/ABCD{number:05}.MP4").open("wb") as file:
            written = 0
            while written < size_bytes:
                written += file.write(number.to_bytes(4, "big") + block[: size_bytes - written])
    return card


def ours(card: Path, folder: Path) -> None:
    """An offload to two places, proven."""
    for name in ("a", "b"):
        shutil.rmtree(folder / name, ignore_errors=True)
    plan = plan_offload(list_tree(card), NamingValues("S", date(2026, 1, 1), "C"), (folder / "a", folder / "b"))
    result = offload(plan, Watch(), version="bench", now=lambda: datetime.now(UTC))
    assert result.proven_copies == 2, result.problems


def by_dd(card: Path, folder: Path, *, direct: bool) -> None:
    """The same bytes: read once, written twice with fsync, read back twice."""
    for name in ("da", "db"):
        shutil.rmtree(folder / name, ignore_errors=True)
        (folder / name).mkdir()
    for path in files_of(card):
        one, other = folder / "da" / path.name, folder / "db" / path.name
        sync = " conv=fsync" if direct else ""
        first = f"dd of='{one}' bs=4M iflag=fullblock{sync}"
        second = f"dd of='{other}' bs=4M iflag=fullblock{sync}"
        read = f"dd if='{path}' bs=4M | tee >({first}) | {second}; wait"
        run("bash", "-c", read)
    for name in ("da", "db"):
        for path in sorted((folder / name).iterdir()):
            run("dd", f"if={path}", "of=/dev/null", "bs=4M", *(["iflag=direct"] if direct else []))


def files_of(card: Path) -> list[Path]:
    """The files of such a card."""
    return sorted((card / "DCIM/100ABCDE").iterdir())


def part_of(card: Path) -> Path:
    """A card that holds one in so many of the files of another one: the same bytes on the disk."""
    part = card.with_name("part")
    (part / "DCIM/100ABCDE").mkdir(parents=True)
    for path in files_of(card)[::_SHARE]:
        (part / "DCIM/100ABCDE" / path.name).hardlink_to(path)
    return part


def by_cp(card: Path, folder: Path) -> None:
    """What careful people do by hand: copy twice, sync, and digest three times."""
    for name in ("ca", "cb"):
        shutil.rmtree(folder / name, ignore_errors=True)
        run("cp", "-a", card, folder / name)
    run("sync")
    for place in (card, folder / "ca", folder / "cb"):
        run("bash", "-c", f"find '{place}' -type f -print0 | xargs -0 md5sum")


def cp_and_sync(card: Path, folder: Path) -> None:
    """Two plain copies on the disk, unproven."""
    for name in ("ca", "cb"):
        shutil.rmtree(folder / name, ignore_errors=True)
        run("cp", "-a", card, folder / name)
    run("sync")


def rows() -> Iterator[Row]:
    """The rows about offloads."""
    with tempfile.TemporaryDirectory(dir=".") as name:
        folder = Path(name).absolute()
        card = card_of(folder, 8, _LARGE_BYTES)
        # Public tools take as many times as long for as many times the bytes.
        part = part_of(card)
        others = [lambda: by_dd(part, folder, direct=True), lambda: by_cp(part, folder)]
        against_dd, measured = (
            each / _SHARE
            for each in ratios(lambda: ours(card, folder), others, quiet_disks, [1.1 * _SHARE, 0.5 * _SHARE])
        )
        yield at_most(
            "offload of 2 GB to two places, proven",
            f"dd, for one file in {_SHARE}: one read, two writes with fsync, two direct reads",
            1.10,
            against_dd,
        )
        yield Row(
            "the same",
            f"cp -a twice, sync, md5sum three times, for one file in {_SHARE}",
            "≥ 2.00× as fast",
            f"{1 / measured:.2f}×",
            measured <= 0.5,
        )
        yield _memory_row(card, folder)
    with tempfile.TemporaryDirectory(dir=".") as name:
        folder = Path(name).absolute()
        card = card_of(folder, 10_000, 100_000)
        # All of them: what a disk takes of a few thousand files at once it does not take of ten thousand.
        measured = ratio(lambda: ours(card, folder), lambda: cp_and_sync(card, folder), quiet_disks, 1.5)
        yield at_most("10,000 files of 100 kB, proven", "cp -a and sync twice", 1.50, measured)
    with tempfile.TemporaryDirectory(dir="/dev/shm") as name:
        folder = Path(name)
        card = card_of(folder, 4, _LARGE_BYTES // 2)
        measured = ratio(lambda: ours(card, folder), lambda: by_dd(card, folder, direct=False))
        yield Row(
            "the copying engine in memory, XXH128, two places",
            "dd: one read, two writes",
            "≥ 0.90× its rate",
            f"{1 / measured:.2f}×",
            measured <= 1 / 0.9,
        )


def _memory_row(card: Path, folder: Path) -> Row:
    """The most memory that an offload by command line ever holds: of two files, each as large as the limit."""
    for path in files_of(card)[_MEASURED_FILES:]:
        path.unlink()
    code = (
        "from pathlib import Path; from benchmarks.offloads import ours;"
        f"ours(Path({str(card)!r}), Path({str(folder)!r}));"
        "from benchmarks.measuring import high_water_bytes; print(high_water_bytes())"
    )
    done = subprocess.run([sys.executable, "-c", code], capture_output=True, text=True, check=True)
    megabytes = int(done.stdout) / _MB
    return Row("resident memory of that offload", "", "≤ 250 MB", f"{megabytes:.0f} MB", megabytes <= 250)
