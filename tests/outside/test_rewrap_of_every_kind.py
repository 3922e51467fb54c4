"""Rewraps of other kinds than AVCHD, and sound in files of its own: packets and samples by `ffmpeg`'s digests."""

from __future__ import annotations

import json
import subprocess
from fractions import Fraction
from functools import cache
from pathlib import Path

import av
import pytest

from diadoche.core.convert.proof import TrackDigest
from diadoche.core.convert.recipes import Recipe, recipes
from diadoche.core.identify.probe import identify, with_sounds
from diadoche.core.run import Picture, Run
from diadoche.core.watch import Watch
from diadoche.services.jobs.make_output import MakeRequest, clips_from, perform_make
from diadoche.services.side_processes.parser import Parser
from tests.conftest import diadoche
from tests.outside.public_tools import ffprobe, picture_digests
from tests.outside.test_every_container import ffmpeg

pytestmark = pytest.mark.usefixtures("own_state")


def digest(path: Path, track: str, *options: str) -> str:
    """MD5 of a track's packets (copied) or samples, by `ffmpeg`."""
    words = ["ffmpeg", "-v", "error", "-i", str(path), "-map", track, *options, "-f", "md5", "-"]
    return subprocess.run(words, capture_output=True, text=True, check=True).stdout


@cache
def pictures_of(source: Path) -> list[str]:
    """The digests of an original's pictures: it is put into several containers."""
    return picture_digests(str(source))


# Matroska has no name for DV; see below.
USUAL = [("Mast", "mov"), ("Harbour", "mkv"), ("Pier", "mov"), ("Quay", "mkv"), ("Archive tapes", "mov")]
OTHERS = [("Mast", "mkv"), ("Harbour", "mov"), ("Pier", "mkv"), ("Quay", "mov")]


@pytest.mark.parametrize(
    ("card", "container"), [*USUAL, *(pytest.param(*each, marks=pytest.mark.long) for each in OTHERS)]
)
def test_each_clip_keeps_its_packets(demo_cards: dict[str, Path], tmp_path: Path, card: str, container: str) -> None:
    done = diadoche("rewrap", demo_cards[card], "--to", tmp_path, "--container", container, "--json")
    assert done.returncode == 0, done.stderr
    for output in json.loads(done.stdout):
        source, made = Path(output["source"][0]), Path(output["output"])
        assert output["packets_identical"]
        assert pictures_of(source) == picture_digests(str(made))
        (sound,) = (stream for stream in ffprobe(made)["streams"] if stream["codec_type"] == "audio")
        # Plain PCM is cut into other packets; its samples are what counts. Others are compared as they are stored.
        how = ("-c", "pcm_s16le") if sound["codec_name"].startswith("pcm_") else ("-c", "copy")
        assert digest(source, "0:a:0", *how) == digest(made, "0:a:0", *how)


def test_what_a_container_cannot_hold_is_named(demo_cards: dict[str, Path], tmp_path: Path) -> None:
    tape = next(demo_cards["Archive tapes"].glob("*.AVI"))
    done = diadoche("rewrap", tape, "--to", tmp_path, "--container", "mkv", "--json")
    assert done.returncode == 1
    assert "DV cannot be put into MKV" in json.loads(done.stdout)[0]["problems"][0]["what"]
    assert list(tmp_path.glob("*.mkv*")) == []


@pytest.fixture(scope="module")
def picture(tmp_path_factory: pytest.TempPathFactory) -> Path:
    path = tmp_path_factory.mktemp("picture") / "picture.mkv"
    ffmpeg("-f", "lavfi", "-i", "testsrc2=s=320x180:r=25:d=1", "-c:v", "mpeg2video", path)
    return path


def test_pictures_of_avi_are_shown_by_their_number_whatever_their_decoders_delay(picture: Path, tmp_path: Path) -> None:
    path = tmp_path / "numbered.avi"
    ffmpeg("-i", picture, "-c", "copy", path)
    times_s = [unit.time_s for unit in Run([path], Fraction(25)).units() if isinstance(unit, Picture)]
    assert times_s == [Fraction(number, 25) for number in range(25)]


@pytest.mark.parametrize(
    ("sound", "source", "target", "becomes"),
    [
        ("flac", "mkv", "mov", "pcm_s16le"),
        ("libopus", "mkv", "mov", "pcm_s24le"),
        ("libopus", "mkv", "mp4", "opus"),
        ("flac", "mkv", "mp4", "flac"),
        # AVI names no places for its channels.
        ("pcm_s16le", "avi", "mp4", "pcm_s16le"),
        ("pcm_s16be", "mov", "mkv", "pcm_s16be"),
    ],
)
def test_sound_that_a_container_cannot_hold_becomes_plain_pcm(
    picture: Path, tmp_path: Path, sound: str, source: str, target: str, becomes: str
) -> None:
    path = tmp_path / f"source.{source}"
    ffmpeg("-i", picture, "-f", "lavfi", "-i", "sine=r=48000:d=1", "-ac", "2", "-c:v", "copy", "-c:a", sound, path)
    output = perform_make(MakeRequest((path,), target, tmp_path / "out"), Watch())
    assert output.output, output.problems
    with av.open(output.output) as media:
        assert media.streams.audio[0].codec_context.codec.canonical_name == becomes
    if sound == "flac" or sound.startswith("pcm_"):
        with av.open(str(path)) as before, av.open(output.output) as after:
            one, other = ([frame.to_ndarray().tobytes() for frame in each.decode(audio=0)] for each in (before, after))
        assert b"".join(one) == b"".join(other)


@pytest.mark.parametrize(
    ("codec", "source", "target", "words"),
    [
        ("libvpx-vp9", "webm", "mov", "MOV does not take what it would hold"),
        ("mjpeg", "mpg", "mov", "a codec that nothing here knows"),
    ],
)
def test_pictures_that_a_container_cannot_hold_are_named(
    tmp_path: Path, codec: str, source: str, target: str, words: str
) -> None:
    path = tmp_path / f"source.{source}"
    ffmpeg("-f", "lavfi", "-i", "testsrc2=s=320x180:r=25:d=1", "-c:v", codec, path)
    output = perform_make(MakeRequest((path,), target, tmp_path / "out"), Watch())
    assert output.output == ""
    assert words in output.problems[0].what
    assert "source" in output.problems[0].what
    assert list((tmp_path / "out").iterdir()) == []


def test_av1_is_the_same_with_and_without_delimiters(tmp_path: Path) -> None:
    path = tmp_path / "source.avi"
    ffmpeg("-f", "lavfi", "-i", "testsrc2=s=320x180:r=25:d=0.5", "-c:v", "libaom-av1", "-cpu-used", "8", path)
    output = perform_make(MakeRequest((path,), "mkv", tmp_path / "out"), Watch())
    assert output.packets_identical
    assert picture_digests(str(path)) == picture_digests(output.output)
    one, other = TrackDigest("av1", None), TrackDigest("av1", None)
    one.take(bytes.fromhex("1200 0a020101 3201aa"))
    other.take(bytes.fromhex("0a020101 3201ab"))
    assert one.value() != other.value()


@pytest.mark.parametrize("recipe", ["mov", recipes()["prores-422"]], ids=["rewrap", "convert"])
def test_sound_in_files_of_its_own_comes_along(
    demo_cards: dict[str, Path], tmp_path: Path, recipe: Recipe | str
) -> None:
    (clip,) = clips_from([demo_cards["Shore"]], None, Watch())
    assert len(clip.sounds) == 2
    output = perform_make(MakeRequest(clip.paths, recipe, tmp_path, sounds=clip.sounds), Watch())
    assert output.output, output.problems
    assert output.checks is not None
    assert output.checks.passed
    assert len(output.source) == 3
    made = Path(output.output)
    kinds = [stream["codec_type"] for stream in ffprobe(made)["streams"]]
    assert kinds.count("audio") == 2
    for number, sound in enumerate(clip.sounds):
        assert digest(sound, "0:a:0") == digest(made, f"0:a:{number}")


def test_a_mute_picture_has_the_sound_beside_it_and_no_other_does(demo_cards: dict[str, Path]) -> None:
    (clip,) = clips_from([demo_cards["Shore"]], None, Watch())
    with Parser() as parser:
        facts = parser.facts(clip.paths, "headers", sounds=clip.sounds)
    assert (len(facts.audio), facts.sound_apart) == (2, True)
    assert facts.audio == with_sounds(identify(clip.paths, "headers"), clip.sounds).audio
    (other, *_) = clips_from([demo_cards["Mast"]], None, Watch())
    heard = with_sounds(identify(other.paths, "headers"), clip.sounds)
    assert (len(heard.audio), heard.sound_apart) == (len(identify(other.paths, "headers").audio), False)
    # A sound file without sound adds nothing.
    assert with_sounds(identify(clip.paths, "headers"), clip.paths).audio == ()


def test_plain_pcm_is_one_run_however_it_is_cut() -> None:
    one, other, changed = (TrackDigest("pcm_s16le", None) for _ in range(3))
    one.take(b"abcdef")
    other.take(b"ab")
    other.take(b"cdef")
    changed.take(b"abcdeg")
    assert one.value() == other.value() != changed.value()
