"""The copying engine, with real disks that are full, read-only, slow or gone, and real stops."""

from __future__ import annotations

import os
import shutil
from datetime import UTC, date, datetime
from pathlib import Path

import pytest

from diadoche.core.cards.tree import list_tree
from diadoche.core.diskfiles import PART_SUFFIX
from diadoche.core.errors import MediaError, RequestError
from diadoche.core.offload.journal import JOURNAL_NAME, Journal, read_journal
from diadoche.core.offload.naming import NamingValues
from diadoche.core.offload.offload import OffloadResult, offload
from diadoche.core.offload.plan import OffloadPlan, PlanOptions, plan_offload
from diadoche.core.offload.verify import verify
from diadoche.core.open_folder import OpenFolder
from diadoche.core.watch import Progress, Watch
from tests.snapshots import contents, snapshot

TAKING = NamingValues("Shoot", date(2026, 6, 14), "Camera")


def run(plan: OffloadPlan, watch: Watch | None = None, **options: float) -> OffloadResult:
    return offload(plan, watch or Watch(), version="test", now=lambda: datetime.now(UTC), **options)  # type: ignore[arg-type]


def plan(card: Path, *places: Path, **options: object) -> OffloadPlan:
    return plan_offload(list_tree(card), TAKING, places, PlanOptions(**options))  # type: ignore[arg-type]


@pytest.fixture
def card(tmp_path: Path) -> Path:
    """A card with what cards have: nested and empty folders, hidden and empty files, odd names and dates."""
    root = tmp_path / "card"
    (root / "DCIM/100ABCDE").mkdir(parents=True)
    (root / "EMPTY/INNER").mkdir(parents=True)
    (root / "DCIM/100ABCDE/ABCD0001.MP4").write_bytes(os.urandom(9_000_000))
    for number in range(12):
        (root / f"DCIM/100ABCDE/.small{number}").write_bytes(os.urandom(1000 * number))
    (root / "trailing space ").write_bytes(b"x")
    (root / ("u\u0308" + "n" * 200)).write_bytes(b"decomposed")
    (root / os.fsdecode(b"bad\xff\x01")).write_bytes(b"no text")
    (root / ("n" * 255)).write_bytes(b"longest")
    os.utime(root / "trailing space ", (0, 86_400))
    os.utime(root / "DCIM/100ABCDE/ABCD0001.MP4", (4e9, 4e9))
    os.utime(root / "EMPTY/INNER", (1e9, 1e9))
    return root


def test_every_copy_is_the_card_and_the_card_is_untouched(card: Path, tmp_path: Path) -> None:
    before = snapshot(card)
    result = run(plan(card, tmp_path / "a", tmp_path / "b", digests=("xxh128", "md5")))
    assert [copy.status for copy in result.copies] == ["proven", "proven"]
    assert snapshot(card) == before
    for copy in result.copies:
        assert contents(Path(copy.root)) == contents(card)
        for path, entry in before.items():
            assert (Path(copy.root) / path).stat().st_mtime_ns == entry[1], path
        assert verify(Path(copy.root), Watch()).clean
        assert not (Path(copy.root) / JOURNAL_NAME).exists()
    assert not list(tmp_path.rglob(f"*{PART_SUFFIX}*"))


def test_a_second_taking_gets_a_folder_of_its_own(card: Path, tmp_path: Path) -> None:
    first = run(plan(card, tmp_path / "a"))
    before = snapshot(Path(first.copies[0].root))
    second = run(plan(card, tmp_path / "a"))
    assert Path(second.copies[0].root).name == "card-002"
    assert snapshot(Path(first.copies[0].root)) == before


def test_a_place_inside_the_card_is_refused(card: Path) -> None:
    before = snapshot(card)
    with pytest.raises(RequestError, match="inside the card"):
        plan(card, card / "copies")
    with pytest.raises(RequestError, match="twice"):
        plan(card, card.parent / "a", card.parent / "a")
    assert snapshot(card) == before


def test_a_small_disk_is_named_before_the_start(card: Path, small_disk: Path, tmp_path: Path) -> None:
    result = run(plan(card, tmp_path / "a", small_disk))
    assert [copy.status for copy in result.copies] == ["proven", "failed"]
    assert "free; this card needs" in result.problems[0].what
    assert not list(small_disk.iterdir())


def test_a_disk_that_fills_up_drops_out_alone(card: Path, small_disk: Path, tmp_path: Path) -> None:
    # The estimate is right at the start; then somebody else takes the room.
    (card / "DCIM/100ABCDE/ABCD0001.MP4").write_bytes(os.urandom(3_000_000))
    made = plan(card, tmp_path / "a", small_disk)
    assert len(made.usable) == 2
    (small_disk / "somebody else's").write_bytes(bytes(6_000_000))
    result = run(made)
    assert [copy.status for copy in result.copies] == ["proven", "failed"]
    assert any("No room" in problem.what for problem in result.problems)
    assert not list(small_disk.rglob(f"*{PART_SUFFIX}*"))
    root = Path(result.copies[1].root)
    assert all(file.read_bytes() == (card / file.relative_to(root)).read_bytes() for file in root.rglob("ABCD*"))


def test_a_read_only_disk_is_named(card: Path, read_only_disk: Path, tmp_path: Path) -> None:
    result = run(plan(card, read_only_disk, tmp_path / "a"))
    assert [(copy.destination, copy.status) for copy in result.copies] == [
        (str(tmp_path / "a"), "proven"),
        (str(read_only_disk), "failed"),
    ]
    assert "cannot be written to" in result.problems[0].what


class StopsAt(Watch):
    """A watch that asks to stop at its nth step."""

    def __init__(self, step: int) -> None:
        super().__init__(self._count)
        self.left = step

    def _count(self, _progress: Progress) -> None:
        self.left -= 1
        if self.left <= 0:
            self.stop()


@pytest.mark.parametrize("step", [1, 2, 4, 6])
def test_stopped_at_any_step_it_is_never_taken_for_whole_and_goes_on(card: Path, tmp_path: Path, step: int) -> None:
    before = snapshot(card)
    made = plan(card, tmp_path / "a", tmp_path / "b")
    stopped = run(made, StopsAt(step), pace_bytes_s=12_000_000)
    assert stopped.stopped
    assert all(copy.status != "proven" for copy in stopped.copies)
    root = Path(stopped.copies[0].root)
    assert not list(root.rglob(f"*{PART_SUFFIX}*"))
    assert (root / JOURNAL_NAME).exists()
    for file, digest in contents(root).items():
        if file != JOURNAL_NAME:
            assert digest == before[file][3], file
    again = run(plan(card, tmp_path / "a", tmp_path / "b"))
    assert [copy.status for copy in again.copies] == ["proven", "proven"]
    assert Path(again.copies[0].root) == root
    assert contents(root) == contents(card)
    assert snapshot(card) == before


def test_a_damaged_file_of_an_interrupted_run_is_found_and_copied_again(card: Path, tmp_path: Path) -> None:
    run(plan(card, tmp_path / "a"), StopsAt(10), pace_bytes_s=6_000_000)
    root = next((tmp_path / "a").rglob("card-001"))
    victim = next(path for path in root.rglob(".small*") if path.stat().st_size)
    data = bytearray(victim.read_bytes())
    data[0] ^= 1
    victim.write_bytes(data)
    result = run(plan(card, tmp_path / "a"))
    assert result.copies[0].status == "proven"
    assert contents(root) == contents(card)


def test_the_card_pulled_half_way(card: Path, tmp_path: Path) -> None:
    reader = tmp_path / "reader"
    reader.symlink_to(card)
    made = plan(reader, tmp_path / "a")
    progress: list[Progress] = []

    def pull(step: Progress) -> None:
        progress.append(step)
        if len(progress) == 3:
            reader.unlink()

    result = run(made, Watch(pull), pace_bytes_s=12_000_000)
    assert result.copies[0].status == "incomplete"
    assert any("went away" in problem.what for problem in result.problems)
    reader.symlink_to(card)
    again = run(plan(reader, tmp_path / "a"))
    assert again.copies[0].status == "proven"
    assert contents(Path(again.copies[0].root)) == contents(card)


def test_an_unreadable_file_is_named_and_the_rest_comes_off(card: Path, tmp_path: Path) -> None:
    victim = card / "DCIM/100ABCDE/ABCD0002.MP4"
    victim.write_bytes(b"x" * 100)
    made = plan(card, tmp_path / "a")
    # A directory in its place cannot be read as a file, not even by root.
    victim.unlink()
    victim.mkdir()
    result = run(made)
    assert result.copies[0].status == "incomplete"
    assert any("ABCD0002.MP4 cannot be read" in problem.what for problem in result.problems)
    assert result.copies[0].files_verified == len(made.files) - 1


def test_a_name_that_is_taken_is_never_overwritten(card: Path, tmp_path: Path) -> None:
    """Somebody puts files into the copy's folder while it is made."""
    made = plan(card, tmp_path / "a")
    root = made.targets[0].root

    def put(_progress: Progress) -> None:
        if not (root / "trailing space ").exists():
            (root / "DCIM/100ABCDE/ABCD0001.MP4").write_bytes(b"somebody's earlier clip")
            shutil.copy2(card / "trailing space ", root / "trailing space ")

    result = run(made, Watch(put), pace_bytes_s=9_000_000)
    assert (root / "DCIM/100ABCDE/ABCD0001.MP4").read_bytes() == b"somebody's earlier clip"
    assert result.renamed == (("DCIM/100ABCDE/ABCD0001.MP4", "DCIM/100ABCDE/ABCD0001 (2).MP4"),)
    assert (root / "DCIM/100ABCDE/ABCD0001 (2).MP4").read_bytes() == (card / "DCIM/100ABCDE/ABCD0001.MP4").read_bytes()
    assert result.copies[0].status == "proven"


def test_a_folder_with_something_in_it_is_not_taken(card: Path, tmp_path: Path) -> None:
    made = plan(card, tmp_path / "a", tmp_path / "b")
    (made.targets[1].root / "x").mkdir(parents=True)
    result = run(made)
    assert {Path(copy.root).name for copy in result.copies} == {"card-002"}
    assert not made.targets[0].root.exists()
    assert [each.name for each in made.targets[1].root.iterdir()] == ["x"]


def test_a_torn_journal_line_is_ignored(tmp_path: Path) -> None:
    journal = Journal(tmp_path, "abc")
    folder = OpenFolder.at(tmp_path)
    journal.begin(folder)
    journal.close(whole=False)
    with (tmp_path / JOURNAL_NAME).open("ab") as file:
        file.write(b'{"path": "x", "kept')
    found = read_journal(tmp_path)
    assert found is not None
    assert (found.fingerprint, found.copied) == ("abc", {})
    found.go_on(folder, "def", (), "")
    found.close(whole=False)
    again = read_journal(tmp_path)
    assert again is not None
    assert again.fingerprint == "def"
    again.go_on(folder, "def", (), "")
    again.close(whole=True)
    folder.close()
    assert read_journal(tmp_path) is None


def test_verify_names_what_changed_is_missing_and_is_extra(card: Path, tmp_path: Path) -> None:
    root = Path(run(plan(card, tmp_path / "a")).copies[0].root)
    (root / "trailing space ").write_bytes(b"y")
    (root / ("n" * 255)).unlink()
    (root / "new").write_bytes(b"z")
    verdict = verify(root, Watch())
    assert (verdict.changed, verdict.missing, verdict.extra) == (("trailing space ",), ("n" * 255,), ("new",))
    assert verdict.ok == verdict.files - 2


def test_a_manifest_that_points_outside_is_not_followed(card: Path, tmp_path: Path) -> None:
    root = Path(run(plan(card, tmp_path / "a")).copies[0].root)
    manifest = next((root / "ascmhl").glob("*.mhl"))
    manifest.write_text(manifest.read_text().replace(">trailing space <", ">../../../../../../x<"))
    verdict = verify(root, Watch())
    words = " ".join(problem.what for problem in verdict.problems)
    assert "outside this folder" in words
    assert "changed after it was written" in words


def test_an_xml_bomb_is_refused(card: Path, tmp_path: Path) -> None:
    root = Path(run(plan(card, tmp_path / "a")).copies[0].root)
    bomb = (
        '<?xml version="1.0"?><!DOCTYPE l [<!ENTITY a "aaaaaaaaaa">'
        + "".join(f'<!ENTITY {chr(98 + n)} "{("&" + chr(97 + n) + ";") * 10}">' for n in range(9))
        + ']><hashlist xmlns="urn:ASC:MHL:v2.0"><hashes><hash><path>&j;</path></hash></hashes></hashlist>'
    )
    (root / "ascmhl/0002_x.mhl").write_text(bomb)
    with pytest.raises(MediaError, match="no manifest"):
        verify(root, Watch())
