"""Fields become whole pictures: every number is where it was, at the rate it was recorded, and film comes off its clock."""

from __future__ import annotations

from fractions import Fraction
from pathlib import Path

import numpy as np
import pytest

from diadoche.core.convert.outputs import Output
from diadoche.core.convert.recipes import Changes, ScanChange, recipes
from diadoche.core.identify.probe import identify
from diadoche.core.watch import Watch
from diadoche.services.jobs.make_output import MakeRequest, perform_make
from tests.outside.numbered import HEIGHT, WIDTH, click_times, ffmpeg, film, numbers_of, picture, times_of
from tests.outside.public_tools import ffprobe, luma_pictures

INTERLACED = ("-c:v", "libx264", "-crf", "10", "-g", "15", "-bf", "2", "-pix_fmt", "yuv420p", "-c:a", "pcm_s16le")


def make(source: Path, folder: Path, scan: ScanChange, recipe: str = "prores-422", **more: object) -> Output:
    request = MakeRequest((source,), recipes()[recipe], folder, changes=Changes(scan=scan), **more)  # type: ignore[arg-type]
    output = perform_make(request, Watch())
    assert output.output, output.problems
    assert output.checks is not None
    assert output.checks.passed
    return output


def fields(path: Path, numbers: range, order: str = "top", rate: str = "50") -> Path:
    """A clip of fields, each with a number of its own, first field first; woven by FFmpeg."""
    whole = film(path.with_name("whole.mov"), numbers, rate, "-c:v", "ffv1", "-c:a", "pcm_s16le", gray=True)
    first = "interleave_top" if order == "top" else "interleave_bottom"
    flags = ("-flags", "+ildct+ilme", "-x264-params", f"{'tff' if order == 'top' else 'bff'}=1")
    ffmpeg("-i", whole, "-vf", f"tinterlace={first}", *INTERLACED, *flags, path)
    return path


@pytest.mark.parametrize("order", ["top", "bottom"])
def test_each_field_becomes_a_picture(tmp_path: Path, order: str) -> None:
    source = fields(tmp_path / "in.mov", range(200), order)
    video = identify([source], "counted").video[0]
    assert (video.scan, video.field_order, video.frame_rate) == ("interlaced", order, 25)
    output = Path(make(source, tmp_path / "out", "field").output)
    assert numbers_of(output, gray=True) == list(range(200))
    assert times_of(output) == pytest.approx([n / 50 for n in range(200)], abs=0.001)
    said = ffprobe(output)["streams"][0]
    assert (said["avg_frame_rate"], said.get("field_order", "progressive")) == ("50/1", "progressive")
    assert click_times(output) == pytest.approx([0, 1, 2, 3], abs=0.003)


def test_each_frame_becomes_a_picture(tmp_path: Path) -> None:
    source = fields(tmp_path / "in.mov", range(100))
    output = Path(make(source, tmp_path / "out", "frame").output)
    # Its own first field, at its own moment.
    assert numbers_of(output, gray=True) == list(range(0, 100, 2))
    assert ffprobe(output)["streams"][0]["avg_frame_rate"] == "25/1"


def test_marks_of_fields_are_marks_of_their_frames(tmp_path: Path) -> None:
    source = fields(tmp_path / "in.mov", range(200))
    output = Path(make(source, tmp_path / "out", "field", marks=("20", "45")).output)
    assert numbers_of(output, gray=True) == list(range(40, 90))


def test_what_is_progressive_stays_as_it_is(tmp_path: Path) -> None:
    source = film(tmp_path / "in.mov", range(60), "25", "-c:v", "ffv1", "-c:a", "pcm_s16le")
    kept, asked = (
        luma_pictures(Path(make(source, tmp_path / scan, scan, "ffv1").output), WIDTH, HEIGHT)
        for scan in ("keep", "field")
    )
    assert np.array_equal(kept, asked)


def test_in_a_mixed_clip_progressive_pictures_stay_to_the_sample(tmp_path: Path) -> None:
    # Two seconds of fields, then two of whole pictures with fine lines that interpolation would blur.
    woven = fields(tmp_path / "woven.mov", range(200))
    fields_raw = np.frombuffer(ffmpeg("-i", woven, "-pix_fmt", "yuv420p", "-f", "rawvideo", "-"), np.uint8)
    whole = b""
    for number in range(100, 160):
        made = np.frombuffer(picture(number, gray=True), np.uint8).copy()
        luma = made[: WIDTH * HEIGHT].reshape(HEIGHT, WIDTH)
        luma[150:176:2, :] = 40
        whole += made.tobytes()
    size = WIDTH * HEIGHT * 3 // 2
    source = tmp_path / "in.mkv"
    ffmpeg("-f", "rawvideo", "-pix_fmt", "yuv420p", "-s", f"{WIDTH}x{HEIGHT}", "-r", "25", "-i", "-", "-c:v", "ffv1",
           "-field_order", "tt", source, given=fields_raw[: 60 * size].tobytes() + whole)  # fmt: skip
    assert identify([source], "counted").video[0].scan == "mixed"
    output = Path(make(source, tmp_path / "out", "field", "ffv1").output)
    assert numbers_of(output, gray=True)[:118] == list(range(118))
    assert numbers_of(output, gray=True)[124:236] == [100 + n // 2 for n in range(4, 116)]
    before, after = (luma_pictures(each, WIDTH, HEIGHT) for each in (source, output))
    for place in range(64, 118):
        assert np.array_equal(before[place], after[2 * place])


@pytest.mark.parametrize("begin", [0, 1, 2, 3, 4])
def test_film_comes_off_its_video_clock(tmp_path: Path, begin: int) -> None:
    whole = film(tmp_path / "film.mov", range(120), "24000/1001", "-c:v", "ffv1", "-c:a", "pcm_s16le", gray=True)
    source = tmp_path / "in.mov"
    # The turns of two and three may stand anywhere when a recording begins.
    ffmpeg("-i", whole, "-vf", f"telecine=pattern=23:first_field=top,select=gte(n\\,{begin}),setpts=PTS-STARTPTS",
           "-af", f"atrim=start={begin * 1001 / 30000},asetpts=PTS-STARTPTS", "-r", "30000/1001", *INTERLACED,
           "-flags", "+ildct+ilme", "-x264-params", "tff=1", source)  # fmt: skip
    video = identify([source], "counted").video[0]
    assert (video.pulldown, video.frame_rate) == (True, Fraction(30000, 1001))
    output = make(source, tmp_path / "out", "film", "ffv1")
    path = Path(output.output)
    numbers = numbers_of(path, gray=True)
    assert ffprobe(path)["streams"][0]["avg_frame_rate"] == "24000/1001"
    # Every film picture once, in order, but for a single field at either end.
    assert numbers == list(range(numbers[0], numbers[0] + len(numbers)))
    assert numbers[0] <= begin
    assert len(numbers) >= 120 - begin - 2
    # No line of another picture: the bar that moves stands where it is drawn.
    for number, luma in list(zip(numbers, luma_pictures(path, WIDTH, HEIGHT), strict=True))[2:-2]:
        left = number * 7 % (WIDTH - 60)
        assert luma[92:138, left + 4 : left + 46].min() > 150
        assert luma[92:138, left + 54 : left + 60].max() < 110
    sound_s = [n - begin * 1001 / 30000 for n in range(1, 5)]
    heard = [each for each in click_times(path) if each > 0.2]
    assert heard == pytest.approx(sound_s, abs=0.02)
