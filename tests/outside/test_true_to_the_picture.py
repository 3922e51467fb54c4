"""Outputs against the numbers in their pictures, and the clicks in their sound, read by FFmpeg's own tools."""

from __future__ import annotations

from fractions import Fraction
from pathlib import Path

import av
import numpy as np
import pytest

from diadoche.core.convert.outputs import Output
from diadoche.core.convert.recipes import recipes
from diadoche.core.convert.signature import line_bytes, picture_digest
from diadoche.core.errors import RequestError
from diadoche.core.watch import Watch
from diadoche.services.jobs.make_output import MakeRequest, perform_make
from tests.outside.field_coded_by_hand import field_coded
from tests.outside.numbered import click_times, ffmpeg, film, numbers_of, times_of
from tests.outside.public_tools import ffprobe, picture_digests

X264 = ("-c:v", "libx264", "-crf", "12", "-bf", "2", "-g", "30", "-pix_fmt", "yuv420p")
AAC = ("-c:a", "aac", "-b:a", "256k")


def make(paths: list[Path], way: str, recipe: str, folder: Path, marks: tuple[str, str] | None = None) -> Output:
    chosen = recipes()[recipe] if way == "convert" else recipe
    return perform_make(MakeRequest(tuple(paths), chosen, folder, marks=marks), Watch())


def made(*words: object, **more: object) -> Path:
    output = make(*words, **more)  # type: ignore[arg-type]
    assert output.output, output.problems
    assert output.checks is not None
    assert output.checks.passed
    return Path(output.output)


def test_a_rate_that_changes_becomes_constant_and_every_picture_keeps_its_time(tmp_path: Path) -> None:
    # Two seconds at 60 pictures, then four at 15: the number tells when each belongs.
    source = film(tmp_path / "in.mp4", range(360), "60", *X264, *AAC, kept="lt(n,120)+not(mod(n,4))")
    path = made([source], "convert", "prores-422", tmp_path / "out")
    numbers, times = numbers_of(path), times_of(path)
    assert times == pytest.approx([place / 60 for place in range(len(times))], abs=1e-4)
    assert numbers == [place if place < 120 else place // 4 * 4 for place in range(len(numbers))]
    # For how long the last picture stands, the source does not say.
    assert len(numbers) == 357
    assert click_times(path) == pytest.approx([0, 1, 2, 3, 4, 5], abs=0.004)


@pytest.fixture(scope="module")
def chapters(tmp_path_factory: pytest.TempPathFactory) -> list[Path]:
    """31 pictures at 30000/1001 are no whole number of AAC frames: whoever adds up frames is off after a few joins."""
    folder, each_s = tmp_path_factory.mktemp("chapters"), 31 * 1001 / 30_000
    return [
        film(
            folder / f"C{part:02}.mp4",
            range(part * 31, part * 31 + 31),
            "30000/1001",
            *X264,
            *AAC,
            clicks_from=part * each_s,
        )
        for part in range(21)
    ]


@pytest.mark.parametrize("way", ["rewrap", "convert"])
def test_chapters_with_sound_of_their_own_do_not_drift(chapters: list[Path], tmp_path: Path, way: str) -> None:
    path = made(chapters, way, "mov" if way == "rewrap" else "prores-422", tmp_path / "out")
    assert numbers_of(path) == list(range(21 * 31))
    times = times_of(path)
    assert times == pytest.approx([place * 1001 / 30_000 for place in range(21 * 31)], abs=1e-3)
    heard = click_times(path)
    assert heard == pytest.approx(range(22), abs=0.002)


def test_chapters_whose_sound_was_only_cut_run_on(tmp_path: Path) -> None:
    # One recording of plain sound, cut at pictures: every sample is there once.
    per = 25
    for part in range(6):
        film(
            tmp_path / f"P{part}.mov",
            range(part * per, part * per + per),
            "25",
            *X264,
            "-c:a",
            "pcm_s16le",
            clicks_from=part,
        )
    spans = [tmp_path / f"P{part}.mov" for part in range(6)]
    path = made(spans, "rewrap", "mov", tmp_path / "out")
    assert click_times(path) == pytest.approx(range(6), abs=0.0005)
    assert numbers_of(path) == list(range(6 * per))


@pytest.mark.parametrize("recipe", ["mov", "mp4", "mkv"])
def test_two_fields_become_one_picture_of_the_output(tmp_path: Path, recipe: str) -> None:
    source = field_coded(tmp_path / "fields.ts", 60)
    path = made([source], "rewrap", recipe, tmp_path / "out")
    said = ffprobe(path, "-count_packets")["streams"][0]
    assert (Fraction(said["avg_frame_rate"]), int(said["nb_read_packets"])) == (25, 60)
    assert picture_digests(str(path)) == picture_digests(str(source))


def test_fields_are_converted_as_pictures(tmp_path: Path) -> None:
    source = field_coded(tmp_path / "fields.ts", 60)
    path = made([source], "convert", "prores-422", tmp_path / "out")
    said = ffprobe(path)["streams"][0]
    assert (Fraction(said["avg_frame_rate"]), int(said["nb_frames"]), said["field_order"]) == (25, 60, "tt")


@pytest.mark.parametrize("hole", ["not(between(n,60,959))", "not(eq(n,50)+eq(n,90)+eq(n,91))"], ids=["hole", "lost"])
def test_holes_are_filled_by_the_picture_before_and_told(tmp_path: Path, hole: str) -> None:
    source = film(tmp_path / "in.mp4", [number % 4096 for number in range(1020)], "30", *X264, *AAC, kept=hole)
    output = make([source], "convert", "prores-422", tmp_path / "out")
    assert output.output, output.problems
    numbers = numbers_of(Path(output.output))
    gone = set(range(60, 960)) if "between" in hole else {50, 90, 91}
    last, wanted = 0, []
    for number in range(1020):
        last = last if number in gone else number
        wanted.append(last)
    assert numbers == wanted
    assert any(f"{len(gone)} places of the output" in problem.what for problem in output.problems)
    assert [each.picture for each in output.findings if each.kind == "repeated"][:3] == sorted(gone)[:3]
    assert click_times(Path(output.output)) == pytest.approx(range(34), abs=0.004)


def damaged(path: Path, packet: int) -> Path:
    """A copy in which one coded picture is zeros."""
    where = ffprobe(path, "-select_streams", "v:0", "-show_entries", "packet=pos,size")["packets"][packet]
    data = bytearray(path.read_bytes())
    begin, size = int(where["pos"]), int(where["size"])
    data[begin + 4 : begin + size] = bytes(size - 4)
    target = path.with_name("damaged" + path.suffix)
    target.write_bytes(data)
    return target


def test_a_picture_that_does_not_decode_is_named_and_the_rest_goes_on(tmp_path: Path) -> None:
    # Every picture a key: one is lost, and no other.
    source = damaged(
        film(
            tmp_path / "in.mov",
            range(200),
            "25",
            "-c:v",
            "mjpeg",
            "-q:v",
            "2",
            "-pix_fmt",
            "yuvj420p",
            "-c:a",
            "pcm_s16le",
        ),
        50,
    )
    output = make([source], "convert", "prores-422", tmp_path / "out")
    assert output.output, output.problems
    numbers = numbers_of(Path(output.output))
    assert numbers[:50] + numbers[51:] == [*range(50), *range(51, 200)]
    assert numbers[50] == 49
    assert any("1 picture of the original does not decode, at 2.00 s" in problem.what for problem in output.problems)
    assert click_times(Path(output.output)) == pytest.approx(range(8), abs=0.001)
    wrapped = make([source], "rewrap", "mov", tmp_path / "wrapped")
    assert wrapped.output, wrapped.problems
    assert (wrapped.frames_in, wrapped.frames_out) == (200, 199)
    assert any("1 of 200" in problem.what and "2.00 s" in problem.what for problem in wrapped.problems)
    assert numbers_of(Path(wrapped.output)) == [*range(50), *range(51, 200)]


def test_a_stream_that_begins_in_mid_group_begins_with_what_decodes(tmp_path: Path) -> None:
    whole = film(tmp_path / "whole.ts", range(120), "25", "-c:v", "libx264", "-g", "50", "-bf", "0", "-c:a", "mp2")
    data = whole.read_bytes()
    source = tmp_path / "cut.ts"
    # From the middle of the first group on: nothing decodes until picture 50.
    source.write_bytes(data[len(data) // 188 // 5 * 188 :])
    output = make([source], "convert", "prores-422", tmp_path / "out")
    assert output.output, output.problems
    path = Path(output.output)
    assert numbers_of(path) == list(range(50, 120))
    assert any("does not decode for" in problem.what for problem in output.problems)
    # Picture 50 was at two seconds: there the first click is heard.
    assert click_times(path) == pytest.approx([0, 1, 2], abs=0.004)


def test_an_edit_list_shows_what_it_shows(tmp_path: Path) -> None:
    whole, source = film(tmp_path / "whole.mp4", range(120), "25", *X264, *AAC), tmp_path / "cut.mp4"
    ffmpeg("-ss", "1.48", "-i", whole, "-c", "copy", source)
    shown = numbers_of(source)
    assert shown[0] > 30
    for way, recipe in (("convert", "prores-422"), ("rewrap", "mov")):
        path = made([source], way, recipe, tmp_path / way)
        assert numbers_of(path) == shown
    refused = make_or_refusal([source], "mkv", tmp_path / "mkv")
    assert "edit list" in refused


def make_or_refusal(paths: list[Path], recipe: str, folder: Path) -> str:
    with pytest.raises(RequestError) as caught:
        make(paths, "rewrap", recipe, folder)
    assert not list(folder.glob("*"))
    return caught.value.problem.what


def test_a_clip_that_changes_its_size_is_refused_by_place(tmp_path: Path) -> None:
    small = ffmpeg("-f", "lavfi", "-i", "testsrc2=r=25:d=2:s=320x180", "-c:v", "libx264", "-f", "mpegts", "-")
    large = ffmpeg(
        "-f",
        "lavfi",
        "-i",
        "testsrc2=r=25:d=2:s=640x360",
        "-c:v",
        "libx264",
        "-output_ts_offset",
        "2",
        "-f",
        "mpegts",
        "-",
    )
    source = tmp_path / "in.ts"
    source.write_bytes(small + large)
    output = make([source], "convert", "prores-422", tmp_path / "out")
    assert not output.output
    assert "320×180" in output.problems[-1].what
    assert "640×360" in output.problems[-1].what
    # The second part's stamps begin before the first part's pictures end.
    assert "1.92 s" in output.problems[-1].what
    assert not list((tmp_path / "out").glob("*"))


def test_sound_that_begins_late_or_has_a_hole_is_right(tmp_path: Path) -> None:
    source = tmp_path / "late.mkv"
    film(tmp_path / "v.mp4", range(150), "25", *X264, sound=False)
    ffmpeg("-i", tmp_path / "v.mp4", "-itsoffset", "1.5", "-f", "lavfi", "-i", "sine=440:d=4:r=48000:samples_per_frame=480",
           "-map", "0:v", "-map", "1:a", "-af", "aselect='not(between(t,2,2.99))'", "-c:v", "copy", "-c:a", "pcm_s16le", source)  # fmt: skip
    for way, recipe in (("convert", "prores-422"), ("rewrap", "mov")):
        output = make([source], way, recipe, tmp_path / way)
        assert output.output, output.problems
        if way == "rewrap":
            continue
        data = ffmpeg("-i", output.output, "-map", "0:a", "-f", "s16le", "-ac", "1", "-")
        loud = np.flatnonzero(np.abs(np.frombuffer(data, "<i2").astype(int)) > 50)
        apart = np.flatnonzero(np.diff(loud) > 4800)
        edges = [loud[0], loud[apart[0]], loud[apart[0] + 1], loud[-1]]
        assert [edge / 48_000 for edge in edges] == pytest.approx([1.5, 2, 3, 5.5], abs=0.02)
        assert len(apart) == 1
        assert any("has no sound at 0.00 s, 2.0" in problem.what for problem in output.problems)


def test_sound_above_full_scale_is_told_and_floating_sound_stays_floating(tmp_path: Path) -> None:
    loud = film(tmp_path / "loud.mp4", range(50), "25", *X264, sound=False)
    for codec, ending in (("aac", "mp4"), ("pcm_f32le", "mov")):
        source = tmp_path / f"{codec}.{ending}"
        ffmpeg(
            "-i",
            loud,
            "-f",
            "lavfi",
            "-i",
            "sine=440:d=2",
            "-af",
            "volume=18dB,aformat=flt,volume=12dB",
            "-c:v",
            "copy",
            "-c:a",
            codec,
            source,
        )
        output = make([source], "convert", "prores-422", tmp_path / codec)
        assert output.output, output.problems
        said = ffprobe(Path(output.output))["streams"][1]["codec_name"]
        told = any("louder than full scale" in problem.what for problem in output.problems)
        assert (said, told) == (("pcm_s24le", True) if codec == "aac" else ("pcm_f32le", False))


def test_marks_take_the_same_pictures_and_sound_wherever_they_lie(tmp_path: Path) -> None:
    source = film(tmp_path / "in.mp4", range(300), "25", *X264, *AAC)
    for first, end in ((0, 5), (99, 101), (30, 60), (247, 300)):
        path = made([source], "convert", "prores-422", tmp_path / "out", marks=(str(first), str(end)))
        assert numbers_of(path) == list(range(first, end))
        length = float(ffprobe(path)["streams"][1]["duration"])
        assert abs(length - (end - first) / 25) <= 1 / 48_000
        assert click_times(path) == pytest.approx(
            [second - first / 25 for second in range(12) if first <= second * 25 < end], abs=0.004
        )


@pytest.mark.parametrize(
    ("ending", "coding"),
    [("ts", (*X264, "-g", "250")), ("mpg", ("-c:v", "mpeg2video", "-g", "150", "-bf", "2", "-q:v", "2"))],
)
def test_marks_far_behind_the_last_key_picture_are_found(tmp_path: Path, ending: str, coding: tuple[str, ...]) -> None:
    """These files do not tell where their key pictures are: entered at the mark, nothing decodes up to the next one."""
    source = film(tmp_path / f"in.{ending}", range(150), "25", *coding, "-c:a", "mp2")
    for first, end in ((60, 80), (120, 130)):
        path = made([source], "convert", "prores-422", tmp_path / "out", marks=(str(first), str(end)))
        assert numbers_of(path) == list(range(first, end))


@pytest.mark.parametrize("pixels", ["nv12", "yuyv422", "rgb24", "gray", "pal8", "yuv420p10le", "p010le"])
def test_every_layout_of_samples_is_digested_whole(pixels: str) -> None:
    frame = av.VideoFrame(64, 48, pixels)
    planes = [np.frombuffer(plane, np.uint8) for plane in frame.planes]  # type: ignore[call-overload]
    for plane in planes:
        plane[:] = 7
    before = picture_digest(frame)
    for number, plane in enumerate(frame.planes):
        wide = line_bytes(frame, number) or plane.buffer_size
        # The last visible byte of the first line counts; the padding behind it does not.
        planes[number][wide - 1] = 9
        assert picture_digest(frame) != before, (pixels, number)
        planes[number][wide - 1] = 7
        if wide < plane.line_size:
            planes[number][wide] = 9
            assert picture_digest(frame) == before, (pixels, number)
            planes[number][wide] = 7


def test_a_mark_past_the_end_ends_with_the_clip(tmp_path: Path) -> None:
    source = film(tmp_path / "in.mp4", range(60), "25", *X264, *AAC)
    output = make([source], "convert", "prores-422", tmp_path / "out", marks=("40", "500"))
    assert output.output, output.problems
    assert numbers_of(Path(output.output)) == list(range(40, 60))
    assert [each for each in output.findings if each.kind == "repeated"] == []


def test_a_mark_in_a_hole_keeps_its_length(tmp_path: Path) -> None:
    source = film(tmp_path / "in.mp4", range(200), "25", *X264, kept="not(between(n,60,99))", sound=False)
    path = made([source], "convert", "prores-422", tmp_path / "out", marks=("50", "80"))
    assert numbers_of(path) == [min(number, 59) for number in range(50, 80)]


def test_last_pictures_that_do_not_decode_are_told_as_that(tmp_path: Path) -> None:
    whole = film(
        tmp_path / "in.mov", range(50), "25", "-c:v", "mjpeg", "-q:v", "2", "-pix_fmt", "yuvj420p", "-c:a", "pcm_s16le"
    )
    source = damaged(whole, 49)
    output = make([source], "convert", "prores-422", tmp_path / "out")
    assert output.output, output.problems
    assert numbers_of(Path(output.output)) == list(range(49))
    said = " ".join(problem.what for problem in output.problems)
    assert "ends before" in said
    assert "stands there instead" not in said
