"""The command line's contract: keys, exit codes, and one JSON document on standard output, nothing else there."""

from __future__ import annotations

import json
import shutil
import subprocess
import sys
from pathlib import Path
from typing import Any

import opentimelineio as otio
import pytest

from tests.conftest import diadoche
from tests.snapshots import snapshot

pytestmark = pytest.mark.usefixtures("own_state")


def document(*words: str | Path, code: int = 0) -> Any:
    """Runs a verb with --json; standard output must be exactly one document."""
    done = diadoche(*words, "--json")
    assert done.returncode == code, done.stderr
    return json.loads(done.stdout)


def test_the_program_starts_from_nothing() -> None:
    done = subprocess.run([sys.executable, "-m", "diadoche.main", "recipes", "--json"], capture_output=True, check=True)
    assert {"name", "container", "video", "audio"} <= json.loads(done.stdout)[0].keys()


@pytest.fixture
def untouched(camcorder: Path, tmp_path: Path) -> Path:
    """A camcorder's card that no other test reads meanwhile, so that its access times can be held against it."""
    return shutil.copytree(camcorder, tmp_path / "card" / camcorder.name)


def test_look(untouched: Path) -> None:
    camcorder = untouched
    before = snapshot(camcorder)
    told = document("look", camcorder)
    assert isinstance(told, dict)
    assert {"layout", "complete", "problems", "clips", "stills", "files", "bytes", "proven_before"} <= told.keys()
    assert (told["layout"], told["complete"], told["files"]) == ("avchd", True, 11)
    assert {"name", "spans", "companions", "files", "duration_s", "start"} <= told["clips"][0].keys()
    assert told["proven_before"] == {"clips": 0, "files": 0}
    assert snapshot(camcorder) == before


def test_identify(drone: Path, camcorder: Path) -> None:
    told = document("identify", drone / "DCIM/100DRONE/DRON0001.MP4", camcorder / "PRIVATE/AVCHD/BDMV/STREAM/00002.MTS")
    assert isinstance(told, list)
    keys = [
        "path",
        "container",
        "duration_s",
        "frames",
        "start",
        "video",
        "audio",
        "data",
        "projection",
        "stereo",
        "problems",
        "route",
        "reasons",
    ]
    assert set(keys) <= told[0].keys()
    video = told[1]["video"][0]
    keys = [
        "codec",
        "profile",
        "width",
        "height",
        "pixel_aspect",
        "rotation",
        "frame_rate",
        "frame_rate_mode",
        "scan",
        "field_order",
        "bit_depth",
        "chroma",
        "intra_only",
        "bit_rate",
        "color",
        "timecode",
        "decodable",
    ]
    assert set(keys) <= video.keys()
    assert (video["frame_rate"], video["scan"], video["field_order"], video["chroma"]) == (
        "25/1",
        "interlaced",
        "top",
        "4:2:0",
    )
    assert video["color"] == {"primaries": "BT.709", "transfer": "BT.709", "matrix": "BT.709", "range": "limited"}
    assert [each["route"] for each in told] == ["convert", "rewrap"]


@pytest.mark.usefixtures("known_disk")
def test_from_card_to_hand_off(untouched: Path, drone: Path, tmp_path: Path) -> None:
    camcorder = untouched
    before = snapshot(camcorder)
    for card in (camcorder, drone):
        told = document(
            "offload",
            card,
            "--to",
            tmp_path / "a",
            "--to",
            tmp_path / "b",
            "--shoot",
            "Rock",
            "--digest",
            "xxh128",
            "--digest",
            "md5",
        )
        assert isinstance(told, dict)
        assert {
            "files",
            "bytes",
            "clips",
            "seconds",
            "copies",
            "skipped",
            "renamed",
            "problems",
            "waybill",
        } <= told.keys()
        assert [copy["status"] for copy in told["copies"]] == ["proven", "proven"]
        assert {"destination", "root", "manifest", "files_verified", "status"} <= told["copies"][0].keys()
        assert "Both copies are proven, both on one disk" in Path(told["waybill"]).read_text()
    assert snapshot(camcorder) == before
    root = told["copies"][1]["root"]
    assert document("verify", root) == {
        "files": 10,
        "ok": 10,
        "changed": [],
        "missing": [],
        "extra": [],
        "not_compared": [],
        "altered": False,
        "problems": [],
    }
    known = document("look", drone)
    assert isinstance(known, dict)
    assert known["proven_before"] == {"clips": 3, "files": 10}
    made = document("handoff", "Rock", "--to", tmp_path / "rock.otio")
    assert made == {"file": str(tmp_path / "rock.otio"), "clips": 6}
    timeline = otio.adapters.read_from_file(str(tmp_path / "rock.otio"))
    assert isinstance(timeline, otio.schema.Timeline)
    clips = list(timeline.find_clips())
    assert clips[0].name == "Keeper's camcorder 00000"
    references = clips[1].media_references()
    assert set(references) == {"original"}
    assert clips[-1].source_range.start_time.rate == pytest.approx(25)
    assert {key for clip in clips for key in clip.media_references()} == {"original", "proxy"}


def test_new_only_and_single_clips(drone: Path, tmp_path: Path) -> None:
    card = tmp_path / "card"
    shutil.copytree(drone, card)
    part = document("offload", card, "--to", tmp_path / "a", "--clip", "DRON0001")
    assert isinstance(part, dict)
    assert part["files"] == 3
    rest = document("offload", card, "--to", tmp_path / "a", "--new-only")
    assert isinstance(rest, dict)
    assert rest["files"] == 7
    assert "Less than the whole card" in Path(part["waybill"]).read_text()


def test_recipes() -> None:
    told = document("recipes")
    assert isinstance(told, list)
    assert all({"name", "container", "video", "audio"} <= recipe.keys() for recipe in told)
    assert {"prores-422", "vc3-hq", "h264-intra"} <= {recipe["name"] for recipe in told}


def problem_of(*words: str | Path, code: int) -> dict[str, str]:
    told = document(*words, code=code)
    first = told[0] if isinstance(told, list) else told
    assert isinstance(first, dict)
    problem: dict[str, str] = first["problems"][0]
    assert set(problem) == {"what", "path", "safe", "do"}
    return problem


def test_bad_input_is_named_in_a_sentence(
    camcorder: Path, drone: Path, tmp_path: Path, read_only_disk: Path, small_disk: Path
) -> None:
    (tmp_path / "papers").mkdir()
    (tmp_path / "papers/letter.txt").write_text("x")
    (tmp_path / "empty").mkdir()
    note = tmp_path / "NOTE.MP4"
    note.write_text("no video\n")
    assert "no card" in problem_of("look", tmp_path / "papers", code=1)["what"]
    assert "is empty" in problem_of("look", tmp_path / "empty", code=1)["what"]
    assert "nothing at" in problem_of("look", tmp_path / "nowhere", code=2)["what"]
    assert "plain text" in problem_of("identify", note, code=1)["what"]
    assert "plain text" in problem_of("convert", note, "--recipe", "prores-422", "--to", tmp_path / "o", code=1)["what"]
    assert "no recipe called" in problem_of("convert", note, "--recipe", "x", "--to", tmp_path / "o", code=2)["what"]
    assert "cannot be written" in problem_of("offload", drone, "--to", read_only_disk, code=1)["what"]
    assert "free; this card needs" in problem_of("offload", camcorder, "--to", small_disk, code=1)["what"]
    copy = tmp_path / "card"
    shutil.copytree(drone, copy)
    before = snapshot(copy)
    assert "inside the card" in problem_of("offload", copy, "--to", copy / "DCIM", code=2)["what"]
    assert "no digest called" in problem_of("offload", copy, "--to", tmp_path / "a", "--digest", "crc", code=2)["what"]
    assert (
        "holds the originals"
        in problem_of("rewrap", copy / "DCIM/100DRONE/DRON0001.MP4", "--to", copy / "DCIM/100DRONE", code=2)["what"]
    )
    assert "no manifest" in problem_of("verify", tmp_path / "papers", code=1)["what"]
    assert snapshot(copy) == before
    assert not (tmp_path / "o").exists()


def test_an_incomplete_card_is_copied_all_the_same_and_named(camcorder: Path, tmp_path: Path) -> None:
    card = tmp_path / "card"
    shutil.copytree(camcorder, card)
    (card / "PRIVATE/AVCHD/BDMV/CLIPINF/00002.CPI").unlink()
    told = document("offload", card, "--to", tmp_path / "a", code=1)
    assert isinstance(told, dict)
    assert told["copies"][0]["status"] == "proven"
    assert told["problems"][0]["what"] == "00002.MTS has no clip information."
    assert "00002.MTS has no clip information." in Path(told["waybill"]).read_text()


def test_two_cards_of_one_camera_on_one_day(drone: Path, tmp_path: Path) -> None:
    other = tmp_path / "two" / "Drone"
    shutil.copytree(drone, other)
    (other / "DCIM/100DRONE/DRON0001.MP4").write_bytes((drone / "DCIM/100DRONE/DRON0002.MP4").read_bytes())
    roots = []
    for card in (drone, other):
        told = document("offload", card, "--to", tmp_path / "a", "--shoot", "S")
        assert isinstance(told, dict)
        roots.append(Path(told["copies"][0]["root"]))
    assert [root.name for root in roots] == ["card-001", "card-002"]
    assert roots[0].parent == roots[1].parent


def test_words_without_json_go_to_standard_error(drone: Path) -> None:
    done = diadoche("look", drone)
    assert done.stdout == ""
    assert "DRON0001" in done.stderr


def test_a_full_disk_in_the_middle_of_a_conversion_leaves_nothing(drone: Path, small_disk: Path) -> None:
    done = diadoche("rewrap", drone / "DCIM/100DRONE/DRON0001.MP4", "--to", small_disk, "--json")
    assert done.returncode == 1
    assert "free" in json.loads(done.stdout)[0]["problems"][0]["what"]
    assert not [path for path in small_disk.rglob("*") if path.is_file()]


def test_a_clip_that_cannot_be_opened_is_named_once(drone: Path, tmp_path: Path) -> None:
    card = tmp_path / "card"
    shutil.copytree(drone, card)
    (card / "DCIM/100DRONE/DRON0009.MP4").write_bytes(bytes(100_000))
    done = diadoche("offload", card, "--to", tmp_path / "a", "--shoot", "Rock")
    assert done.returncode == 1
    assert done.stderr.count("! DRON0009.MP4") == 1
    (page,) = (tmp_path / "a/Rock/Waybills").glob("*.html")
    assert page.read_text().count("DRON0009.MP4 cannot") == 1
