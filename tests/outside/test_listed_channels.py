"""Sound whose channels are listed one by one: each sample stays, and what each channel is, is told or said to be lost."""

from __future__ import annotations

import json
import struct
from pathlib import Path

import numpy as np
import pytest

from tests.conftest import diadoche
from tests.outside.numbered import ffmpeg
from tests.outside.sound_entry import with_sound_box

# Right, left, centre, and a channel at the top: layout tag 0 lists labels [QTFF, channel layouts; labels from memory].
LISTED = bytes(12) + struct.pack(">I", 4) + b"".join(struct.pack(">II3f", label, 0, 0, 0, 0) for label in (2, 1, 3, 12))
SECONDS, RATE_HZ, CHANNELS = 1, 48_000, 4

pytestmark = pytest.mark.usefixtures("own_state")


def heard(path: Path) -> bytes:
    """Every sample of 24 bits, by the distribution's FFmpeg."""
    return ffmpeg("-i", path, "-map", "0:a", "-f", "s24le", "-")


@pytest.fixture
def film(tmp_path: Path) -> Path:
    """A film with noise of 24 bits in four channels."""
    noise = tmp_path / "noise.s24"
    values = np.random.default_rng(3).integers(-(2**23), 2**23, SECONDS * RATE_HZ * CHANNELS)
    noise.write_bytes(values.astype("<i4").tobytes())
    bare = tmp_path / "bare.mov"
    ffmpeg(
        "-f", "lavfi", "-i", f"testsrc=s=320x240:r=25:d={SECONDS}", "-f", "s32le", "-ar", str(RATE_HZ), "-ac", "4",
        "-i", noise, "-map", "0:v", "-map", "1:a", "-c:v", "libx264", "-af", "volume=256", "-c:a", "pcm_s24le", bare,
    )  # fmt: skip
    return with_sound_box(bare, "chan", LISTED)


def made(film: Path, tmp_path: Path, *words: str) -> tuple[Path, str]:
    """An output of a film, and what is said of it."""
    done = diadoche(words[0], film, "--to", tmp_path / "out", *words[1:], "--json")
    (told,) = json.loads(done.stdout)
    assert told["output"], (told, done.stderr)
    assert all(told["checks"].values())
    return Path(told["output"]), " ".join(problem["what"] for problem in told["problems"])


@pytest.mark.parametrize(
    "words", [("rewrap",), ("convert", "--recipe", "prores-422"), ("convert", "--recipe", "vc3-hq")]
)
def test_the_list_comes_along_to_the_byte(film: Path, tmp_path: Path, words: tuple[str, ...]) -> None:
    path, said = made(film, tmp_path, *words)
    assert path.read_bytes().count(LISTED) == 1
    assert path.read_bytes().count(b"chan") == 1
    assert "does not say what each" not in said
    assert heard(path) == heard(film)


@pytest.mark.parametrize(
    "words",
    [("rewrap", "--container", "mkv"), ("convert", "--recipe", "ffv1"), ("convert", "--recipe", "prores-422-hq-mxf")],
)
def test_where_no_list_is_held_that_is_said(film: Path, tmp_path: Path, words: tuple[str, ...]) -> None:
    path, said = made(film, tmp_path, *words)
    assert "The channels of sound track 1 are 4 channels (FR+FL+FC+TC) in the original" in said
    assert "does not say what each of them is" in said
    assert heard(path) == heard(film)


@pytest.mark.parametrize("words", [("rewrap", "--container", "mp4"), ("convert", "--recipe", "review-h264")])
def test_channels_without_a_name_go_into_mp4_to_the_bit(film: Path, tmp_path: Path, words: tuple[str, ...]) -> None:
    """Plain PCM is refused by the muxer there; the lossless coder took 16 of 24 bits, and the output was withheld."""
    path, _said = made(film, tmp_path, *words)
    sound = json.loads(diadoche("identify", path, "--json").stdout)[0]["audio"][0]
    assert (sound["codec"], sound["channels"], sound["bit_depth"]) == ("flac", CHANNELS, 24)
    assert heard(path) == heard(film)


def named(path: Path, layout: str) -> Path:
    """A film whose sound has a layout with a name, by the distribution's FFmpeg."""
    ffmpeg(
        "-f", "lavfi", "-i", f"testsrc=s=320x240:r=25:d={SECONDS}", "-f", "lavfi", "-i",
        f"anoisesrc=d={SECONDS}:r={RATE_HZ}", "-map", "0:v", "-map", "1:a", "-af", f"aformat=channel_layouts={layout}",
        "-c:v", "libx264", "-c:a", "pcm_s24le", path,
    )  # fmt: skip
    return path


def told_by(path: Path) -> str:
    """The layout that a reader finds."""
    return str(json.loads(diadoche("identify", path, "--json").stdout)[0]["audio"][0]["layout"])


@pytest.mark.parametrize("layout", ["2.1", "3.1", "7.0", "7.1(wide)"])
def test_channels_are_not_called_others_for_their_number(tmp_path: Path, layout: str) -> None:
    """The lossless coder of MP4 takes three channels for left, right and centre, and so on [RFC9639, 9.1.3]."""
    source = named(tmp_path / "in.mov", layout)
    path, said = made(source, tmp_path, "convert", "--recipe", "review-h264")
    assert told_by(path) == told_by(source) == layout
    assert "channels of sound track" not in said


@pytest.mark.parametrize("layout", ["5.1", "6.1", "7.1"])
def test_what_a_container_does_not_tell_of_named_channels_is_said(tmp_path: Path, layout: str) -> None:
    source = named(tmp_path / "in.mov", layout)
    path, said = made(source, tmp_path, "rewrap")
    assert told_by(path) == told_by(source)
    assert "channels of sound track" not in said
    path, said = made(source, tmp_path, "rewrap", "--container", "mkv")
    assert f"The channels of sound track 1 are {told_by(source)} in the original" in said
    assert heard(path) == heard(source)


@pytest.mark.parametrize("payload", [b"", bytes(11), bytes(15), b"\xff" * 19])
def test_a_list_that_makes_no_sense_stops_nothing(tmp_path: Path, payload: bytes) -> None:
    source = with_sound_box(named(tmp_path / "in.mov", "quad"), "chan", payload)
    for words in (("rewrap",), ("convert", "--recipe", "prores-422")):
        path, _said = made(source, tmp_path, *words)
        assert heard(path) == heard(source)
