"""Ambisonic sound: its tag comes along, and a direction that was heard stays with what is seen there."""

from __future__ import annotations

import json
import struct
from fractions import Fraction
from pathlib import Path

import av
import numpy as np
import pytest

from diadoche.core.convert.kept_boxes import is_all_there, what_to_keep
from diadoche.core.sphere.ambisonics import is_first_order, turned
from diadoche.core.sphere.rotation import rotation
from diadoche.demo.ray_scene import RayScene
from tests.conftest import diadoche
from tests.outside.gallery import RATE, beside, drawn, encode, two_lenses
from tests.outside.numbered import ffmpeg
from tests.outside.sound_entry import with_sound_box

FIRST_ORDER = bytes(2) + struct.pack(">IBBI4I", 1, 0, 0, 4, 0, 1, 2, 3)

pytestmark = pytest.mark.usefixtures("own_state")


def heard_from(direction: np.ndarray, samples: np.ndarray) -> np.ndarray:
    """A plane wave from a direction (right, down, ahead) as W, Y, Z and X [closed form of the first order, SN3D]."""
    right, down, ahead = direction / np.linalg.norm(direction)
    return np.stack([samples, -right * samples, -down * samples, ahead * samples])


@pytest.mark.parametrize("kind", ["fltp", "s16", "s32p"])
def test_a_sound_turns_with_what_makes_it(kind: str) -> None:
    matrix = rotation(70, 20, -35)
    wave = 0.4 * np.sin(np.arange(480) / 7)
    scale = {"fltp": 1.0, "s16": 2.0**15, "s32p": 2.0**31}[kind]
    direction = np.array([0.4, -0.7, 0.3])
    channels = heard_from(direction, wave) * scale
    laid_out = channels.T.reshape(1, -1) if kind == "s16" else channels
    dtype = {"fltp": np.float32, "s16": np.int16, "s32p": np.int32}[kind]
    frame = av.AudioFrame.from_ndarray(np.ascontiguousarray(laid_out.astype(dtype)), format=kind, layout="quad")
    frame.sample_rate = 48_000
    found = turned(frame, matrix).to_ndarray()
    found = found.reshape(-1, 4).T if kind == "s16" else found
    assert np.abs(found / scale - heard_from(matrix @ direction, wave)).max() < 1e-4


def test_only_what_is_known_is_turned() -> None:
    assert is_first_order(FIRST_ORDER)
    assert not is_first_order(FIRST_ORDER[:-1])
    assert not is_first_order(bytes(2) + struct.pack(">IBBI4I", 1, 0, 0, 4, 0, 2, 1, 3))
    assert not is_first_order(bytes(2) + struct.pack(">IBBI9I", 2, 0, 0, 9, *range(9)))


def channels_of(path: Path | str) -> np.ndarray:
    raw = np.frombuffer(ffmpeg("-i", path, "-map", "0:a", "-f", "s16le", "-"), np.int16)
    found: np.ndarray = raw.reshape(-1, 4).T.astype(float)
    return found


@pytest.fixture
def film(tmp_path: Path) -> Path:
    """Two lenses, and a tone that comes from the right."""
    bare = encode(tmp_path / "bare.mov", [beside(*(drawn(lens, RayScene(3), 3) for lens in two_lenses(240)))])
    tone = heard_from(np.array([1.0, 0, 0]), 8000 * np.sin(np.arange(48_000 * 3 // RATE) / 9))
    sound = tmp_path / "tone.s16"
    sound.write_bytes(tone.T.astype("<i2").tobytes())
    told = tmp_path / "told.mov"
    ffmpeg(
        "-i", bare, "-f", "s16le", "-ar", "48000", "-ac", "4", "-channel_layout", "quad", "-i", sound,
        "-map", "0:v", "-map", "1:a", "-c", "copy", told,
    )  # fmt: skip
    return with_sound_box(told, "SA3D", FIRST_ORDER)


def test_it_is_kept_and_turned_with_the_picture(film: Path, tmp_path: Path) -> None:
    words = ["--size", "480x240", "--json"]
    plain, right = (
        Path(
            json.loads(diadoche("stitch", film, "--to", tmp_path / "out" / f"{n}.mov", *words, *more).stdout)["output"]
        )
        for n, more in (("plain", []), ("right", ["--centre", "90,0,0"]))
    )
    for path in (plain, right):
        assert path.read_bytes().count(b"SA3D") == 1
        assert FIRST_ORDER in path.read_bytes()
    before, after = channels_of(plain), channels_of(right)
    assert np.array_equal(before, channels_of(film))
    # What came from the right comes from ahead now: from minus Y it went to X.
    assert np.abs(after[3] + before[1]).max() <= 1
    assert np.abs(after[1]).max() <= 1
    assert np.array_equal(after[0], before[0])
    again = json.loads(diadoche("rewrap", film, "--to", tmp_path / "again", "--json").stdout)[0]["output"]
    assert FIRST_ORDER in Path(again).read_bytes()


def test_a_kind_that_is_not_turned_is_named(film: Path, tmp_path: Path) -> None:
    # Another order of channels than the usual one.
    strange = bytes(2) + struct.pack(">IBBI4I", 1, 1, 0, 4, 0, 1, 2, 3)
    film.write_bytes(film.read_bytes().replace(FIRST_ORDER, strange))
    done = diadoche(
        "stitch", film, "--to", tmp_path / "out" / "s.mov", "--size", "480x240", "--centre", "90,0,0", "--json"
    )
    assert done.returncode == 1
    assert "is of a kind that is not turned here" in json.loads(done.stdout)["problems"][0]["what"]


def test_channels_that_are_listed_one_by_one_are_identified(film: Path) -> None:
    """The media library's binding frees what is not its own there: the process died of looking at such a file."""
    listed = bytes(2) + struct.pack(">IBBI4I", 1, 0, 0, 4, 0, 2, 1, 3)
    film.write_bytes(film.read_bytes().replace(FIRST_ORDER, listed))
    done = diadoche("identify", film, "--json")
    assert done.returncode in {0, 1}, done.stderr
    assert '"channels": 4' in done.stdout


@pytest.mark.parametrize(
    ("words", "is_told"),
    [
        (["convert", "--recipe", "prores-422"], True),
        (["convert", "--recipe", "review-h264"], True),
        (["rewrap"], True),
        (["rewrap", "--container", "mp4"], True),
        (["rewrap", "--container", "mkv"], False),
        (["convert", "--recipe", "ffv1"], False),
    ],
)
def test_what_its_channels_are_is_told_by_the_output_or_said_to_be_lost(
    film: Path, tmp_path: Path, words: list[str], is_told: bool
) -> None:
    (told,) = json.loads(diadoche(words[0], film, "--to", tmp_path / "out", *words[1:], "--json").stdout)
    assert told["output"], told
    said = " ".join(problem["what"] for problem in told["problems"])
    assert ("are ambisonic 1 in the original" in said) is not is_told
    read = json.loads(diadoche("identify", told["output"], "--json").stdout)[0]["audio"][0]
    assert (read["layout"] == "ambisonic 1") is is_told


@pytest.mark.parametrize("recipe", ["review-h264", "prores-422", "ffv1"])
def test_a_recipe_that_codes_sound_otherwise_is_not_withheld_for_it(film: Path, tmp_path: Path, recipe: str) -> None:
    done = diadoche("convert", film, "--to", tmp_path / "out", "--recipe", recipe, "--json")
    (told,) = json.loads(done.stdout)
    assert told["output"], told
    assert told["checks"] == dict.fromkeys(told["checks"], True)


def test_a_tag_that_is_missing_or_another_one_is_seen(film: Path, tmp_path: Path) -> None:
    kept = what_to_keep([film], [Fraction(0)])
    assert kept.ambisonic == (FIRST_ORDER,)
    assert is_all_there(film, kept)
    assert not is_all_there(tmp_path / "told.mov", kept)
    # One channel cannot be of the first order: nothing is wanted there. Where nothing is heard, neither.
    assert is_all_there(tmp_path / "bare.mov", kept)
    mute = tmp_path / "mute.mov"
    ffmpeg("-i", film, "-map", "0:v", "-c", "copy", mute)
    assert is_all_there(mute, kept)
