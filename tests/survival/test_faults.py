"""Readers and disks that fail for real: through a mount that hangs, errs, lies and vanishes on cue."""

from __future__ import annotations

import errno
import os
import random
import threading
import time
from datetime import UTC, date, datetime
from pathlib import Path

import pytest

from diadoche.core.cards.tree import list_tree
from diadoche.core.diskfiles import PART_SUFFIX
from diadoche.core.offload.journal import read_journal
from diadoche.core.offload.naming import NamingValues
from diadoche.core.offload.offload import OffloadResult, offload
from diadoche.core.offload.plan import OffloadPlan, PlanOptions, plan_offload
from diadoche.core.offload.verify import verify
from diadoche.core.watch import Progress, Watch
from diadoche.demo.faulty_folder import Faults
from tests.mounts import Image, Mounter
from tests.recordings import cut_off
from tests.snapshots import contents, snapshot

TAKING = NamingValues("Shoot", date(2026, 6, 14), "Camera")


def run(plan: OffloadPlan, watch: Watch | None = None, patience_s: float = 2.0, pace: int = 0) -> OffloadResult:
    return offload(
        plan, watch or Watch(), version="test", now=lambda: datetime.now(UTC), patience_s=patience_s, pace_bytes_s=pace
    )


def planned(card: Path, *places: Path, read_twice: bool = False) -> OffloadPlan:
    return plan_offload(list_tree(card), TAKING, places, PlanOptions(read_twice=read_twice))


def statuses(result: OffloadResult) -> list[str]:
    return [copy.status for copy in result.copies]


def nothing_half(place: Path) -> None:
    assert not [path for path in place.rglob("*") if PART_SUFFIX in path.name]


# -- the reader ----------------------------------------------------------------------------------


def test_a_read_error_at_a_byte_names_the_file_and_the_rest_comes_off(
    small_card: Path, faulty: Mounter, tmp_path: Path
) -> None:
    reader = faulty(small_card)
    reader.set(Faults(read_error_at=2_000_000, file="ABCD0001.MP4"))
    before = snapshot(small_card)
    result = run(planned(reader.point, tmp_path / "a", tmp_path / "b"))
    assert statuses(result) == ["incomplete", "incomplete"]
    assert any("ABCD0001.MP4" in problem.what for problem in result.problems)
    for copy in result.copies:
        kept = contents(Path(copy.root))
        assert "DCIM/100ABCDE/ABCD0001.MP4" not in kept
        assert kept["DCIM/100ABCDE/ABCD0002.MP4"] == before["DCIM/100ABCDE/ABCD0002.MP4"][3]
        nothing_half(Path(copy.root))
    assert snapshot(small_card) == before
    # The reader is mended: the same offload goes on, and only the one file is read again.
    reader.set(Faults())
    done = run(planned(reader.point, tmp_path / "a", tmp_path / "b"))
    assert statuses(done) == ["proven", "proven"]
    assert done.copies[0].root == result.copies[0].root
    assert contents(Path(done.copies[0].root)) == contents(small_card)


def test_a_bit_that_the_reader_gets_wrong_is_found_by_the_second_read(
    small_card: Path, faulty: Mounter, tmp_path: Path
) -> None:
    """Two readings differ: a third decides, and the wrong one is kept beside the copy."""
    reader = faulty(small_card)
    reader.set(Faults(flip_read_at=3_000_000, file="ABCD0001.MP4"))
    result = run(planned(reader.point, tmp_path / "a", read_twice=True))
    assert result.copies[0].status == "proven"
    assert any("ABCD0001.MP4 read differently" in problem.what for problem in result.problems)
    root = Path(result.copies[0].root)
    assert contents(root) == contents(small_card)
    (aside,) = (path for path in root.parent.rglob("*") if "other readings" in str(path) and path.is_file())
    assert aside.stat().st_size == 5_000_000
    assert any(problem.path == str(aside) for problem in result.problems)
    assert verify(root, Watch()).clean
    nothing_half(tmp_path / "a")


def test_a_file_that_reads_otherwise_every_time_is_kept_nowhere_as_proven(
    small_card: Path, faulty: Mounter, tmp_path: Path
) -> None:
    reader = faulty(small_card)
    reader.set(Faults(flip_read_at=3_000_000, flips=1000, flips_differ=True, file="ABCD0001.MP4"))
    result = run(planned(reader.point, tmp_path / "a", tmp_path / "b", read_twice=True))
    assert statuses(result) == ["incomplete", "incomplete"]
    assert any("read differently from the card every time" in problem.what for problem in result.problems)
    assert not any("ABCD0001.MP4" in file.path for file in result.kept)
    # What stood in a copy may be the only good reading of a dying card.
    assert len(list(tmp_path.glob("*/**/*other readings/**/ABCD0001.MP4"))) == 2
    assert read_journal(Path(result.copies[0].root)) is not None


def test_without_the_second_read_a_lying_reader_is_beyond_proof(
    small_card: Path, faulty: Mounter, tmp_path: Path
) -> None:
    """What the second read is for: the copy is what the reader gave, and nobody could know better."""
    reader = faulty(small_card)
    reader.set(Faults(flip_read_at=3_000_000, file="ABCD0001.MP4"))
    result = run(planned(reader.point, tmp_path / "a"))
    assert statuses(result) == ["proven"]
    assert contents(Path(result.copies[0].root)) != contents(small_card)


def test_a_reader_that_hangs_is_waited_for_and_can_be_stopped(
    small_card: Path, faulty: Mounter, tmp_path: Path
) -> None:
    reader = faulty(small_card)
    plan = planned(reader.point, tmp_path / "a")
    watch = Watch()
    reader.set(Faults(hangs=True))
    ended: list[OffloadResult] = []
    thread = threading.Thread(target=lambda: ended.append(run(plan, watch)))
    thread.start()
    time.sleep(1.0)
    assert not ended
    assert not list((tmp_path / "a").rglob("ABCD*.MP4"))
    watch.stop()
    # It comes back before its process would be killed; what it was asked for is not half kept.
    reader.set(Faults())
    thread.join(timeout=30)
    assert ended[0].stopped
    nothing_half(tmp_path / "a")
    assert statuses(run(planned(reader.point, tmp_path / "a"))) == ["proven"]


def test_a_card_pulled_in_the_middle_is_taken_up_again(small_card: Path, faulty: Mounter, tmp_path: Path) -> None:
    reader = faulty(small_card)
    plan = planned(reader.point, tmp_path / "a", tmp_path / "b")

    def pull(progress: Progress) -> None:
        if progress.done > 1_000_000 and reader.point.is_mount():
            reader.pull()

    result = run(plan, Watch(pull), pace=4_000_000)
    assert "proven" not in statuses(result)
    assert result.problems
    for place in (tmp_path / "a", tmp_path / "b"):
        nothing_half(place)
    again = faulty(small_card)
    done = run(planned(again.point, tmp_path / "a", tmp_path / "b"))
    assert statuses(done) == ["proven", "proven"]
    assert contents(Path(done.copies[0].root)) == contents(small_card)


def test_a_slow_reader_loses_nothing(small_card: Path, faulty: Mounter, tmp_path: Path) -> None:
    reader = faulty(small_card)
    reader.set(Faults(slow_bytes_s=8_000_000))
    assert statuses(run(planned(reader.point, tmp_path / "a"))) == ["proven"]
    assert contents(next((tmp_path / "a").rglob("card-001"))) == contents(small_card)


def test_a_file_that_grew_after_the_listing_is_kept_as_it_is_now(small_card: Path, tmp_path: Path) -> None:
    plan = planned(small_card, tmp_path / "a")
    with (small_card / "DCIM/100ABCDE/ABCD0001.MP4").open("ab") as file:
        file.write(b"the camera was still writing")
    result = run(plan)
    assert statuses(result) == ["proven"]
    assert result.whole
    assert contents(Path(result.copies[0].root)) == contents(small_card)


def test_a_file_that_grows_while_it_is_read_is_not_kept(small_card: Path, tmp_path: Path) -> None:
    plan = planned(small_card, tmp_path / "a")
    writing = threading.Event()

    def grow(_progress: Progress) -> None:
        if not writing.is_set():
            with (small_card / "DCIM/100ABCDE/ABCD0001.MP4").open("ab") as file:
                file.write(b"more")

    result = run(plan, Watch(grow), pace=10_000_000)
    assert statuses(result) == ["incomplete"]
    assert any("still being written" in problem.what for problem in result.problems)
    assert not list((tmp_path / "a").rglob("ABCD0001.MP4"))
    nothing_half(tmp_path / "a")
    writing.set()
    assert statuses(run(planned(small_card, tmp_path / "a2"))) == ["proven"]


# -- the disks -----------------------------------------------------------------------------------


@pytest.mark.parametrize("code", [errno.EIO, errno.ENOSPC, errno.EROFS, errno.EDQUOT])
def test_a_disk_that_refuses_to_write_drops_out_alone(
    small_card: Path, faulty: Mounter, tmp_path: Path, code: int
) -> None:
    disk = faulty(tmp_path / "behind", writable=True)
    disk.set(Faults(write_error=code, file="ABCD"))
    plan = planned(small_card, tmp_path / "a", disk.point)
    result = run(plan)
    assert statuses(result) == ["proven", "failed"]
    assert any(str(disk.point) in f"{problem.path} {problem.what}" for problem in result.problems)
    nothing_half(tmp_path / "behind")


def test_a_disk_that_hangs_drops_out_and_is_filled_from_a_copy(
    small_card: Path, faulty: Mounter, tmp_path: Path
) -> None:
    disk = faulty(tmp_path / "behind", writable=True)
    plan = planned(small_card, tmp_path / "a", disk.point)
    disk.set(Faults(hangs=True))
    mend = threading.Timer(4.0, lambda: disk.set(Faults()))
    mend.start()
    result = run(plan, patience_s=1.0)
    mend.join()
    assert result.copies[0].status == "proven"
    assert result.copies[1].status in {"proven", "failed", "incomplete"}
    done = run(planned(small_card, tmp_path / "a2", disk.point))
    assert "failed" not in statuses(done)


def test_a_byte_flipped_on_the_way_to_the_disk_is_found(small_card: Path, faulty: Mounter, tmp_path: Path) -> None:
    disk = faulty(tmp_path / "behind", writable=True)
    disk.set(Faults(flip_write_at=1_234_567, file="ABCD0001.MP4"))
    result = run(planned(small_card, tmp_path / "a", disk.point))
    assert result.copies[0].status == "proven"
    assert result.copies[1].status != "proven"
    assert any("ABCD0001.MP4" in problem.what for problem in result.problems)
    # The bad file does not stand under its name.
    for path in (tmp_path / "behind").rglob("ABCD0001.MP4"):
        assert path.read_bytes() == (small_card / "DCIM/100ABCDE/ABCD0001.MP4").read_bytes()


def test_every_flipped_byte_is_found(faulty: Mounter, tmp_path: Path) -> None:
    """One bit, anywhere, in files that are copied alone and in packs."""
    card = tmp_path / "card"
    card.mkdir()
    dice = random.Random(3)
    (card / "LARGE.MOV").write_bytes(cut_off(1_500_000, dice.randbytes))
    (card / "SMALL.MOV").write_bytes(cut_off(40_000, dice.randbytes))
    disk = faulty(tmp_path / "behind", writable=True)
    places = [
        (name, dice.randrange(size)) for name, size in (("LARGE", 1_500_000), ("SMALL", 40_000)) for _ in range(6)
    ]
    places += [("LARGE", 0), ("LARGE", 1_499_999), ("SMALL", 0), ("SMALL", 39_999)]
    for number, (name, byte) in enumerate(places):
        disk.set(Faults(flip_write_at=byte, file=name))
        result = run(planned(card, disk.point / str(number)))
        assert result.copies[0].status != "proven", (name, byte)
        assert any(name in problem.what for problem in result.problems), (name, byte)


def test_a_disk_that_vanishes_in_the_middle_leaves_the_other_right(
    small_card: Path, faulty: Mounter, tmp_path: Path
) -> None:
    disk = faulty(tmp_path / "behind", writable=True)
    plan = planned(small_card, tmp_path / "a", disk.point)

    def vanish(progress: Progress) -> None:
        if progress.done > 500_000 and disk.point.is_mount():
            disk.pull()

    result = run(plan, Watch(vanish), pace=4_000_000)
    assert result.copies[0].status == "proven"
    assert result.copies[1].status == "failed"
    assert contents(Path(result.copies[0].root)) == contents(small_card)
    assert not [path for path in tmp_path.glob("mount-*") if path.is_dir() and any(path.iterdir())]


def test_two_faults_at_once(small_card: Path, faulty: Mounter, tmp_path: Path) -> None:
    """A read error on the card, and a byte flipped on its way to one of two disks."""
    reader, disk = faulty(small_card), faulty(tmp_path / "behind", writable=True)
    plan = planned(reader.point, tmp_path / "a", disk.point)
    reader.set(Faults(read_error_at=100, file="ABCD0002.MP4"))
    disk.set(Faults(flip_write_at=4_000_000, file="ABCD0001.MP4"))
    result = run(plan)
    assert "proven" not in statuses(result)
    told = " ".join(problem.what for problem in result.problems)
    assert "ABCD0001.MP4" in told
    assert "ABCD0002.MP4" in told
    reader.set(Faults())
    disk.set(Faults())
    done = run(planned(reader.point, tmp_path / "a", disk.point))
    assert statuses(done) == ["proven", "proven"]
    for copy in done.copies:
        assert contents(Path(copy.root)) == contents(small_card)


# -- beneath the mount ---------------------------------------------------------------------------


def test_altered_beneath_the_mount_while_the_page_cache_holds_the_good_page(image: Image, tmp_path: Path) -> None:
    """After fsync the image loses a bit; ordinary reads still give the good byte, and no copy is called proven."""
    card = tmp_path / "card"
    card.mkdir()
    needle = random.Random(11).randbytes(64)
    data = os.urandom(1_000_000) + needle + os.urandom(1_000_000)
    (card / "C0001.MOV").write_bytes(data)
    (card / "C0002.MOV").write_bytes(cut_off(3_000_000))
    flipped: list[bool] = []

    def alter(progress: Progress) -> None:
        standing = list(image.point.rglob("C0001.MOV"))
        if standing and not flipped:
            os.sync()
            image.flip(needle)
            flipped.append(standing[0].read_bytes() == data)

    result = run(planned(card, tmp_path / "a", image.point), Watch(alter), pace=3_000_000)
    # The proof may have been quicker than the flip: then a later check must find it.
    assert flipped, "the moment never came"
    root = Path(result.copies[1].root)
    if result.copies[1].status == "proven":
        verdict = verify(root, Watch())
        assert verdict.changed == ("C0001.MOV",)
    assert flipped[0], "the page cache was to hold the good page"


@pytest.mark.parametrize("place", [0, 1_000_000, 1_999_999])
def test_a_copy_altered_beneath_the_mount_never_verifies(image: Image, tmp_path: Path, place: int) -> None:
    card = tmp_path / "card"
    card.mkdir()
    data = random.Random(place).randbytes(2_000_000)
    (card / "C0001.MOV").write_bytes(data)
    result = run(planned(card, image.point))
    assert statuses(result) == ["proven"]
    standing = Path(result.copies[0].root) / "C0001.MOV"
    assert standing.read_bytes() == data
    at = min(place, 2_000_000 - 64)
    image.flip(data[at : at + 64])
    # The page cache still holds the good page: only a read past it tells the truth.
    assert standing.read_bytes() == data
    assert verify(Path(result.copies[0].root), Watch()).changed == ("C0001.MOV",)
