"""Sound that is not two channels of 16 bits beside every picture: all of it comes along, or what does not is said."""

from __future__ import annotations

from pathlib import Path

import numpy as np
import pytest

from diadoche.core.convert.outputs import Output
from diadoche.core.convert.recipes import recipes
from diadoche.core.convert.rewrap import rewrap
from diadoche.core.errors import RequestError
from diadoche.core.identify.probe import identify
from diadoche.core.watch import Watch
from diadoche.services.jobs.make_output import MakeRequest, perform_make
from tests.outside.numbered import ffmpeg, film
from tests.outside.public_tools import ffprobe


def made(path: Path, seconds: float, sound: str, *options: str) -> Path:
    """A film with sound by an expression of FFmpeg's `aevalsrc`, or a whole source."""
    ffmpeg("-f", "lavfi", "-i", "testsrc2=s=160x120:r=25:d=1", "-f", "lavfi", "-i", f"{sound}:d={seconds}",
           "-c:v", "libx264", "-bf", "0", *options, path)  # fmt: skip
    return path


def converted(source: Path, recipe: str, folder: Path) -> Output:
    output = perform_make(MakeRequest((source,), recipes()[recipe], folder), Watch())
    assert output.output, output.problems
    return output


def samples(path: Path | str, kind: str = "s32le", channels: int = 1) -> np.ndarray:
    data = ffmpeg("-i", Path(path), "-map", "0:a:0", "-f", kind, "-")
    return np.frombuffer(data, {"s32le": "<i4", "s16le": "<i2", "f32le": "<f4"}[kind]).reshape(-1, channels)


@pytest.mark.parametrize(("layout", "channels", "recipe"), [
    ("6.1", 7, "prores-422"), ("7.1", 8, "prores-422"), ("7.1", 8, "review-h264"), ("hexadecagonal", 16, "prores-422"),
])  # fmt: skip
def test_many_channels_come_out_as_they_went_in(tmp_path: Path, layout: str, channels: int, recipe: str) -> None:
    # Each channel has a tone of its own, low enough for the one of low frequencies; eight planes have no null behind.
    tones = "|".join(f"0.3*sin(2*PI*{40 + 10 * number}*t)" for number in range(channels))
    coding = ("-c:a", "aac", "-b:a", "512k") if channels <= 8 else ("-c:a", "pcm_s24le")
    source = made(tmp_path / "in.mov", 1, f"aevalsrc={tones}:c={layout}:s=48000", *coding)
    output = converted(source, recipe, tmp_path / "out")
    before, after = (samples(each, "f32le", channels)[4800:43_200] for each in (source, output.output))
    for number in range(channels):
        heard = [np.argmax(np.abs(np.fft.rfft(each[:, number]))) * 48_000 / 38_400 for each in (before, after)]
        assert heard == pytest.approx([40 + 10 * number] * 2, abs=2), number


@pytest.mark.parametrize("more", [1, 8, 23, 500])
def test_the_last_samples_of_coded_sound_are_heard(tmp_path: Path, more: int) -> None:
    # So many begin a packet of their own, which ends less than half a millisecond later.
    count = 47 * 1024 + more
    source = made(tmp_path / "in.mov", count / 48_000, "aevalsrc=0.5*sin(2000*t):s=48000", "-c:a", "pcm_s16le")
    assert len(samples(source)) == count
    output = converted(source, "review-h264", tmp_path / "out")
    assert len(samples(output.output)) >= count
    again = rewrap([Path(output.output)], identify([Path(output.output)]), tmp_path / "again", Watch())
    assert len(samples(again.output)) >= count


def test_all_32_bits_of_whole_numbers_are_kept_or_refused(tmp_path: Path) -> None:
    noise = np.random.default_rng(5).integers(-(2**31), 2**31, 48_000, np.int64).astype("<i4")
    (tmp_path / "noise.s32").write_bytes(noise.tobytes())
    source = tmp_path / "in.mov"
    ffmpeg("-f", "lavfi", "-i", "testsrc2=s=160x120:r=25:d=1", "-f", "s32le", "-ar", "48000", "-ac", "1", "-i", tmp_path / "noise.s32",
           "-c:v", "libx264", "-c:a", "pcm_s32le", source)  # fmt: skip
    for recipe in ("prores-422", "ffv1"):
        output = converted(source, recipe, tmp_path / recipe)
        assert np.array_equal(samples(output.output)[:, 0], noise), recipe
    with pytest.raises(RequestError, match="up to 24 bits; sound track 1 has 32"):
        perform_make(MakeRequest((source,), recipes()["prores-422-hq-mxf"], tmp_path / "mxf"), Watch())


@pytest.mark.parametrize(("sound", "coding", "words"), [
    ("sine=440:r=44100", "pcm_s16le", "of 48,000 samples a second alone; sound track 1 has 44,100"),
    ("sine=440:r=48000", "pcm_f32le", "in whole numbers alone; sound track 1 has floating ones"),
])  # fmt: skip
def test_what_mxf_does_not_take_is_named_before_anything_is_written(
    tmp_path: Path, sound: str, coding: str, words: str
) -> None:
    source = made(tmp_path / "in.mov", 1, sound, "-c:a", coding)
    with pytest.raises(RequestError, match=words):
        perform_make(MakeRequest((source,), recipes()["prores-422-hq-mxf"], tmp_path / "out"), Watch())
    assert not (tmp_path / "out").exists() or not list((tmp_path / "out").iterdir())


@pytest.mark.parametrize("coding", ["aac", "pcm_s16le", "ac3"])
def test_sound_before_the_first_picture_is_told(tmp_path: Path, coding: str) -> None:
    plain = made(tmp_path / "plain.mov", 1, "sine=440:r=48000", "-c:a", coding)
    early = tmp_path / "early.mov"
    ffmpeg("-itsoffset", "0.4", "-i", plain, "-i", plain, "-map", "0:v", "-map", "1:a", "-c", "copy", early)
    for source, is_early in ((plain, False), (early, True)):
        for way in ("mov", "prores-422"):
            folder = tmp_path / source.stem / way
            if way == "mov":
                output = rewrap([source], identify([source]), folder, Watch())
                then = "begins with the picture" if coding == "pcm_s16le" else "it is there, and not played"
            else:
                output, then = converted(source, way, folder), "begins with the picture"
            told = [each.what for each in output.problems if "before the first picture" in each.what]
            assert len(told) == is_early, (source, way, output.problems)
            assert all(("begins 0.40 s" in each or "begins 0.41 s" in each) and then in each for each in told)
            assert abs(float(ffprobe(Path(output.output))["streams"][0].get("start_time", 0))) < 0.001


def test_a_further_picture_track_is_told(tmp_path: Path) -> None:
    one = made(tmp_path / "one.mov", 1, "sine=440:r=48000")
    both = tmp_path / "both.mov"
    ffmpeg("-i", one, "-i", one, "-map", "0", "-map", "1:v", "-c", "copy", both)
    told = [each.what for each in converted(both, "prores-422", tmp_path / "out").problems]
    assert any("1 further picture track of the original" in each for each in told)
    again = rewrap([both], identify([both]), tmp_path / "again", Watch())
    assert [each["codec_type"] for each in ffprobe(Path(again.output))["streams"]].count("video") == 2


@pytest.mark.parametrize(("ending", "coding"), [("avi", "mp3"), ("mpg", "mp2"), ("mp4", "aac"), ("mkv", "flac")])
def test_a_part_begins_with_the_sound_that_is_heard_there(tmp_path: Path, ending: str, coding: str) -> None:
    # Its first frame of sound begins before the part, by up to a frame: 24 ms of MP3.
    source = film(tmp_path / f"in.{ending}", range(80), "25", "-c:v", "mpeg2video" if ending == "mpg" else "libx264",
                  "-bf", "0", "-c:a", coding)  # fmt: skip

    def heard(first: int, end: int) -> float:
        """Where the beep at two seconds lies, from the first picture of the clip."""
        marks = (str(first), str(end))
        made = perform_make(
            MakeRequest((source,), recipes()["prores-422"], tmp_path / f"{first}", marks=marks), Watch()
        )
        wave = samples(made.output, "f32le")[:, 0].astype(float)
        begin = round((2 - first / 25) * 48_000) - 2400
        power = wave[begin : begin + 9600] ** 2
        assert power.sum() > 1
        return float(np.average(np.arange(begin, begin + power.size), weights=power)) / 48_000 + first / 25

    assert [heard(first, 60) for first in (24, 37, 44)] == pytest.approx([heard(0, 60)] * 3, abs=0.0005)
