"""An offload killed for real: at every named step, and at random moments, and taken up again."""

from __future__ import annotations

import os
import random
import shutil
import signal
from datetime import UTC, date, datetime
from pathlib import Path

import pytest

from diadoche.core.cards.tree import list_tree
from diadoche.core.diskfiles import PART_SUFFIX
from diadoche.core.offload.journal import JOURNAL_NAME, is_unfinished
from diadoche.core.offload.naming import NamingValues
from diadoche.core.offload.offload import OffloadResult, offload
from diadoche.core.offload.plan import PlanOptions, plan_offload
from diadoche.core.offload.verify import verify
from diadoche.core.watch import Watch
from tests.conftest import diadoche
from tests.loaded import Loaded, Run
from tests.recordings import cut_off
from tests.snapshots import contents, snapshot

pytestmark = pytest.mark.usefixtures("own_state")

# In the order in which an offload takes them: (function, how often it is reached before the kill).
STEPS = [
    ("look", 1),
    ("take", 1),
    ("begin", 1),
    ("_begin", 1),
    ("_begin", 2),
    ("_write_on", 1),
    ("_write_pack", 1),
    ("_end", 1),
    ("_settle", 1),
    ("_sync", 1),
    ("sync_filesystem", 1),
    ("_reads_back", 1),
    ("_reads_back", 5),
    ("_name_finally", 1),
    ("note", 1),
    ("_named", 1),
    ("_named", 4),
    ("rename_new", 1),
    ("rename_new", 5),
    ("sync", 1),
    ("close_copy", 1),
    ("write_manifest", 1),
    ("_add_link", 1),
    ("write_whole", 1),
    ("write_whole", 3),
    ("close", 1),
    ("_write_waybills", 1),
    ("record_offload", 1),
    ("put_copy", 1),
    ("_put_files", 1),
]


def words_of(card: Path, places: list[Path]) -> list[str]:
    to = [word for place in places for word in ("--to", str(place))]
    return ["offload", str(card), *to, "--shoot", "S", "--json"]


def nothing_false(places: list[Path], truth: dict[str, str]) -> None:
    """No half file stands under a final name, and what is not whole says so."""
    for place in places:
        for root in place.rglob("card-0*"):
            if not root.is_dir():
                continue
            is_empty = not any(root.iterdir())
            assert is_empty or is_unfinished(root) or (root / "ascmhl").is_dir(), root
            for path, digest in contents(root).items():
                if PART_SUFFIX not in path and path in truth:
                    assert digest == truth[path], path


@pytest.mark.parametrize("moment", ["call", pytest.param("return", marks=pytest.mark.long)])
@pytest.mark.parametrize(("step", "times"), STEPS)
def test_killed_at_a_named_step(
    loaded: Loaded, small_card: Path, tmp_path: Path, request: pytest.FixtureRequest, step: str, times: int, moment: str
) -> None:
    if step == "sync_filesystem":
        request.getfixturevalue("known_disk")
    before, truth = snapshot(small_card), contents(small_card)
    places = [tmp_path / "a", tmp_path / "b"]
    code = loaded.ended(Run(words_of(small_card, places), step, times, moment))
    assert code == -signal.SIGKILL, f"{step} was never reached"
    nothing_false(places, truth)
    done = resumed(small_card, places)
    assert [copy.status for copy in done.copies] == ["proven", "proven"]
    for copy in done.copies:
        assert contents(Path(copy.root)) == truth
        assert verify(Path(copy.root), Watch()).clean
        assert not list(Path(copy.root).rglob(f"*{PART_SUFFIX}*"))
        assert not (Path(copy.root) / JOURNAL_NAME).exists()
    assert snapshot(small_card) == before


def resumed(card: Path, places: list[Path]) -> OffloadResult:
    """The same offload once more, as the next start does it."""
    tree = list_tree(card)
    day = datetime.fromtimestamp(min(file.changed_ns for file in tree.files) / 1e9, tz=UTC).date()
    made = plan_offload(tree, NamingValues("S", day, "card", card="card"), tuple(places), PlanOptions())
    return offload(made, Watch(), version="test", now=lambda: datetime.now(UTC))


def test_a_proof_that_was_killed_is_redone_whole(loaded: Loaded, small_card: Path, tmp_path: Path) -> None:
    places = [tmp_path / "a"]
    assert loaded.ended(Run(words_of(small_card, places), "_named", 1, "return")) == -signal.SIGKILL
    standing = next(places[0].rglob("ABCD0001.MP4"))
    # Between the two runs the disk loses a bit of a file that had been read back already.
    data = bytearray(standing.read_bytes())
    data[1_000_000] ^= 4
    times = standing.stat()
    standing.write_bytes(data)
    os.utime(standing, ns=(times.st_atime_ns, times.st_mtime_ns))
    done = resumed(small_card, places)
    assert done.copies[0].status == "proven"
    assert contents(Path(done.copies[0].root)) == contents(small_card)


@pytest.fixture
def long_card(tmp_path: Path) -> Path:
    """A card that takes about a second, with files that are copied alone and in packs."""
    card = tmp_path / "card"
    (card / "DCIM/100ABCDE").mkdir(parents=True)
    dice = random.Random(5)
    for number in range(1, 60):
        size = dice.choice((0, 900, 60_000, 500_000, 3_000_000))
        (card / f"DCIM/100ABCDE/ABCD{number:04}.MP4").write_bytes(cut_off(size, dice.randbytes))
    return card


@pytest.mark.parametrize("moments", [pytest.param(8, id="part"), pytest.param(300, id="long", marks=pytest.mark.long)])
def test_killed_at_random_moments_every_copy_ends_right(
    loaded: Loaded, long_card: Path, tmp_path: Path, moments: int
) -> None:
    before, truth = snapshot(long_card), contents(long_card)
    dice = random.Random(20)
    killed = 0
    for moment in range(moments):
        places = [tmp_path / f"{moment}-a", tmp_path / f"{moment}-b"]
        for _ in range(dice.choice((1, 1, 2, 3))):
            code = loaded.ended(Run(words_of(long_card, places), killed_after_ms=dice.randrange(50, 600)))
            killed += code == -signal.SIGKILL
            nothing_false(places, truth)
        done = resumed(long_card, places)
        assert [copy.status for copy in done.copies] == ["proven", "proven"], moment
        for copy in done.copies:
            assert contents(Path(copy.root)) == truth, moment
            assert verify(Path(copy.root), Watch()).clean, moment
            assert not list(Path(copy.root).rglob(f"*{PART_SUFFIX}*")), moment
        for place in places:
            shutil.rmtree(place)
    assert snapshot(long_card) == before
    assert killed >= moments


def test_the_day_of_a_card_without_recordings_is_that_of_its_oldest_file(small_card: Path, tmp_path: Path) -> None:
    os.utime(small_card / "DCIM/100ABCDE/ABCD0001.MP4", (0, 86_400 * 365))
    diadoche(*words_of(small_card, [tmp_path / "a"]))
    assert (tmp_path / "a/S/Originals" / date(1971, 1, 1).isoformat()).is_dir()
