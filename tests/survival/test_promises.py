"""What is called proven, whole, proven before, equal: each broken promise made to happen, for real."""

from __future__ import annotations

import errno
import json
import os
import random
import shutil
import subprocess
import sys
from concurrent.futures import ThreadPoolExecutor
from datetime import UTC, date, datetime
from pathlib import Path
from typing import Any

import pytest

from diadoche.core.cards.tree import list_tree
from diadoche.core.disks import ReadBack, distinct_disks, read_back_of
from diadoche.core.offload.journal import JOURNAL_NAME
from diadoche.core.offload.manifest_reading import read_history
from diadoche.core.offload.naming import NamingValues
from diadoche.core.offload.offload import OffloadResult, offload
from diadoche.core.offload.plan import OffloadPlan, PlanOptions, plan_offload
from diadoche.core.offload.verify import verify
from diadoche.core.watch import Progress, Watch
from diadoche.demo.faulty_folder import Faults
from diadoche.services.ledger.ledger import Ledger
from diadoche.services.ledger.waybills import WaybillEntry, waybills
from tests.conftest import diadoche
from tests.loaded import Loaded, Run
from tests.mounts import Image, Mounter
from tests.recordings import cut_off
from tests.snapshots import contents

pytestmark = pytest.mark.usefixtures("own_state")
VALUES = NamingValues("S", date(2026, 6, 14), "Camera")
PACE_BYTES_S = 1_500_000
FIRST = "DCIM/100ABCDE/ABCD0001.MP4"
SECOND = "DCIM/100ABCDE/ABCD0002.MP4"
LAST = "DCIM/100ABCDE/ABCD0009.MP4"


@pytest.fixture
def small_card(tmp_path: Path) -> Path:
    """A card whose first file is proven long before its last one is read, at the pace of these tests."""
    root = tmp_path / "card"
    (root / "DCIM/100ABCDE").mkdir(parents=True)
    dice = random.Random(7)
    for number, size in ((1, 1_500_000), (2, 700_000), (3, 3_000), (4, 0), (5, 90_000), (6, 1), (9, 3_000_000)):
        (root / f"DCIM/100ABCDE/ABCD{number:04}.MP4").write_bytes(cut_off(size, dice.randbytes))
    (root / "EMPTY").mkdir()
    return root


def told(*words: str | Path, code: int | None = None) -> Any:
    done = diadoche(*words, "--json")
    assert code is None or done.returncode == code, done.stderr
    assert "Traceback" not in done.stderr
    return json.loads(done.stdout)


def run(plan: OffloadPlan, watch: Watch | None = None, pace: int = 0) -> OffloadResult:
    return offload(plan, watch or Watch(), version="t", now=lambda: datetime.now(UTC), pace_bytes_s=pace)


def planned(card: Path, *places: Path, **options: Any) -> OffloadPlan:
    return plan_offload(list_tree(card), VALUES, places, PlanOptions(**options))


def entries(state: Path) -> list[WaybillEntry]:
    ledger = Ledger(next(state.rglob("ledger.sqlite")))
    try:
        return waybills(ledger)
    finally:
        ledger.close()


class StopsWhen(Watch):
    """Stops as soon as a file stands under its final name."""

    def __init__(self, path: Path) -> None:
        super().__init__(self._look)
        self._path = path

    def _look(self, _progress: Progress) -> None:
        if self._path.exists():
            self.stop()


def flip(path: Path, at: int = 10) -> None:
    info, data = path.stat(), bytearray(path.read_bytes())
    data[at] ^= 4
    path.write_bytes(data)
    os.utime(path, ns=(info.st_atime_ns, info.st_mtime_ns))


def half_copy(card: Path, place: Path) -> Path:
    """A copy of a card that was stopped after its first file."""
    plan = planned(card, place)
    root = plan.targets[0].root
    assert run(plan, StopsWhen(root / FIRST), pace=PACE_BYTES_S).stopped
    assert (root / FIRST).exists()
    assert (root / JOURNAL_NAME).exists()
    return root


def whole_copy(card: Path, place: Path) -> Path:
    return Path(run(planned(card, place)).copies[0].root)


# -- folders that cannot be listed -----------------------------------------------------------------


def test_a_folder_that_cannot_be_listed_leaves_no_copy_whole(
    small_card: Path, faulty: Mounter, tmp_path: Path, own_state: Path
) -> None:
    (small_card / "MISC").mkdir()
    (small_card / "MISC/UNSEEN.TXT").write_text("unseen")
    reader = faulty(small_card)
    reader.set(Faults(list_error=errno.EIO, file="MISC"))
    words = ("offload", reader.point, "--to", tmp_path / "a", "--to", tmp_path / "b", "--shoot", "S")
    said = told(*words, code=1)
    assert [copy["status"] for copy in said["copies"]] == ["incomplete", "incomplete"]
    assert not said["whole"]
    assert any("MISC cannot be listed" in problem["what"] for problem in said["problems"])
    assert not entries(own_state)[0].may_format(1)
    assert verify(Path(said["copies"][0]["root"]), Watch()).unfinished
    # It can be listed again: the same copy goes on, and only then is it whole.
    reader.set(Faults())
    again = told(*words)
    assert [copy["status"] for copy in again["copies"]] == ["proven", "proven"]
    assert again["copies"][0]["root"] == said["copies"][0]["root"]
    assert (Path(again["copies"][0]["root"]) / "MISC/UNSEEN.TXT").read_text() == "unseen"
    (entry,) = entries(own_state)
    assert entry.whole
    assert entry.proven == 2


# -- unfinished, and proven before -----------------------------------------------------------------


def test_an_unfinished_copy_stays_so_through_verifying_and_is_never_proven_before(
    small_card: Path, loaded: Loaded, tmp_path: Path, own_state: Path
) -> None:
    words = ["offload", str(small_card), "--to", str(tmp_path / "a"), "--shoot", "S"]
    assert loaded.ended(Run(words, "_named", 2)) < 0
    root = next((tmp_path / "a").rglob("card-001"))
    told("offload", small_card, "--to", tmp_path / "b", "--shoot", "S")
    done = entries(own_state)
    shutil.rmtree(tmp_path / "b")
    # The stopped copy gets a manifest of what is in it, as a stop writes it, and a row in the ledger.
    half = half_copy(small_card, tmp_path / "c")
    told("rebuild", tmp_path / "c")
    said = told("verify", half, code=1)
    assert said["changed"] == said["missing"] == []
    assert any("never finished" in problem["what"] for problem in said["problems"])
    (row,) = (copy for entry in entries(own_state) for copy in entry.copies if copy.root == str(half))
    assert row.status == "incomplete"
    assert told("look", small_card)["proven_before"] == {"clips": 0, "files": 0}
    fresh = told("offload", small_card, "--to", tmp_path / "d", "--new-only")
    assert fresh["copies"][0]["status"] == "proven"
    assert contents(Path(fresh["copies"][0]["root"])) == contents(small_card)
    assert len(done) == 1
    assert root.exists()


def test_proven_before_is_about_copies_that_are_there(small_card: Path, tmp_path: Path) -> None:
    root = Path(told("offload", small_card, "--to", tmp_path / "a", "--shoot", "S")["copies"][0]["root"])
    assert told("look", small_card)["proven_before"]["files"] == 7
    (root / SECOND).write_bytes(b"cut")
    assert told("look", small_card)["proven_before"]["files"] == 6
    shutil.rmtree(root)
    assert told("look", small_card)["proven_before"]["files"] == 0
    again = told("offload", small_card, "--to", tmp_path / "b", "--shoot", "S", "--new-only")
    assert contents(Path(again["copies"][0]["root"])) == contents(small_card)


def test_a_rebuilt_ledger_claims_what_manifests_and_sizes_allow(
    small_card: Path, drone: Path, tmp_path: Path, own_state: Path
) -> None:
    part = Path(told("offload", drone, "--to", tmp_path / "a", "--without-stills")["copies"][0]["root"])
    cut = Path(told("offload", small_card, "--to", tmp_path / "a")["copies"][0]["root"])
    half = half_copy(small_card, tmp_path / "a")
    (cut / FIRST).write_bytes(b"ten bytes!")
    for file in own_state.rglob("ledger.sqlite*"):
        file.unlink()
    told("rebuild", tmp_path / "a")
    found = {copy.root: (entry, copy) for entry in entries(own_state) for copy in entry.copies}
    assert not found[str(part)][0].whole
    assert not found[str(part)][0].may_format(1)
    assert found[str(part)][1].status == "listed"
    assert found[str(cut)][1].status == "damaged"
    assert found[str(half)][1].status == "incomplete"
    assert all(copy.verified is None for _entry, copy in found.values() if copy.status == "listed")
    told("verify", part, code=0)
    (row,) = (copy for entry in entries(own_state) for copy in entry.copies if copy.root == str(part))
    assert row.proven
    assert row.verified is not None


# -- filled, gone on with, copied on -----------------------------------------------------------------


def test_a_copy_that_went_bad_meanwhile_fills_no_other(small_card: Path, faulty: Mounter, tmp_path: Path) -> None:
    disk = faulty(tmp_path / "behind", writable=True)
    disk.set(Faults(write_error=errno.EIO, file="ABCD"))
    plan = planned(small_card, tmp_path / "a", disk.point)
    good = plan.targets[0].root

    def spoil(_progress: Progress) -> None:
        if (good / FIRST).exists() and disk.point.is_mount():
            disk.set(Faults())
            flip(good / FIRST)
            (good / FIRST).chmod(0o444)

    class Once(Watch):
        def __init__(self) -> None:
            super().__init__(self._once)
            self._done = False

        def _once(self, progress: Progress) -> None:
            if not self._done and (good / FIRST).exists():
                self._done = True
                spoil(progress)

    result = run(plan, Once(), pace=PACE_BYTES_S)
    truth = contents(small_card)
    for copy in result.copies:
        standing = {path: sha for path, sha in contents(Path(copy.root)).items() if path in truth}
        if copy.status == "proven":
            assert standing == truth
        # What failed stands nowhere under its name, where the next offload would trust it.
        assert standing.get(FIRST, truth[FIRST]) == truth[FIRST]
    assert any("went bad" in problem.what or "read back differently" in problem.what for problem in result.problems)


def test_two_readings_that_differ_are_settled_and_the_other_one_is_kept(
    small_card: Path, faulty: Mounter, tmp_path: Path
) -> None:
    reader = faulty(small_card)
    reader.set(Faults(flip_read_at=1_100_000, flips=1, file="ABCD0001.MP4"))
    plan = planned(reader.point, tmp_path / "a")
    root = plan.targets[0].root
    assert run(plan, StopsWhen(root / FIRST), pace=PACE_BYTES_S).stopped
    wrong = (root / FIRST).read_bytes()
    assert wrong != (small_card / FIRST).read_bytes()
    reader.set(Faults())
    result = run(planned(reader.point, tmp_path / "a", tmp_path / "b"))
    assert [copy.status for copy in result.copies] == ["proven", "proven"]
    for copy in result.copies:
        assert contents(Path(copy.root)) == contents(small_card)
        assert verify(Path(copy.root), Watch()).clean
    assert any("ABCD0001.MP4 read differently" in problem.what for problem in result.problems)
    (aside,) = root.parent.glob(f"{root.name} other readings/{FIRST}")
    assert aside.read_bytes() == wrong
    assert any(problem.path == str(aside) for problem in result.problems)
    level = told("level", tmp_path / "a", tmp_path / "b", code=0)
    assert level["differing"] == level["problems"] == []
    assert not list((tmp_path / "b").rglob("*other readings*"))


def test_what_was_copied_on_before_a_kill_is_compared_with_the_promise(
    small_card: Path, loaded: Loaded, tmp_path: Path
) -> None:
    root = whole_copy(small_card, tmp_path / "a")
    assert loaded.ended(Run(["copy-on", str(root), "--to", str(tmp_path / "b")], "_named", 2)) < 0
    target = next((tmp_path / "b").rglob("card-001"))
    journal = target / JOURNAL_NAME
    # The source had rotted when it was read: that is what the journal and the copy say.
    flip(target / FIRST)
    lines = [json.loads(line) for line in journal.read_bytes().split(b"\n") if line]
    from diadoche.core.diskfiles import DirectReader
    from diadoche.core.offload.digest_file import digests_of

    reader = DirectReader()
    for line in lines:
        if line.get("path") == FIRST:
            line["digests"] = digests_of(target / FIRST, ["xxh128"], reader)
    reader.close()
    journal.write_text("".join(json.dumps(line) + "\n" for line in lines))
    said = told("copy-on", root, "--to", tmp_path / "b")
    assert said["copies"][0]["status"] == "proven"
    assert contents(target) == contents(small_card)


def test_a_copy_that_lost_a_file_is_never_copied_on_as_whole(small_card: Path, tmp_path: Path) -> None:
    root = whole_copy(small_card, tmp_path / "a")
    (root / SECOND).unlink()
    said = told("copy-on", root, "--to", tmp_path / "b", code=1)
    assert said["copies"][0]["status"] == "incomplete"
    assert any("ABCD0002.MP4 is listed" in problem["what"] for problem in said["problems"])


def test_copying_on_goes_into_no_other_cards_folder_and_no_standing_copy(
    small_card: Path, drone: Path, tmp_path: Path
) -> None:
    root = whole_copy(small_card, tmp_path / "a")
    other = half_copy(small_card, tmp_path / "b")
    victim = tmp_path / "b" / root.relative_to(tmp_path / "a")
    assert other == victim
    # Another card's unfinished copy stands where this one would go.
    shutil.rmtree(other)
    plan = plan_offload(list_tree(drone), VALUES, (tmp_path / "b",))
    watch = StopsWhen(plan.targets[0].root / "DCIM/100DRONE/DRON0001.MP4")
    run(plan, watch, pace=2_000_000)
    before = contents(victim)
    assert (victim / JOURNAL_NAME).exists()
    said = told("copy-on", root, "--to", tmp_path / "b", code=1)
    assert said["copies"][0]["status"] == "failed"
    assert "another card" in said["problems"][0]["what"]
    assert contents(victim) == before
    # A sound copy, and one with rot, are left as they are, and stay what they were.
    sound = Path(told("copy-on", root, "--to", tmp_path / "c")["copies"][0]["root"])
    assert told("copy-on", root, "--to", tmp_path / "c", code=1)["copies"][0]["status"] == "failed"
    assert not (sound / JOURNAL_NAME).exists()
    assert verify(sound, Watch()).clean
    flip(sound / SECOND)
    assert told("copy-on", root, "--to", tmp_path / "c", code=1)["copies"][0]["status"] == "failed"
    assert not list(sound.rglob("*(2)*"))


def test_level_reads_what_stands_there(small_card: Path, tmp_path: Path) -> None:
    one = Path(told("offload", small_card, "--to", tmp_path / "a", "--shoot", "S")["copies"][0]["root"])
    two = Path(told("copy-on", one, "--to", tmp_path / "b")["copies"][0]["root"])
    assert told("level", tmp_path / "a", tmp_path / "b", code=0)["differing"] == []
    flip(one / SECOND)
    (two / FIRST).write_bytes(b"")
    inside = one.relative_to(tmp_path / "a")
    said = told("level", tmp_path / "a", tmp_path / "b", code=1)
    assert sorted(said["differing"]) == [f"{inside}/{FIRST}", f"{inside}/{SECOND}"]
    half = half_copy(small_card, tmp_path / "a")
    said = told("level", tmp_path / "a", tmp_path / "b", code=1)
    assert any(str(half) in problem["what"] for problem in said["problems"])
    assert not (tmp_path / "b" / half.relative_to(tmp_path / "a")).exists()


# -- two in one folder ------------------------------------------------------------------------------


def test_two_offloads_at_once_never_share_a_folder(small_card: Path, tmp_path: Path) -> None:
    twin = tmp_path / "twin"
    shutil.copytree(small_card, twin)
    (twin / SECOND).write_bytes(b"another card")

    def one(card: Path, place: Path) -> OffloadResult:
        return run(planned(card, place, tmp_path / "shared"))

    for turn in range(12):
        with ThreadPoolExecutor(2) as pool:
            both = [
                each.result()
                for each in [
                    pool.submit(one, card, tmp_path / f"{turn}{name}")
                    for card, name in ((small_card, "x"), (twin, "y"))
                ]
            ]
        assert len({copy.root for result in both for copy in result.copies}) == 4
        for result, card in zip(both, (small_card, twin), strict=True):
            for copy in result.copies:
                assert copy.status == "proven"
                assert contents(Path(copy.root)) == contents(card)


def test_an_interrupted_offload_goes_on_beside_another_cards_copy(
    small_card: Path, drone: Path, tmp_path: Path
) -> None:
    half = half_copy(small_card, tmp_path / "a")
    # At the second place the same number is another card's by now.
    other = whole_copy(drone, tmp_path / "b")
    assert other.name == half.name
    before = contents(other, without="")
    result = run(planned(small_card, tmp_path / "a", tmp_path / "b"))
    assert [copy.status for copy in result.copies] == ["proven", "proven"]
    assert Path(result.copies[0].root) == half
    assert Path(result.copies[1].root) != other
    assert contents(other, without="") == before


def test_the_same_card_is_not_taken_twice_at_once(small_card: Path, tmp_path: Path) -> None:
    root = half_copy(small_card, tmp_path / "a")
    from diadoche.core.answering import Calls
    from diadoche.core.offload.folder_claim import take_unfinished_folder

    held, folder = take_unfinished_folder(root, list_tree(small_card).fingerprint(), (), "", Calls())
    try:
        result = run(planned(small_card, tmp_path / "a"))
        assert result.copies[0].status == "failed"
        assert "Another offload writes" in result.problems[0].what
    finally:
        held.close(whole=False)
        folder.close()
    assert run(planned(small_card, tmp_path / "a")).copies[0].status == "proven"


# -- manifests of others -----------------------------------------------------------------------------


# source: the published reference implementation of ASC MHL, which writes a failed generation when it finds damage
def test_a_generation_called_failed_does_not_make_damage_the_truth(small_card: Path, tmp_path: Path) -> None:
    tool = Path(sys.executable).with_name("ascmhl")
    if not tool.exists():
        pytest.skip("the reference implementation is not installed")
    root = whole_copy(small_card, tmp_path / "a")
    flip(root / SECOND)
    subprocess.run([tool, "create", "-h", "xxh128", str(root)], capture_output=True, check=False)
    assert len(list((root / "ascmhl").glob("*.mhl"))) == 2
    assert b'action="failed"' in sorted((root / "ascmhl").glob("*.mhl"))[1].read_bytes()
    assert verify(root, Watch()).changed == (SECOND,)


def test_taking_in_compares_every_kind_of_digest(small_card: Path, tmp_path: Path) -> None:
    root = Path(run(planned(small_card, tmp_path / "a", digests=("md5",))).copies[0].root)
    flip(root / SECOND)
    said = told("take-in", root, code=1)
    assert "ABCD0002.MP4" in said["problems"][0]["what"]
    assert verify(root, Watch()).changed == (SECOND,)


# -- what is read from a disk is untrusted --------------------------------------------------------------


def test_a_journal_reaches_nothing_outside_its_folder(small_card: Path, tmp_path: Path) -> None:
    root = half_copy(small_card, tmp_path / "a")
    outside = tmp_path / "outside.txt"
    outside.write_text("somebody's")
    digests = {"xxh128": "0" * 32}
    nonsense: list[object] = [
        {"path": SECOND, "kept_as": f"../../../../../../{outside.name}", "size_bytes": 10, "digests": digests},
        {"path": SECOND, "kept_as": str(outside), "size_bytes": 10, "digests": digests},
        {"path": [], "kept_as": None, "size_bytes": "x", "digests": 5},
        {"card": 7}, [], 5, None, {"gone": {}}, {"path": SECOND, "kept_as": SECOND, "size_bytes": -4, "digests": {}},
    ]  # fmt: skip
    with (root / JOURNAL_NAME).open("a") as file:
        file.write("".join(json.dumps(line) + "\n" for line in nonsense) + "\x00\xff{{{\n" + "[" * 100_000)
    done = told("offload", small_card, "--to", tmp_path / "a", "--shoot", "S")
    assert outside.read_text() == "somebody's"
    assert done["copies"][0]["status"] == "proven"


def test_a_side_list_restores_nothing_outside_its_target(small_card: Path, tmp_path: Path) -> None:
    (small_card / os.fsdecode(b"bad\xff")).write_bytes(b"no text")
    root = whole_copy(small_card, tmp_path / "a")
    (side,) = (root / "ascmhl").glob("*.unlisted.jsonl")
    evil = {"path": "../../../../evil.txt", "digests": {"xxh128": "0" * 32}}
    side.write_text(json.dumps(evil) + "\nnonsense\n" + side.read_text())
    listed = read_history(root)
    assert not any(".." in path for path in listed.digests)
    assert sum("makes no sense" in words for words in listed.problems) == 2
    verdict = verify(root, Watch())
    assert (verdict.changed, verdict.missing) == ((), ())


@pytest.mark.parametrize("chain", [b"", b"<ascmhldirectory", b"\x00\xff"])
def test_a_chain_that_is_cut_is_told_and_ends_nothing(small_card: Path, tmp_path: Path, chain: bytes) -> None:
    root = Path(told("offload", small_card, "--to", tmp_path / "a")["copies"][0]["root"])
    (root / "ascmhl/ascmhl_chain.xml").write_bytes(chain)
    assert any("chain file" in problem.what for problem in verify(root, Watch()).problems)
    said = told("copy-on", root, "--to", tmp_path / "b")
    assert said["copies"][0]["status"] == "proven"
    assert verify(Path(said["copies"][0]["root"]), Watch()).clean


def test_one_damaged_manifest_ends_no_restore_while_another_copy_is_good(small_card: Path, tmp_path: Path) -> None:
    told("offload", small_card, "--to", tmp_path / "a", "--to", tmp_path / "b", "--shoot", "S")
    for manifest in (tmp_path / "a").rglob("*.mhl"):
        manifest.write_bytes(b"<hashlist")
    said = told("restore", SECOND, "--to", tmp_path / "desk")
    assert Path(said["restored"][0]).read_bytes() == (small_card / SECOND).read_bytes()


def test_two_first_starts_at_once_find_a_ledger(own_state: Path, small_card: Path) -> None:
    loads = [Loaded() for _ in range(3)]
    try:
        for turn in range(4):
            shutil.rmtree(own_state, ignore_errors=True)
            for each in loads:
                each.begin(Run(["look", str(small_card), "--json"], environment=dict(os.environ)))
            # The card has undecodable clips: 1 is what it ends with, and no damaged ledger.
            assert [each.wait() for each in loads] == [1, 1, 1], turn
            assert entries(own_state) == []
    finally:
        for each in loads:
            each.close()


def test_a_card_with_manifests_of_its_own_is_a_copy_like_any_other(small_card: Path, tmp_path: Path) -> None:
    (small_card / "ascmhl").mkdir()
    (small_card / "ascmhl/0001_old.mhl").write_text("<somebody's/>")
    result = run(planned(small_card, tmp_path / "a"))
    root = Path(result.copies[0].root)
    assert result.copies[0].status == "proven"
    assert dict(result.renamed)["ascmhl/0001_old.mhl"] == "ascmhl (2)/0001_old.mhl"
    assert verify(root, Watch()).clean
    assert run(planned(small_card, tmp_path / "a")).copies[0].status == "proven"


# -- what a proof and a count of disks say ----------------------------------------------------------------


def test_a_proof_says_what_is_known_of_its_reading(
    small_card: Path, faulty: Mounter, small_disk: Path, image: Image, tmp_path: Path
) -> None:
    (small_card / LAST).unlink()
    mount = faulty(tmp_path / "behind", writable=True)
    result = run(planned(small_card, mount.point, small_disk, image.point))
    # A FUSE mount takes a direct reading and may answer from a cache; a loop reads its file through one.
    assert [copy.read_back for copy in result.copies] == [ReadBack.CACHE] * 3
    assert read_back_of(mount.point, passed_cache=True) is ReadBack.CACHE
    manifest = next((Path(result.copies[0].root) / "ascmhl").glob("*.mhl")).read_text()
    assert "read back, not past the cache" in manifest


@pytest.mark.parametrize(
    ("keys", "count"),
    [
        ([], 0),
        (["unknown"], 1),
        (["unknown", "disk:a"], 1),
        (["memory", "disk:a", "unknown"], 1),
        (["memory"], 1),
        (["disk:a", "disk:b"], 2),
        (["disk:a", "disk:a+b", "disk:b"], 1),
        (["disk:a+b", "disk:c+d", "disk:e"], 3),
        (["server:nas", "server:10.0.0.5"], 1),
        # One server may have two addresses.
        (["server:10.0.0.5", "server:10.0.0.6"], 1),
        (["server:127.0.0.1", "disk:a"], 1),
        (["simulated:A", "simulated:B"], 2),
    ],
)
def test_disks_count_as_different_only_where_that_is_known(keys: list[str], count: int) -> None:
    assert distinct_disks(keys) == count


def test_memory_and_unknown_disks_are_one_copy(small_card: Path, small_disk: Path, tmp_path: Path) -> None:
    (small_card / LAST).unlink()
    result = run(planned(small_card, tmp_path / "a", small_disk))
    assert result.proven_copies == 2
    assert result.proven_disks == 1


def test_another_digest_when_going_on_is_no_error(small_card: Path, tmp_path: Path) -> None:
    root = half_copy(small_card, tmp_path / "a")
    result = run(planned(small_card, tmp_path / "a", digests=("md5",)))
    assert result.copies[0].status == "proven"
    assert Path(result.copies[0].root) == root
    assert contents(root) == contents(small_card)
    assert verify(root, Watch()).clean
    assert not list(root.parent.glob("*other readings*"))


def test_a_reading_with_another_digest_is_compared_with_the_earlier_one(
    small_card: Path, faulty: Mounter, tmp_path: Path
) -> None:
    """Found by the machine: a reader that lies when an offload goes on with another kind of digest."""
    reader = faulty(small_card)
    plan = planned(reader.point, tmp_path / "a")
    root = plan.targets[0].root
    assert run(plan, StopsWhen(root / FIRST), pace=PACE_BYTES_S).stopped
    reader.set(Faults(flip_read_at=1_100_000, flips=1, file="ABCD0001.MP4"))
    result = run(planned(reader.point, tmp_path / "a", digests=("md5",)))
    assert result.copies[0].status == "proven"
    assert contents(root) == contents(small_card)
    assert any("read differently" in problem.what for problem in result.problems)
    assert verify(root, Watch()).clean
