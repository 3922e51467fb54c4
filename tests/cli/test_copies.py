"""The verbs about copies that stand already, as a person types them."""

from __future__ import annotations

import json
from pathlib import Path
from typing import Any

import pytest

from tests.conftest import diadoche
from tests.snapshots import contents

pytestmark = pytest.mark.usefixtures("own_state")


def told(*words: str | Path, code: int = 0) -> Any:
    done = diadoche(*words, "--json")
    assert done.returncode == code, done.stderr
    return json.loads(done.stdout)


@pytest.fixture
def root(drone: Path, tmp_path: Path) -> Path:
    """The drone's card in one place."""
    return Path(told("offload", drone, "--to", tmp_path / "a", "--shoot", "Rock")["copies"][0]["root"])


def test_copy_on_level_restore_and_verify(root: Path, drone: Path, tmp_path: Path) -> None:
    on = told("copy-on", root, "--to", tmp_path / "b")
    assert {"from", "files", "bytes", "seconds", "copies", "problems"} <= on.keys()
    assert on["copies"][0]["status"] == "proven"
    second = Path(on["copies"][0]["root"])
    assert contents(second) == contents(drone)
    (second / "DCIM/100DRONE/DRON0001.MP4").write_bytes(b"damaged")
    assert told("verify", second, code=1)["changed"] == ["DCIM/100DRONE/DRON0001.MP4"]
    back = told("restore", second / "DCIM/100DRONE/DRON0001.MP4", "--to", second)
    assert back["from"] == str(root)
    assert back["restored"] == [str(second / "DCIM/100DRONE/DRON0001.MP4")]
    assert told("verify", second, code=1)["changed"] == []
    (second / "DCIM/100DRONE/DRON0002.MP4").unlink()
    level = told("level", tmp_path / "a", tmp_path / "b")
    assert level["restored"] == [str(second / "DCIM/100DRONE/DRON0002.MP4")]
    assert level["copied"] == []


def test_estimate_and_folders(drone: Path, tmp_path: Path) -> None:
    found = told("estimate", drone, "--to", tmp_path / "a", "--to", tmp_path / "b")
    assert {"bytes", "seconds", "card_bytes_s", "places", "bottleneck", "problems"} <= found.keys()
    assert not list(tmp_path.rglob("*.MP4"))
    done = told(
        "offload", drone, "--to", tmp_path / "a", "--shoot", "Rock", "--person", "Ada",
        "--folders", "{person}/{day}", "--card-folder", "{camera}", "--read-twice", "--without-stills",
    )  # fmt: skip
    copy = Path(done["copies"][0]["root"])
    assert copy.relative_to(tmp_path / "a").parts == ("Ada", "2026-06-14", "Drone-001")
    assert not list(copy.rglob("*.JPG"))
    assert any("still" in each["what"] for each in done["skipped"])


@pytest.mark.parametrize(
    ("words", "code"),
    [
        (["restore", "NOTHING.MP4", "--to", "{tmp}/x"], 2),
        (["copy-on", "{tmp}", "--to", "{tmp}/x"], 1),
        (["complete", "{tmp}"], 2),
        (["level", "{tmp}", "{tmp}/nowhere"], 2),
        (["rebuild", "{tmp}/nowhere"], 2),
        (["take-in", "{tmp}/not-there"], 2),
        (["offload", "{tmp}", "--to", "{tmp}-x", "--folders", "{{nonsense}}"], 2),
    ],
)
def test_what_makes_no_sense_is_named(tmp_path: Path, words: list[str], code: int) -> None:
    (tmp_path / "file").write_bytes(b"x")
    done = diadoche(*[word.format(tmp=tmp_path) for word in words], "--json")
    assert done.returncode == code, done.stderr
    assert "Traceback" not in done.stderr
    (problem,) = json.loads(done.stdout)["problems"]
    assert {"what", "path", "safe", "do"} <= problem.keys()
    assert problem["do"]


def test_take_in_and_rebuild(small_card: Path, tmp_path: Path) -> None:
    taken = told("take-in", small_card, "--shoot", "Archive")
    assert taken["copies"][0]["status"] == "proven"
    assert told("rebuild", small_card.parent)["waybills"] == 0
    assert told("look", small_card, code=1)["proven_before"]["files"] == 6
