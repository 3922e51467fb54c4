"""What is done with proven copies: copied on with their chain, completed, fetched from, taken in, compared."""

from __future__ import annotations

import os
import shutil
import subprocess
import sys
from datetime import UTC, date, datetime
from pathlib import Path

import pytest

from diadoche.core.cards.tree import list_tree
from diadoche.core.errors import MediaError, RequestError
from diadoche.core.offload.adopt import adopt_folder
from diadoche.core.offload.compare_places import Pair, compare_places
from diadoche.core.offload.estimate import estimate
from diadoche.core.offload.found_copies import copies_below, copy_tree
from diadoche.core.offload.journal import is_unfinished
from diadoche.core.offload.manifest_reading import read_history
from diadoche.core.offload.naming import NamingValues
from diadoche.core.offload.offload import OffloadResult, offload
from diadoche.core.offload.onward import plan_onward
from diadoche.core.offload.plan import OffloadPlan, plan_offload
from diadoche.core.offload.restore import restore
from diadoche.core.offload.verify import verify
from diadoche.core.watch import Progress, Watch
from tests.snapshots import contents

TAKING = NamingValues("Shoot", date(2026, 6, 14), "Camera")


def run(plan: OffloadPlan, watch: Watch | None = None) -> OffloadResult:
    return offload(plan, watch or Watch(), version="test", now=lambda: datetime.now(UTC))


@pytest.fixture
def copy(small_card: Path, tmp_path: Path) -> Path:
    """A proven copy."""
    result = run(plan_offload(list_tree(small_card), TAKING, (tmp_path / "a",)))
    return Path(result.copies[0].root)


def onward(copy: Path, to: Path) -> OffloadResult:
    return run(plan_onward(copy, {to: to / "card-001"}, TAKING, Watch()))


def test_a_copy_goes_on_with_its_chain_of_manifests(copy: Path, tmp_path: Path) -> None:
    before = contents(copy, without="")
    result = onward(copy, tmp_path / "b")
    root = Path(result.copies[0].root)
    assert result.copies[0].status == "proven"
    assert contents(root) == contents(copy)
    assert contents(copy, without="") == before
    generations = sorted(path.name[:4] for path in (root / "ascmhl").glob("*.mhl"))
    assert generations == ["0001", "0002"]
    first = next((copy / "ascmhl").glob("0001*.mhl"))
    assert (root / "ascmhl" / first.name).read_bytes() == first.read_bytes()
    third = Path(onward(root, tmp_path / "c").copies[0].root)
    assert len(list((third / "ascmhl").glob("*.mhl"))) == 3
    assert verify(third, Watch()).clean


# source: the published reference implementation of ASC MHL, run on our copies
def test_the_reference_implementation_follows_the_chain(copy: Path, tmp_path: Path) -> None:
    root = Path(onward(copy, tmp_path / "b").copies[0].root)
    tool = Path(sys.executable).with_name("ascmhl")
    if not tool.exists():
        pytest.skip("the reference implementation is not installed")
    done = subprocess.run([tool, "diff", str(root)], capture_output=True, text=True, check=False)
    assert done.returncode == 0, done.stdout + done.stderr


def test_what_has_changed_since_its_manifest_goes_no_further(copy: Path, tmp_path: Path) -> None:
    victim = copy / "DCIM/100ABCDE/ABCD0002.MP4"
    data = bytearray(victim.read_bytes())
    data[300_000] ^= 1
    victim.write_bytes(data)
    result = onward(copy, tmp_path / "b")
    assert result.copies[0].status != "proven"
    assert any("is not what the manifest" in problem.what for problem in result.problems)
    assert not (Path(result.copies[0].root) / "DCIM/100ABCDE/ABCD0002.MP4").exists()


def test_an_unfinished_copy_is_no_source_and_is_completed_from_a_whole_one(
    copy: Path, small_card: Path, tmp_path: Path
) -> None:
    class Stops(Watch):
        def step(self, progress: Progress) -> None:
            if progress.done > 3_000_000:
                self.stop()
            super().step(progress)

    plan = plan_offload(list_tree(small_card), TAKING, (tmp_path / "b",))
    half = Path(
        offload(plan, Stops(), version="test", now=lambda: datetime.now(UTC), pace_bytes_s=4_000_000).copies[0].root
    )
    assert is_unfinished(half)
    with pytest.raises(RequestError, match="not a whole copy"):
        plan_onward(half, {tmp_path / "c": tmp_path / "c/card-001"}, TAKING, Watch())
    done = run(plan_onward(copy, {tmp_path / "b": half}, TAKING, Watch()))
    assert done.copies[0].status == "proven"
    assert not is_unfinished(half)
    assert contents(half) == contents(small_card)


def test_a_folder_without_manifest_and_a_place_inside_are_refused(copy: Path, tmp_path: Path) -> None:
    with pytest.raises(MediaError, match="no manifest"):
        plan_onward(tmp_path, {tmp_path / "b": tmp_path / "b/x"}, TAKING, Watch())
    with pytest.raises(RequestError, match="in the copy itself"):
        plan_onward(copy, {copy / "b": copy / "b/x"}, TAKING, Watch())


def test_a_damaged_file_is_fetched_again_and_the_damaged_one_steps_aside(copy: Path, tmp_path: Path) -> None:
    other = Path(onward(copy, tmp_path / "b").copies[0].root)
    path = "DCIM/100ABCDE/ABCD0002.MP4"
    good = (copy / path).read_bytes()
    (other / path).write_bytes(b"damaged")
    (other / "DCIM/100ABCDE/ABCD0003.MP4").unlink()
    found = restore(copy, [path, "DCIM/100ABCDE/ABCD0003.MP4"], other, Watch())
    assert found.problems == ()
    assert (other / path).read_bytes() == good
    assert (other / "DCIM/100ABCDE/ABCD0002 (not as it was).MP4").read_bytes() == b"damaged"
    verdict = verify(other, Watch())
    assert (verdict.changed, verdict.missing) == ((), ())


def test_fetching_elsewhere_takes_a_free_name_and_what_is_right_already_stays(copy: Path, tmp_path: Path) -> None:
    to = tmp_path / "desk"
    (to / "DCIM/100ABCDE").mkdir(parents=True)
    (to / "DCIM/100ABCDE/ABCD0005.MP4").write_bytes(b"somebody else's")
    found = restore(copy, ["DCIM/100ABCDE/ABCD0005.MP4"], to, Watch())
    assert found.files["DCIM/100ABCDE/ABCD0005.MP4"].name == "ABCD0005 (2).MP4"
    assert (to / "DCIM/100ABCDE/ABCD0005.MP4").read_bytes() == b"somebody else's"
    again = restore(copy, ["DCIM/100ABCDE/ABCD0001.MP4"], to, Watch())
    same = restore(copy, ["DCIM/100ABCDE/ABCD0001.MP4"], to, Watch())
    assert again.files == same.files
    assert len(list((to / "DCIM/100ABCDE").iterdir())) == 3


def test_a_source_that_is_damaged_gives_nothing(copy: Path, tmp_path: Path) -> None:
    path = "DCIM/100ABCDE/ABCD0002.MP4"
    (copy / path).write_bytes(b"damaged")
    found = restore(copy, [path], tmp_path / "desk", Watch())
    assert found.files == {}
    assert "is not what its manifest says" in found.problems[0].what
    assert [each for each in (tmp_path / "desk").rglob("*") if each.is_file()] == []
    with pytest.raises(RequestError, match="not in the manifest"):
        restore(copy, ["NOT/THERE.MP4"], tmp_path / "desk", Watch())


def test_footage_is_taken_in_where_it_lies(small_card: Path) -> None:
    before = contents(small_card)
    taken = adopt_folder(small_card, Watch(), version="test")
    assert taken.manifest.parent == small_card / "ascmhl"
    assert contents(small_card) == before
    assert len(taken.tree.files) == 6
    assert verify(small_card, Watch()).clean
    adopt_folder(small_card, Watch(), version="test")
    assert len(read_history(small_card).digests) == 6
    (small_card / "DCIM/100ABCDE/ABCD0005.MP4").write_bytes(bytes(90_000))
    with pytest.raises(MediaError, match="is not what its manifest"):
        adopt_folder(small_card, Watch(), version="test")


def test_places_are_compared_by_what_their_manifests_say(copy: Path, small_card: Path, tmp_path: Path) -> None:
    here, there = tmp_path / "a", tmp_path / "b"
    inside = copy.relative_to(here)
    run(plan_onward(copy, {there: there / inside}, TAKING, Watch()))
    (small_card / "DCIM/100ABCDE/ABCD0009.MP4").write_bytes(b"a later clip")
    later = Path(run(plan_offload(list_tree(small_card), TAKING, (here,))).copies[0].root)
    (there / inside / "DCIM/100ABCDE/ABCD0001.MP4").unlink()
    unlike = compare_places(here, there, Watch())
    assert [pair.source.relative_to(here) for pair in unlike.wanting_there] == [later.relative_to(here)]
    assert [pair.source.relative_to(there) for pair in unlike.wanting_here] == []
    assert unlike.missing_there == {Pair(copy, there / inside): ("DCIM/100ABCDE/ABCD0001.MP4",)}
    assert unlike.differing == []
    other = copy_tree(copy)
    assert all("ascmhl" not in file.path for file in other.files)
    assert copies_below(here).roots == (copy, later)


def test_an_estimate_names_what_everything_waits_for(small_card: Path, tmp_path: Path) -> None:
    (small_card / "BIG.MOV").write_bytes(os.urandom(60_000_000))
    plan = plan_offload(list_tree(small_card), TAKING, (tmp_path / "a", tmp_path / "b"))
    found = estimate(list_tree(small_card), plan, Watch())
    assert found.size_bytes == plan.size_bytes
    assert found.seconds > 0
    assert found.bottleneck in {"the card", str(tmp_path / "a"), str(tmp_path / "b")}
    assert len(found.places) == 2
    left = [path for path in tmp_path.rglob("*") if path.is_file() and small_card not in path.parents]
    assert left == []


def test_a_whole_copy_moved_anywhere_is_as_good_as_the_card(copy: Path, tmp_path: Path) -> None:
    moved = tmp_path / "another disk" / "kept"
    moved.parent.mkdir()
    shutil.move(str(copy), moved)
    assert verify(moved, Watch()).clean
    assert run(plan_offload(list_tree(moved), TAKING, (tmp_path / "c",))).copies[0].status == "proven"
