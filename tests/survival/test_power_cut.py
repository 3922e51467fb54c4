"""The power cut at once after the last word: what was said to be there is there, down to the last empty folder."""

from __future__ import annotations

import json
import random
import subprocess
from pathlib import Path

import pytest

from tests.conftest import diadoche
from tests.loaded import Loaded, Run
from tests.mounts import Mounter
from tests.snapshots import contents, snapshot

pytestmark = pytest.mark.usefixtures("own_state")


@pytest.fixture
def card(small_card: Path) -> Path:
    """A card whose small files fill a batch, with empty folders in empty folders."""
    dice = random.Random(3)
    for number in range(40):
        (small_card / f"DCIM/100ABCDE/{number:03}.XML").write_bytes(dice.randbytes(900))
    (small_card / "PRIVATE/LOGS/EMPTY").mkdir(parents=True)
    return small_card


def the_copy(disk: Path) -> Path:
    return next(path.parent for path in disk.rglob("ascmhl"))


def is_proven(done: subprocess.CompletedProcess[str]) -> bool:
    """Whether an offload said so; its clips are bytes of a dice, and nobody can play them."""
    return [each["status"] for each in json.loads(done.stdout)["copies"]] == ["proven"]


def without_manifests(copy: Path) -> dict[str, object]:
    return {name: what for name, what in snapshot(copy).items() if not name.startswith("ascmhl")}


def test_a_proven_copy_survives_a_power_cut(card: Path, faulty: Mounter, tmp_path: Path) -> None:
    mount = faulty(tmp_path / "disk", writable=True)
    done = diadoche("offload", card, "--to", mount.point / "a/new/place", "--shoot", "Rock", "--json")
    mount.cut_power()
    assert is_proven(done)
    copy = the_copy(tmp_path / "disk/a/new/place")
    assert without_manifests(copy).keys() == snapshot(card).keys()
    assert contents(copy).items() >= contents(card).items()
    assert diadoche("verify", copy, "--json").returncode == 0


def test_what_is_copied_on_and_restored_survives_a_power_cut(card: Path, faulty: Mounter, tmp_path: Path) -> None:
    assert is_proven(diadoche("offload", card, "--to", tmp_path / "first", "--shoot", "Rock", "--json"))
    first = the_copy(tmp_path / "first")
    mount = faulty(tmp_path / "disk", writable=True)
    done = [
        diadoche("copy-on", first, "--to", mount.point / "on", "--json"),
        diadoche("restore", "ABCD0001.MP4", "--to", mount.point / "back/here", "--json"),
    ]
    mount.cut_power()
    assert [each.returncode for each in done] == [0, 0], done
    assert contents(the_copy(tmp_path / "disk/on")).items() >= contents(card).items()
    restored = next((tmp_path / "disk/back/here").rglob("ABCD0001.MP4"))
    assert restored.read_bytes() == (card / "DCIM/100ABCDE/ABCD0001.MP4").read_bytes()
    assert without_manifests(the_copy(tmp_path / "disk/on")).keys() == snapshot(card).keys()


def words(card: Path, place: Path) -> list[str]:
    return ["offload", str(card), "--to", str(place), "--shoot", "Rock", "--json"]


@pytest.mark.parametrize(
    ("step", "times"), [("_name_finally", 1), ("rename_new", 20), ("_named", 3), ("write_manifest", 1), ("close", 1)]
)
def test_after_a_kill_and_a_power_cut_it_goes_on(
    card: Path, faulty: Mounter, tmp_path: Path, loaded: Loaded, step: str, times: int
) -> None:
    mount = faulty(tmp_path / "disk", writable=True)
    assert loaded.ended(Run(words(card, mount.point), step=step, times=times)) < 0
    mount.cut_power()
    mount.close()
    again = faulty(tmp_path / "disk", writable=True)
    done = loaded.run(words(card, again.point))
    assert is_proven(done)
    again.cut_power()
    copies = [path.parent for path in (tmp_path / "disk").rglob("ascmhl")]
    assert copies
    for copy in copies:
        assert contents(copy).items() >= contents(card).items()
        assert diadoche("verify", copy, "--json").returncode == 0
