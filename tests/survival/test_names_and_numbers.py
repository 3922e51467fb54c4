"""Names that are hard to keep, cards with very many files, links that lead away, clocks that jump."""

from __future__ import annotations

import os
import resource
import unicodedata
from datetime import UTC, date, datetime, timedelta
from pathlib import Path

import pytest

from diadoche.core.cards.tree import list_tree
from diadoche.core.disks import Limits
from diadoche.core.offload.kept_names import kept_names
from diadoche.core.offload.naming import NamingValues
from diadoche.core.offload.offload import OffloadResult, offload
from diadoche.core.offload.plan import plan_offload
from diadoche.core.offload.verify import verify
from diadoche.core.watch import Progress, Watch
from tests.recordings import cut_off
from tests.snapshots import contents, snapshot

TAKING = NamingValues("Shoot", date(2026, 6, 14), "Camera")

NAMES = [
    "n" * 255,
    "\u0301" * 127 + "x",
    unicodedata.normalize("NFC", "Ångström é.MOV"),
    unicodedata.normalize("NFD", "Ångström é.MOV"),
    "a.mov",
    "A.MOV",
    'what?*"<>|:.mov',
    "ends in space ",
    "ends in dot.",
    ".leading dot",
    "..two",
    "-rf",
    "new\nline",
    "tab\there",
    "quote'\"`$(x)",
    "\u202eright to left",
    "back\\slash",
    "%41",
    os.fsdecode(b"\xff\xfe invalid"),
    os.fsdecode(b"\xc3("),
]


def run(card: Path, *places: Path, watch: Watch | None = None) -> OffloadResult:
    plan = plan_offload(list_tree(card), TAKING, places)
    return offload(plan, watch or Watch(), version="test", now=lambda: datetime.now(UTC))


@pytest.fixture
def odd_card(tmp_path: Path) -> Path:
    card = tmp_path / "card"
    card.mkdir()
    for number, name in enumerate(NAMES):
        (card / name).write_bytes(f"content {number}".encode())
    for number, name in enumerate(NAMES[4:10]):
        folder = card / f"folder {number}" / name
        folder.mkdir(parents=True)
        (folder / name).write_bytes(b"deep")
    return card


def test_every_name_is_kept_proven_and_verified_later(odd_card: Path, tmp_path: Path) -> None:
    before = snapshot(odd_card)
    result = run(odd_card, tmp_path / "a", tmp_path / "b")
    assert [copy.status for copy in result.copies] == ["proven", "proven"]
    for copy in result.copies:
        assert contents(Path(copy.root)) == contents(odd_card)
        assert verify(Path(copy.root), Watch()).clean
    assert snapshot(odd_card) == before


def test_one_changed_byte_under_each_odd_name_is_found(odd_card: Path, tmp_path: Path) -> None:
    root = Path(run(odd_card, tmp_path / "a").copies[0].root)
    for name in NAMES:
        path = root / name
        good = path.read_bytes()
        path.write_bytes(bytes([good[0] ^ 1]) + good[1:])
        verdict = verify(root, Watch())
        assert len(verdict.changed) == 1, name
        path.write_bytes(good)
    assert verify(root, Watch()).clean


def test_names_that_a_case_folding_disk_holds_for_the_same_stay_apart() -> None:
    """exFAT and FAT32 as a disk that forbids and folds; neither can be mounted by this kernel, so by their rules alone."""
    limits = Limits("exFAT", plain_names=True, folds_case=True)
    paths = [name for name in NAMES if "/" not in name]
    kept = {path: kept_names(paths, limits).get(path, path) for path in paths}
    folded = [unicodedata.normalize("NFC", name).casefold() for name in kept.values()]
    assert len(set(folded)) == len(paths)
    assert not [name for name in kept.values() if limits.refuses(name, 0)]
    assert kept["a.mov"] == "a.mov"
    assert kept["A.MOV"] != "A.MOV"
    assert kept["a.mov"].casefold() != kept["A.MOV"].casefold()


@pytest.mark.parametrize("stamp", [-86_400, 0, 4_000_000_000, 2**34])
def test_dates_before_1980_and_after_2038_stay(tmp_path: Path, stamp: int) -> None:
    card = tmp_path / "card"
    card.mkdir()
    (card / "C.MOV").write_bytes(b"x")
    os.utime(card / "C.MOV", (stamp, stamp))
    wanted = (card / "C.MOV").stat().st_mtime_ns
    result = run(card, tmp_path / "a")
    assert result.copies[0].status == "proven"
    assert (Path(result.copies[0].root) / "C.MOV").stat().st_mtime_ns == wanted


def test_links_that_lead_out_of_the_card_are_named_and_not_followed(tmp_path: Path) -> None:
    card, secret = tmp_path / "card", tmp_path / "secret"
    (card / "DCIM").mkdir(parents=True)
    secret.mkdir()
    (secret / "KEY").write_bytes(b"not of this card")
    (card / "DCIM/C.MOV").write_bytes(b"clip")
    (card / "DCIM/out").symlink_to(secret)
    (card / "DCIM/file").symlink_to(secret / "KEY")
    (card / "DCIM/loop").symlink_to(card)
    (card / "DCIM/nowhere").symlink_to("nothing")
    os.mkfifo(card / "DCIM/pipe")
    result = run(card, tmp_path / "a")
    assert result.copies[0].status == "proven"
    assert list(contents(Path(result.copies[0].root))) == ["DCIM", "DCIM/C.MOV"]
    told = " ".join(problem.what + problem.path for problem in result.skipped)
    assert all(name in told for name in ("out", "file", "loop", "nowhere", "pipe"))


def test_a_file_that_became_a_link_after_the_listing_is_not_followed(tmp_path: Path) -> None:
    card, secret = tmp_path / "card", tmp_path / "secret"
    card.mkdir()
    secret.write_bytes(b"not of this card")
    for name in ("SMALL.MOV", "LARGE.MOV"):
        (card / name).write_bytes(bytes(1_000_000 if name == "LARGE.MOV" else 16))
    plan = plan_offload(list_tree(card), TAKING, (tmp_path / "a",))
    for name in ("SMALL.MOV", "LARGE.MOV"):
        (card / name).unlink()
        (card / name).symlink_to(secret)
    result = offload(plan, Watch(), version="test", now=lambda: datetime.now(UTC))
    assert result.copies[0].status != "proven"
    assert b"not of this card" not in [path.read_bytes() for path in (tmp_path / "a").rglob("*") if path.is_file()]


@pytest.mark.parametrize(
    "count", [pytest.param(5_000, id="part"), pytest.param(100_000, id="whole", marks=pytest.mark.long)]
)
def test_very_many_empty_files(tmp_path: Path, count: int) -> None:
    card = tmp_path / "card"
    for number in range(count):
        if number % 1000 == 0:
            folder = card / f"{number // 1000:03}"
            folder.mkdir(parents=True)
        (folder / f"{number:06}").touch()
    before_kib = resource.getrusage(resource.RUSAGE_SELF).ru_maxrss
    result = run(card, tmp_path / "a")
    assert result.copies[0].status == "proven"
    assert result.files == count
    assert verify(Path(result.copies[0].root), Watch()).clean
    grown_mb = (resource.getrusage(resource.RUSAGE_SELF).ru_maxrss - before_kib) / 1024
    assert grown_mb < 250 + 0.004 * count


def test_a_clock_that_jumps_back_in_the_middle_changes_nothing(tmp_path: Path) -> None:
    """The clock only says when; order and proof never rest on it."""
    card = tmp_path / "card"
    card.mkdir()
    for number in range(30):
        (card / f"C{number:04}.MOV").write_bytes(cut_off(700_000))
    times = iter(datetime(2026, 6, 14, tzinfo=UTC) - timedelta(days=400 * number) for number in range(100))
    plan = plan_offload(list_tree(card), TAKING, (tmp_path / "a",))
    result = offload(plan, Watch(), version="test", now=lambda: next(times))
    assert result.copies[0].status == "proven"
    assert result.seconds >= 0
    again = offload(
        plan_offload(list_tree(card), TAKING, (tmp_path / "a",)), Watch(), version="test",
        now=lambda: datetime(1970, 1, 1, tzinfo=UTC),
    )  # fmt: skip
    assert Path(again.copies[0].root).name == "card-002"
    assert verify(Path(result.copies[0].root), Watch()).clean


def test_paused_it_stands_still_and_goes_on(tmp_path: Path) -> None:
    card = tmp_path / "card"
    card.mkdir()
    for number in range(20):
        (card / f"C{number:04}.MOV").write_bytes(cut_off(1_000_000))
    seen: list[int] = []

    def follow(progress: Progress) -> None:
        seen.append(progress.done)
        if len(seen) == 5:
            watch.pause()
            assert watch.paused
            watch.resume()

    watch = Watch(follow)
    assert run(card, tmp_path / "a", watch=watch).copies[0].status == "proven"
    assert seen == sorted(seen)
