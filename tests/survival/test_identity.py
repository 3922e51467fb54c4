"""Taken for something else, believed without being read, overwritten: each made to happen for real."""

from __future__ import annotations

import errno
import json
import os
import random
import shutil
import sqlite3
import subprocess
import sys
import threading
import time
from pathlib import Path
from typing import Any

import pytest

from diadoche.demo.faulty_folder import Faults
from tests.conftest import diadoche
from tests.loaded import Loaded, Run
from tests.mounts import Mounter
from tests.snapshots import contents
from tests.survival.truth import shas_of

pytestmark = pytest.mark.usefixtures("own_state")
CLIPS = "DCIM/100ABCDE"
FIRST, LAST = f"{CLIPS}/ABCD0001.MP4", f"{CLIPS}/ABCD0006.MP4"


def told(*words: str | Path, code: int | None = None) -> Any:
    done = diadoche(*words, "--json")
    assert "Traceback" not in done.stderr, done.stderr
    assert code is None or done.returncode == code, done.stdout + done.stderr
    return json.loads(done.stdout or "{}")


def card_of(folder: Path, seed: int, sizes: tuple[int, ...] = (400_000, 90_000, 3_000, 700_000, 1, 300_000)) -> Path:
    """A card with clips of these sizes."""
    dice = random.Random(seed)
    (folder / CLIPS).mkdir(parents=True)
    for number, size in enumerate(sizes, start=1):
        (folder / CLIPS / f"ABCD{number:04}.MP4").write_bytes(dice.randbytes(size))
    return folder


@pytest.fixture
def card(tmp_path: Path) -> Path:
    return card_of(tmp_path / "card", 1)


def offloaded(card: Path, *places: Path, shoot: str = "S") -> list[Path]:
    said = told("offload", card, *(word for place in places for word in ("--to", place)), "--shoot", shoot)
    assert [copy["status"] for copy in said["copies"]] == ["proven"] * len(places), said
    return [Path(copy["root"]) for copy in said["copies"]]


def half(loaded: Loaded, card: Path, place: Path, times: int = 2) -> Path:
    """A copy whose run was killed before its second batch of names was given."""
    assert loaded.ended(Run(["offload", str(card), "--to", str(place), "--shoot", "S"], "_name_finally", 1)) < 0
    return next(place.rglob("card-0*"))


def states() -> dict[str, str]:
    """What the ledger says of every copy, by its folder."""
    file = next(Path(os.environ["XDG_STATE_HOME"]).rglob("ledger.sqlite"))
    with sqlite3.connect(file) as database:
        return dict(database.execute("select root, status from copies order by id"))


def flip(path: Path, at: int = 10) -> None:
    info, data = path.stat(), bytearray(path.read_bytes())
    data[at] ^= 4
    path.write_bytes(data)
    os.utime(path, ns=(info.st_atime_ns, info.st_mtime_ns))


def is_proven(said: dict[str, Any]) -> bool:
    return bool(said.get("copies")) and all(copy["status"] == "proven" for copy in said["copies"])


# -- 1: a card that is written to ------------------------------------------------------------------


class Writes(threading.Thread):
    """Does something to a card once the first file of it stands in a copy."""

    def __init__(self, place: Path, act: Any) -> None:
        super().__init__(daemon=True)
        self._place, self._act, self.acted = place, act, False

    def run(self) -> None:
        until_s = time.monotonic() + 20
        while time.monotonic() < until_s and not list(self._place.rglob(".part-diadoche*/*")):
            time.sleep(0.005)
        self._act()
        self.acted = True


def written_to(act: Any, card: Path, faulty: Mounter, place: Path) -> dict[str, Any]:
    reader = faulty(card)
    reader.set(Faults(slow_bytes_s=3_000_000))
    writer = Writes(place, act)
    writer.start()
    said = told("offload", reader.point, "--to", place, "--shoot", "S")
    writer.join()
    assert writer.acted
    return said


def test_what_comes_onto_a_card_while_it_is_offloaded_is_copied_too(
    card: Path, faulty: Mounter, tmp_path: Path
) -> None:
    def write() -> None:
        (card / CLIPS / "ABCD0007.MP4").write_bytes(b"a clip that a phone has just taken")
        (card / "NEW").mkdir()
        info = (card / FIRST).stat()
        (card / FIRST).write_bytes(os.urandom(info.st_size))

    said = written_to(write, card, faulty, tmp_path / "a")
    assert is_proven(said)
    assert said["whole"]
    assert contents(Path(said["copies"][0]["root"])) == contents(card)


def test_a_rewritten_file_with_its_old_time_is_found_by_what_was_done_to_it(
    card: Path, faulty: Mounter, tmp_path: Path
) -> None:
    said = written_to(lambda: flip(card / FIRST), card, faulty, tmp_path / "a")
    assert not is_proven(said) or contents(Path(said["copies"][0]["root"])) == contents(card)


def test_a_card_that_is_written_to_all_the_time_is_never_whole(card: Path, faulty: Mounter, tmp_path: Path) -> None:
    ended = threading.Event()

    def go_on() -> None:
        def write() -> None:
            for number in range(1000):
                (card / CLIPS / f"LOOP{number:04}.MP4").write_bytes(b"again")
                if ended.wait(0.005):
                    return

        threading.Thread(target=write, daemon=True).start()

    said = written_to(go_on, card, faulty, tmp_path / "a")
    ended.set()
    assert not said["whole"]
    assert not is_proven(said)
    assert any("still being written" in problem["what"] for problem in said["problems"])


# -- 2, 3: what is taken in ------------------------------------------------------------------------


def test_rot_is_not_laundered_by_taking_a_copy_in(card: Path, tmp_path: Path) -> None:
    (root,) = offloaded(card, tmp_path / "a")
    shutil.rmtree(root / "ascmhl")
    flip(root / FIRST)
    assert not is_proven(told("take-in", root, "--shoot", "S"))
    assert not (root / "ascmhl").exists()
    # What came off the card stays what it was: the sound copy of it is taken in.
    flip(root / FIRST)
    assert is_proven(told("take-in", root, "--shoot", "S"))
    assert states()[str(root)] == "proven"


def test_a_moved_copy_without_manifests_is_held_against_its_card(card: Path, tmp_path: Path) -> None:
    (root,) = offloaded(card, tmp_path / "a")
    shutil.rmtree(root / "ascmhl")
    moved = tmp_path / "kept"
    shutil.move(root, moved)
    flip(moved / FIRST)
    assert not is_proven(told("take-in", moved, "--shoot", "S"))


def test_an_unfinished_copy_that_lost_its_hidden_files_is_not_finished(
    card: Path, loaded: Loaded, tmp_path: Path
) -> None:
    root = half(loaded, card, tmp_path / "a")
    bare = tmp_path / "bare"
    shutil.copytree(root, bare, ignore=shutil.ignore_patterns(".*"))
    (bare / FIRST).parent.mkdir(parents=True, exist_ok=True)
    shutil.copy(card / FIRST, bare / FIRST)
    said = told("take-in", bare, "--shoot", "S")
    assert not is_proven(said)
    assert "unfinished" in diadoche("take-in", bare, "--shoot", "S").stderr


def test_a_newer_manifest_does_not_make_a_stopped_copy_whole(card: Path, tmp_path: Path, faulty: Mounter) -> None:
    reader = faulty(card)
    reader.set(Faults(read_error_at=10, file="ABCD0004.MP4"))
    said = told("offload", reader.point, "--to", tmp_path / "a", "--shoot", "S", code=1)
    root = Path(said["copies"][0]["root"])
    for name in (".not-whole-diadoche.jsonl", "ascmhl/unfinished-copy.json"):
        (root / name).unlink(missing_ok=True)
    for _turn in range(2):
        assert not is_proven(told("take-in", root, "--shoot", "S"))
    assert states()[str(root)] != "proven"


# -- 4, 5: another card's --------------------------------------------------------------------------


def test_an_unfinished_copy_is_not_filled_with_another_card(card: Path, loaded: Loaded, tmp_path: Path) -> None:
    (good,) = offloaded(card, tmp_path / "a")
    other = card_of(tmp_path / "another/card", 2, (50_000, 60_000))
    unfinished = half(loaded, other, tmp_path / "b")
    journal = (unfinished / ".not-whole-diadoche.jsonl").read_bytes()
    # The ledger knew a copy of the first card at that very place.
    at_its_place = tmp_path / "a" / unfinished.relative_to(tmp_path / "b")
    assert at_its_place == good
    for words in (
        ("level", tmp_path / "a", tmp_path / "b"),
        ("complete", unfinished),
        ("copy-on", good, "--to", tmp_path / "b"),
    ):
        told(*words)
        assert (unfinished / ".not-whole-diadoche.jsonl").read_bytes().startswith(journal.split(b"\n")[0]), words
    first = shas_of(card)
    assert not set(shas_of(unfinished).values()) & set(first.values())


def test_a_copy_is_not_repaired_with_another_cards_file_of_that_name(card: Path, tmp_path: Path) -> None:
    (mine,) = offloaded(card, tmp_path / "a")
    offloaded(card_of(tmp_path / "other", 2), tmp_path / "b")
    before = contents(mine)
    told("restore", "ABCD0001.MP4", "--to", mine)
    assert contents(mine) == before
    # From nowhere in particular nobody can tell which card is meant.
    assert told("restore", FIRST, "--to", tmp_path / "desk", code=2).get("restored") is None
    said = told("restore", mine / FIRST, "--to", tmp_path / "desk")
    assert said.get("restored", []) == []
    (second,) = (Path(copy["root"]) for copy in told("copy-on", mine, "--to", tmp_path / "c")["copies"])
    flip(mine / FIRST)
    assert told("restore", mine / FIRST, "--to", mine, code=0)["from"] == str(second)
    assert (mine / FIRST).read_bytes() == (card / FIRST).read_bytes()


# -- 6, 12, 13: what is believed -------------------------------------------------------------------


def test_a_file_that_nothing_is_known_of_is_not_proven(card: Path, tmp_path: Path) -> None:
    # The reference implementation of ASC MHL ("ascmhl" on PyPI): a history that mixes kinds of digests.
    tool = Path(sys.executable).with_name("ascmhl")
    subprocess.run([tool, "create", "-h", "md5", card], check=True, capture_output=True)
    (card / CLIPS / "ABCD0007.MP4").write_bytes(b"a later one")
    subprocess.run(
        [tool, "create", "-h", "sha1", "-sf", card / CLIPS / "ABCD0007.MP4", card], check=True, capture_output=True
    )
    (card / CLIPS / "ABCD0007.MP4").write_bytes(b"a l4ter one")
    said = told("copy-on", card, "--to", tmp_path / "b")
    assert not is_proven(said)
    assert any("ABCD0007.MP4" in problem["what"] for problem in said["problems"])


def change_manifest(root: Path) -> None:
    (manifest,) = (root / "ascmhl").glob("*.mhl")
    manifest.write_text(manifest.read_text().replace("<path ", "<path  ", 1))


def test_an_altered_manifest_counts_for_nothing_until_the_card_vouches(
    card: Path, tmp_path: Path, own_state: Path
) -> None:
    (root,) = offloaded(card, tmp_path / "a")
    change_manifest(root)
    said = told("verify", root, code=1)
    assert any("was changed after" in problem["what"] for problem in said["problems"])
    # Every file is what came off the card: the ledger says so.
    assert states()[str(root)] == "proven"
    assert is_proven(told("copy-on", root, "--to", tmp_path / "b"))
    # A ledger that does not know the card cannot.
    for file in own_state.rglob("ledger.sqlite*"):
        file.unlink()
    told("rebuild", tmp_path / "a")
    told("verify", root, code=1)
    assert states()[str(root)] == "altered"
    assert not is_proven(told("copy-on", root, "--to", tmp_path / "c"))
    assert not is_proven(told("take-in", root, "--shoot", "S"))


def test_copying_on_again_takes_nothing_from_a_sound_copy(card: Path, tmp_path: Path) -> None:
    (root,) = offloaded(card, tmp_path / "a")
    (second,) = (Path(copy["root"]) for copy in told("copy-on", root, "--to", tmp_path / "b")["copies"])
    told("copy-on", root, "--to", tmp_path / "b", code=1)
    assert states()[str(second)] == "proven"
    flip(root / FIRST)
    told("verify", root, code=1)
    assert told("restore", FIRST, "--to", tmp_path / "desk")["from"] == str(second)


def test_a_rebuilt_ledger_has_read_nothing(card: Path, tmp_path: Path, own_state: Path) -> None:
    (root,) = offloaded(card, tmp_path / "a")
    (root / FIRST).unlink()
    for file in own_state.rglob("ledger.sqlite*"):
        file.unlink()
    told("rebuild", tmp_path / "a")
    with sqlite3.connect(next(own_state.rglob("ledger.sqlite"))) as database:
        assert database.execute("select status, verified from copies").fetchall() == [("damaged", None)]


# -- 7: links --------------------------------------------------------------------------------------


def test_nothing_is_written_or_deleted_through_links_in_an_unfinished_copy(
    card: Path, loaded: Loaded, tmp_path: Path
) -> None:
    root = half(loaded, card, tmp_path / "a")
    elsewhere = {name: tmp_path / f"somebody's {name}" for name in ("parts", "cards")}
    for folder in elsewhere.values():
        folder.mkdir()
        (folder / "theirs.txt").write_text("not yours")
    for name, folder in ((".part-diadoche", elsewhere["parts"]), ("DCIM", elsewhere["cards"])):
        shutil.rmtree(root / name, ignore_errors=True)
        (root / name).symlink_to(folder)
    said = told("offload", card, "--to", tmp_path / "a", "--shoot", "S")
    for folder in elsewhere.values():
        assert [path.name for path in folder.rglob("*")] == ["theirs.txt"]
    assert not is_proven(said) or Path(said["copies"][0]["root"]) != root


def test_no_file_from_outside_is_copied_on_through_a_link_among_manifests(card: Path, tmp_path: Path) -> None:
    (root,) = offloaded(card, tmp_path / "a")
    (tmp_path / "secret.txt").write_text("not for everybody")
    (root / "ascmhl/0000_more.txt").symlink_to(tmp_path / "secret.txt")
    told("copy-on", root, "--to", tmp_path / "b")
    assert not [
        path for path in (tmp_path / "b").rglob("*") if path.is_file() and b"not for every" in path.read_bytes()
    ]


# -- 8, 15: names ----------------------------------------------------------------------------------


def test_renamed_files_are_known_by_what_they_are(card: Path, faulty: Mounter, tmp_path: Path) -> None:
    odd = f"{CLIPS}/take 1: wide?.MP4"
    (card / odd).write_bytes(b"a name with a colon")
    (root,) = offloaded(card, tmp_path / "a")
    (tmp_path / "behind").mkdir()
    stick = faulty(tmp_path / "behind", writable=True)
    stick.set(Faults(refused=':?"*'))
    said = told("copy-on", root, "--to", stick.point)
    assert is_proven(said)
    there = Path(said["copies"][0]["root"])
    assert told("verify", there, code=0)["missing"] == []
    done = told("level", tmp_path / "a", stick.point, code=0)
    assert (done["copied"], done["differing"]) == ([], [])
    (kept,) = there.rglob("take*")
    assert kept.name != Path(odd).name
    # source: ASC MHL Specification v2.0, previousPath: the name that a file had before
    assert f"<previousPath>{odd}</previousPath>" in next((there / "ascmhl").glob("0002*.mhl")).read_text()
    flip(root / odd, 0)
    assert told("restore", odd, "--to", root, code=0)["from"] == str(there)
    assert (root / odd).read_bytes() == b"a name with a colon"


def test_a_card_may_have_a_file_called_like_our_parts_folder(card: Path, tmp_path: Path) -> None:
    (card / ".part-diadoche").write_bytes(b"a file of the card")
    (root,) = offloaded(card, tmp_path / "a")
    assert told("verify", root, code=0)["missing"] == []
    said = told("copy-on", root, "--to", tmp_path / "b", code=0)
    assert sorted(shas_of(Path(said["copies"][0]["root"])).values()) == sorted(shas_of(root).values())


def test_a_folder_whose_name_is_no_text_is_taken_in(card: Path, tmp_path: Path) -> None:
    folder = tmp_path / os.fsdecode(b"caf\xe9")
    card.rename(folder)
    assert is_proven(told("take-in", folder, "--shoot", "S", code=0))
    assert told("verify", folder, code=0)["ok"] == 6


# -- 9: what cannot be listed ----------------------------------------------------------------------


def test_folders_that_cannot_be_listed_are_told(card: Path, faulty: Mounter, tmp_path: Path) -> None:
    (tmp_path / "behind").mkdir()
    disk = faulty(tmp_path / "behind", writable=True)
    offloaded(card, disk.point, tmp_path / "b")
    disk.set(Faults(list_error=errno.EIO, file="S"))
    assert told("level", disk.point, tmp_path / "b", code=1)["problems"]
    assert told("rebuild", disk.point, code=1)["problems"]


# -- 11: a clock that stands still -----------------------------------------------------------------


def test_other_clips_under_the_same_names_sizes_and_times_are_new(card: Path, tmp_path: Path) -> None:
    offloaded(card, tmp_path / "a")
    other = card_of(tmp_path / "other", 2)
    for path in other.rglob("*.MP4"):
        info = (card / path.relative_to(other)).stat()
        os.utime(path, ns=(info.st_atime_ns, info.st_mtime_ns))
    assert told("look", other)["proven_before"]["files"] <= 1
    said = told("offload", other, "--to", tmp_path / "b", "--shoot", "S", "--new-only")
    there = set(shas_of(Path(said["copies"][0]["root"])).values())
    # A file of one byte may be the same by chance.
    assert {sha for path, sha in shas_of(other).items() if not path.endswith("0005.MP4")} <= there


# -- 14: the day goes on ---------------------------------------------------------------------------


def test_a_place_inside_a_copy_is_refused(card: Path, tmp_path: Path) -> None:
    (root,) = offloaded(card, tmp_path / "a")
    before = contents(root, without="")
    said = told("offload", card_of(tmp_path / "other", 2), "--to", root / "DCIM", "--shoot", "S", code=1)
    assert not is_proven(said)
    assert contents(root, without="") == before


def test_one_folder_by_two_mounts_is_one_place(card: Path, tmp_path: Path) -> None:
    place, other = tmp_path / "place", tmp_path / "other way"
    place.mkdir()
    other.mkdir()
    if subprocess.run(["mount", "--bind", place, other], check=False, capture_output=True).returncode:
        pytest.skip("nothing can be mounted here")
    try:
        said = told("offload", card, "--to", place, "--to", other, "--shoot", "S", code=1)
    finally:
        subprocess.run(["umount", other], check=True)
    assert sorted(copy["status"] for copy in said["copies"]) == ["failed", "proven"]
    assert [path.name for path in place.rglob("card-*")] == ["card-001"]


def test_a_place_that_keeps_no_times_holds_a_proven_copy(card: Path, faulty: Mounter, tmp_path: Path) -> None:
    (tmp_path / "behind").mkdir()
    disk = faulty(tmp_path / "behind", writable=True)
    disk.set(Faults(no_times=True))
    done = diadoche("offload", card, "--to", disk.point, "--shoot", "S", "--json")
    assert is_proven(json.loads(done.stdout))
    assert "does not keep the times" in done.stderr
