"""Joins at which every span has a clock of its own, and sound of which nothing may be lost at twenty joins."""

from __future__ import annotations

import subprocess
from fractions import Fraction
from pathlib import Path

import numpy as np
import pytest

from diadoche.core.convert.formats import PictureFormat
from diadoche.core.convert.recipes import recipes
from diadoche.core.convert.rewrap import rewrap
from diadoche.core.convert.sources import FileSource
from diadoche.core.convert.transcode import Marks, convert
from diadoche.core.errors import RequestError
from diadoche.core.identify.probe import identify
from diadoche.core.spans import parts, runs_on
from diadoche.core.watch import Watch
from tests.outside.avchd_by_hand import HEIGHT, WIDTH, raw_pictures, read_field
from tests.outside.public_tools import ffprobe, luma_pictures


def span(path: Path, first: int, frames: int, ending: str, rate: str = "25") -> Path:
    """A file of its own whose pictures go on counting; its clock begins anew."""
    target = path.with_suffix(f".{ending}")
    more = ["-f", "mpegts", "-mpegts_m2ts_mode", "1"] if ending == "mts" else []
    subprocess.run(
        ["ffmpeg", "-v", "error", "-y", "-f", "rawvideo", "-pix_fmt", "yuv420p", "-s", f"{WIDTH}x{HEIGHT}", "-r", rate, "-i", "-",
         "-f", "lavfi", "-t", f"{float(frames / Fraction(rate)):f}", "-i", "sine=frequency=440:sample_rate=48000", "-c:v", "libx264",
         "-crf", "14", "-bf", "2", "-c:a", "aac" if ending == "mp4" else "ac3", "-ac", "2", *more, str(target)],
        input=raw_pictures(frames, first, interlaced=False), check=True,
    )  # fmt: skip
    return target


def numbers(path: Path) -> list[int]:
    return [read_field(picture[0::2]) for picture in luma_pictures(path, WIDTH, HEIGHT)]


@pytest.mark.parametrize(("ending", "rate"), [("mp4", "30000/1001"), ("mts", "25")])
def test_spans_with_clocks_of_their_own_are_joined_without_loss(tmp_path: Path, ending: str, rate: str) -> None:
    spans = [span(tmp_path / f"{place}", place * 30, 30, ending, rate) for place in range(3)]
    assert len(parts(spans)) == 3
    output = rewrap(spans, identify(spans[:1]), tmp_path / "out", Watch())
    assert output.packets_identical
    # Not every picture was decoded twice, and nobody says so; those at the joins were.
    assert output.pictures_identical is None
    assert output.output, output.problems
    assert numbers(Path(output.output)) == list(range(90))
    video = ffprobe(Path(output.output))["streams"][0]
    assert Fraction(video["avg_frame_rate"]) == Fraction(rate)


def test_twenty_joins_lose_and_repeat_nothing_and_sound_does_not_drift(tmp_path: Path) -> None:
    spans = [span(tmp_path / f"{place:02}", place * 12, 12, "mts") for place in range(21)]
    output = rewrap(spans, identify(spans[:1]), tmp_path / "out", Watch())
    assert output.output, output.problems
    assert numbers(Path(output.output)) == list(range(21 * 12))
    said = ffprobe(Path(output.output))["streams"]
    picture_s, sound_s = (
        float(next(each for each in said if each["codec_type"] == kind)["duration"]) for kind in ("video", "audio")
    )
    # An AC-3 frame lasts 32 ms; a span's sound ends up to one frame after its picture.
    assert abs(picture_s - 21 * 12 / 25) < 0.001
    assert abs(sound_s - picture_s) < 0.064


def test_joined_spans_are_one_source_for_a_conversion(tmp_path: Path) -> None:
    spans = [span(tmp_path / f"{place}", place * 20, 20, "mp4") for place in range(2)]
    facts = identify(spans[:1])
    whole = type(facts)(**{name: getattr(facts, name) for name in facts.__slots__} | {"frames": 40, "duration_s": 1.6})
    output = convert(FileSource(spans, whole), recipes()["h264-intra"], tmp_path / "out", Watch())
    assert output.output, output.problems
    assert numbers(Path(output.output)) == list(range(40))


def test_one_stream_cut_anywhere_runs_on_and_two_streams_do_not(tmp_path: Path) -> None:
    whole = span(tmp_path / "whole", 0, 60, "mts")
    other = span(tmp_path / "other", 60, 30, "mts")
    data = whole.read_bytes()
    cut = len(data) // 192 // 2 * 192 + 192 * 7
    (tmp_path / "a.mts").write_bytes(data[:cut])
    (tmp_path / "b.mts").write_bytes(data[cut:])
    assert runs_on(tmp_path / "a.mts", tmp_path / "b.mts")
    assert not runs_on(whole, other)
    assert not runs_on(whole, tmp_path / "a.mts")
    assert parts([tmp_path / "a.mts", tmp_path / "b.mts"]) == [(tmp_path / "a.mts", tmp_path / "b.mts")]


def test_marks_by_timecode_and_nonsense_marks(tmp_path: Path) -> None:
    source = span(tmp_path / "x", 0, 30, "mp4")
    video = PictureFormat.of(identify([source]))
    assert Marks.parse("5", "9", video) == Marks(5, 9)
    assert Marks.parse("00:00:01:00", "00:00:01:03", video) == Marks(25, 28)
    for begin, end in (("9", "5"), ("x", "y"), ("00:00:99:00", "3")):
        with pytest.raises(RequestError, match="no part"):
            Marks.parse(begin, end, video)


def test_pictures_at_joins_decode_to_the_same_samples(tmp_path: Path) -> None:
    spans = [span(tmp_path / f"{place}", place * 24, 24, "mp4") for place in range(2)]
    output = rewrap(spans, identify(spans[:1]), tmp_path / "out", Watch())
    joined = luma_pictures(Path(output.output), WIDTH, HEIGHT)
    apart = np.concatenate([luma_pictures(each, WIDTH, HEIGHT) for each in spans])
    assert np.array_equal(joined, apart)


def test_every_picture_is_compared_when_asked(tmp_path: Path) -> None:
    spans = [span(tmp_path / f"{place}", place * 30, 30, "mp4") for place in range(2)]
    output = rewrap(spans, identify(spans[:1]), tmp_path / "out", Watch(), every_picture=True)
    assert output.output, output.problems
    assert output.pictures_identical is True


def test_parts_of_two_makes_never_become_a_file_that_decodes_otherwise(tmp_path: Path) -> None:
    """The head of a boxed track has the first part's parameter sets: pictures of another make do not decode by them."""
    one = span(tmp_path / "1", 0, 30, "mp4")
    two = tmp_path / "2.mp4"
    subprocess.run(
        ["ffmpeg", "-v", "error", "-y", "-i", str(span(tmp_path / "other", 30, 30, "mp4")), "-c:v", "libx264", "-profile:v", "baseline", "-crf", "14",
         "-c:a", "copy", str(two)],
        check=True,
    )  # fmt: skip
    output = rewrap([one, two], identify([one]), tmp_path / "out", Watch())
    if output.output:
        assert numbers(Path(output.output)) == list(range(60))
    else:
        assert "failed its check" in output.problems[0].what
        assert list((tmp_path / "out").iterdir()) == []
