"""Intermediates: depth, chroma, fields, tags and levels, decoded by FFmpeg's own decoders (the distribution's, 5.1)."""

from __future__ import annotations

import itertools
import json
import os
import subprocess
from pathlib import Path

import numpy as np
import pytest

from diadoche.core.convert.formats import PictureFormat
from diadoche.core.convert.recipes import recipes
from diadoche.core.identify.probe import identify
from diadoche.core.watch import Watch
from diadoche.services.jobs.make_output import MakeRequest, perform_make
from tests.conftest import diadoche
from tests.outside.avchd_by_hand import HEIGHT, WIDTH, raw_pictures, read_field
from tests.outside.public_tools import ffprobe, luma_pictures, tagged
from tests.outside.recipe_names import EVERY_RECIPE


def make(
    path: Path, pictures: bytes, *options: str, rate: str = "25", pix: str = "yuv420p", size: str = f"{WIDTH}x{HEIGHT}"
) -> Path:
    subprocess.run(
        ["ffmpeg", "-v", "error", "-y", "-f", "rawvideo", "-pix_fmt", pix, "-s", size, "-r", rate, "-i", "-",
         *tagged(options), *options, str(path)],
        input=pictures, check=True,
    )  # fmt: skip
    return path


def convert(source: Path, recipe: str, folder: Path) -> Path:
    output = perform_make(MakeRequest((source,), recipes()[recipe], folder), Watch())
    assert output.output, output.problems
    assert output.checks is not None
    assert output.checks.passed
    return Path(output.output)


# BT.709 limited range, 8 bits: Y' = 16 + 219·(0.2126 R' + 0.7152 G' + 0.0722 B'), by hand for full colours [BT709-6].
PATCHES = {
    "white": (235, 128, 128),
    "black": (16, 128, 128),
    "red": (63, 102, 240),
    "green": (173, 42, 26),
    "blue": (32, 240, 118),
}


def patches() -> bytes:
    """A 640×360 picture of five flat stripes, 4:2:0."""
    luma, blue, red = np.empty((360, 640), np.uint8), np.empty((180, 320), np.uint8), np.empty((180, 320), np.uint8)
    for place, values in enumerate(PATCHES.values()):
        luma[:, place * 128 : (place + 1) * 128] = values[0]
        blue[:, place * 64 : (place + 1) * 64] = values[1]
        red[:, place * 64 : (place + 1) * 64] = values[2]
    return luma.tobytes() + blue.tobytes() + red.tobytes()


# Those that are no film, or hold RGB, are looked at by test_colours_come_back.
YUV = [each for each in EVERY_RECIPE if not isinstance(each, str) or each not in {"cineform-12", "stills-png"}]
DEEP = [
    "prores-422", "prores-422-hq", "prores-422-hq-mxf", "prores-4444", "vc3-hq", "vc3-hq-mxf", "vc3-hqx", "vc3-444",
    "cineform-10", "ffv1", "h264-intra",
]  # fmt: skip


@pytest.mark.parametrize("recipe", YUV)
@pytest.mark.parametrize("full", [False, True], ids=["limited", "full"])
def test_patches_keep_their_levels_and_tags(tmp_path: Path, recipe: str, full: bool) -> None:
    source = make(
        tmp_path / "in.mp4", patches() * 6, "-c:v", "libx264", "-qp", "0", "-color_primaries", "bt709", "-color_trc", "bt709",
        "-colorspace", "bt709", "-color_range", "pc" if full else "tv",
    )  # fmt: skip
    output = convert(source, recipe, tmp_path / "out")
    stream = ffprobe(output)["streams"][0]
    assert stream["color_primaries"] == stream["color_transfer"] == stream["color_space"] == "bt709"
    raw = subprocess.run(
        ["ffmpeg", "-v", "error", "-i", str(output), "-frames:v", "1", "-f", "rawvideo", "-"],
        capture_output=True,
        check=True,
    ).stdout
    deep = 16 if "12le" in stream["pix_fmt"] else 4 if "10le" in stream["pix_fmt"] else 1
    samples = np.frombuffer(raw, np.dtype("<u2") if deep > 1 else np.uint8).astype(float) / deep
    luma = samples[: 640 * 360].reshape(360, 640)
    chroma_lines = 180 if "420" in stream["pix_fmt"] else 360
    wide = 640 if "444" in stream["pix_fmt"] else 320
    blue = samples[640 * 360 : 640 * 360 + wide * chroma_lines].reshape(chroma_lines, wide)
    # ProRes has no mark for full range [RDD36]: levels are mapped to limited, and the recipe says so first.
    mapped = full and not recipes()[recipe].picture.holds_full_range
    assert bool(recipes()[recipe].losses(PictureFormat.of(identify([source])))) is mapped
    # A codec and a container that name no range mean limited.
    assert stream.get("color_range", "tv") == ("pc" if full and not mapped else "tv")
    for place, values in enumerate(PATCHES.values()):
        wanted_luma = 16 + values[0] * 219 / 255 if mapped else values[0]
        wanted_blue = 128 + (values[1] - 128) * 224 / 255 if mapped else values[1]
        inside, half = slice(place * 128 + 32, place * 128 + 96), slice(place * wide // 5 + 16, place * wide // 5 + 48)
        assert abs(luma[100:200, inside].mean() - wanted_luma) <= 1
        assert abs(blue[60:120, half].mean() - wanted_blue) <= 2


@pytest.mark.parametrize("recipe", DEEP)
def test_ten_bits_stay_ten_without_a_detour(tmp_path: Path, recipe: str) -> None:
    # A ramp with every ten-bit level: an eight-bit detour would leave every fourth.
    ramp = np.tile((np.arange(1024) // 2 + 200).astype("<u2"), (128, 1))
    chroma = np.full((128, 512), 512, "<u2")
    picture = ramp.tobytes() + chroma.tobytes() * 2
    source = make(tmp_path / "in.mkv", picture * 5, "-c:v", "ffv1", "-level", "3", pix="yuv422p10le", size="1024x128")
    output = convert(source, recipe, tmp_path / "out")
    assert ffprobe(output)["streams"][0]["pix_fmt"] in {"yuv422p10le", "yuv444p10le", "yuv444p12le"}
    levels = np.unique(luma_pictures(output, 1024, 128, "gray10le")[2])
    assert np.mean(np.diff(levels) == 1) > 0.9
    assert len(np.unique(levels % 4)) == 4


@pytest.mark.parametrize("recipe", EVERY_RECIPE)
def test_every_picture_arrives_once_with_its_number(tmp_path: Path, recipe: str) -> None:
    source = make(
        tmp_path / "in.mp4",
        raw_pictures(37, 5, interlaced=False),
        "-c:v",
        "libx264",
        "-crf",
        "12",
        "-timecode",
        "10:00:59;28",
        rate="30000/1001",
    )
    output = convert(source, recipe, tmp_path / "out")
    luma = luma_pictures(output, WIDTH, HEIGHT)
    assert [read_field(picture[0::2]) for picture in luma] == list(range(5, 42))
    if output.is_dir():
        return
    said = ffprobe(output)
    # FFmpeg 5.1 finds no average in MXF with ProRes.
    assert "30000/1001" in {said["streams"][0]["avg_frame_rate"], said["streams"][0]["r_frame_rate"]}
    told = [
        {key.lower(): value for key, value in each.get("tags", {}).items()}
        for each in (*said["streams"], said["format"])
    ]
    assert any(tags.get("timecode") == "10:00:59;28" for tags in told)


@pytest.mark.parametrize(("recipe", "top_first"), [("prores-422", True), ("prores-422", False), ("h264-intra", True)])
def test_fields_stay_fields(tmp_path: Path, recipe: str, top_first: bool) -> None:
    order = "tff=1" if top_first else "bff=1"
    source = make(
        tmp_path / "in.mp4",
        raw_pictures(30, 0, interlaced=True, top_first=top_first),
        "-c:v",
        "libx264",
        "-crf",
        "12",
        "-flags",
        "+ildct+ilme",
        "-x264opts",
        order,
    )
    output = convert(source, recipe, tmp_path / "out")
    frames = ffprobe(output, "-show_frames", "-select_streams", "v", "-read_intervals", "%+#2")["frames"]
    assert all(frame["interlaced_frame"] == 1 for frame in frames)
    assert all(frame["top_field_first"] == int(top_first) for frame in frames)
    assert ffprobe(output)["streams"][0]["field_order"] == ("tt" if top_first else "bb")
    upper, lower = (0, 1) if top_first else (1, 0)
    luma = luma_pictures(output, WIDTH, HEIGHT)
    assert [read_field(picture[upper::2]) for picture in luma] == list(range(0, 60, 2))
    assert [read_field(picture[lower::2]) for picture in luma] == list(range(1, 60, 2))


def test_interlaced_chroma_is_resampled_by_field(tmp_path: Path) -> None:
    """Fields of two colours, woven: each field keeps its own colour in 4:2:2, and neither bleeds into the other."""
    luma = np.full((360, 640), 120, np.uint8)
    blue = np.empty((180, 320), np.uint8)
    blue[0::2], blue[1::2] = 60, 200
    red = np.full((180, 320), 128, np.uint8)
    moving = []
    for step in range(20):
        picture = luma.copy()
        picture[100:200:2, step * 20 : step * 20 + 60] = 220
        picture[101:200:2, step * 20 + 10 : step * 20 + 70] = 220
        moving.append(picture.tobytes() + blue.tobytes() + red.tobytes())
    source = make(
        tmp_path / "in.mp4",
        b"".join(moving),
        "-c:v",
        "libx264",
        "-qp",
        "0",
        "-flags",
        "+ildct+ilme",
        "-x264opts",
        "tff=1",
    )
    assert identify([source]).video[0].interlaced
    output = convert(source, "prores-422", tmp_path / "out")
    raw = subprocess.run(
        ["ffmpeg", "-v", "error", "-i", str(output), "-frames:v", "1", "-f", "rawvideo", "-"],
        capture_output=True,
        check=True,
    ).stdout
    chroma = np.frombuffer(raw, "<u2")[640 * 360 : 640 * 360 + 320 * 360].reshape(360, 320).astype(float) / 4
    assert abs(chroma[20:340:2].mean() - 60) <= 2
    assert abs(chroma[21:340:2].mean() - 200) <= 2


def test_a_vc3_frame_has_the_size_that_the_standard_says(tmp_path: Path) -> None:
    # SMPTE ST 2019-1: a frame of compression ID 1238 has 917,504 bytes; 1243, its interlaced kin, has the same.
    picture = bytes([120]) * (1920 * 1080) + bytes([128]) * (1920 * 1080 // 2)
    moving = []
    for step in range(12):
        luma = np.full((1080, 1920), 100, np.uint8)
        luma[200:600:2, step * 40 : step * 40 + 200] = 200
        luma[201:600:2, step * 40 + 20 : step * 40 + 220] = 200
        moving.append(luma.tobytes() + picture[1920 * 1080 :])
    source = make(
        tmp_path / "in.mp4",
        b"".join(moving),
        "-c:v",
        "libx264",
        "-crf",
        "10",
        "-flags",
        "+ildct+ilme",
        "-x264opts",
        "tff=1",
        size="1920x1080",
    )
    output = convert(source, "vc3-hq", tmp_path / "out")
    sizes = subprocess.run(
        ["ffprobe", "-v", "error", "-select_streams", "v", "-show_entries", "packet=size", "-of", "csv=p=0", str(output)],
        capture_output=True, text=True, check=True,
    ).stdout.split()  # fmt: skip
    assert {size.strip(",") for size in sizes} == {"917504"}


def test_a_flash_and_a_beep_stay_together(drone: Path, camcorder: Path, tmp_path: Path) -> None:
    """The demo's beep begins with the first picture of every second second; it must in the output."""
    for source, recipe in (
        (drone / "DCIM/100DRONE/DRON0003.MP4", "prores-422"),
        (camcorder / "PRIVATE/AVCHD/BDMV/STREAM/00003.MTS", "vc3-hq"),
    ):
        output = convert(source, recipe, tmp_path / "out")
        sound = subprocess.run(
            ["ffmpeg", "-v", "error", "-i", str(output), "-map", "0:a:0", "-ac", "1", "-f", "f32le", "-"],
            capture_output=True,
            check=True,
        ).stdout
        loud = np.abs(np.frombuffer(sound, "<f4"))
        pictures = subprocess.run(
            [
                "ffmpeg",
                "-v",
                "error",
                "-i",
                str(output),
                "-map",
                "0:v:0",
                "-f",
                "rawvideo",
                "-pix_fmt",
                "gray",
                "-vf",
                "crop=80:80:1790:42",
                "-",
            ],
            capture_output=True,
            check=True,
        ).stdout
        bright = np.frombuffer(pictures, np.uint8).reshape(-1, 80 * 80).mean(axis=1) > 228
        rate = identify([output]).video[0].frame_rate
        flashes = [
            number / float(rate) for number in range(1, len(bright)) if bright[number] and not bright[number - 1]
        ]
        beeps = np.flatnonzero(loud > 0.3)
        starts = [beeps[0], *(here for before, here in itertools.pairwise(beeps) if here - before > 24_000)]
        for flash in flashes:
            assert min(abs(flash - start / 48_000) for start in starts) < 1 / float(rate)


def test_marks_take_exactly_their_part(drone: Path, tmp_path: Path) -> None:
    source = drone / "DCIM/100DRONE/DRON0003.MP4"
    done = diadoche("convert", source, "--recipe", "h264-intra", "--to", tmp_path, "--mark", "10", "25", "--json")
    told = json.loads(done.stdout)[0]
    assert (told["frames_in"], told["frames_out"]) == (15, 15)
    labels = [stream.get("tags", {}).get("timecode") for stream in ffprobe(Path(told["output"]))["streams"]]
    assert "09:52:04;10" in labels
    assert told["problems"] == []
    # What the clip does not hold is not passed over in silence.
    done = diadoche("convert", source, "--recipe", "vc3-lb", "--to", tmp_path, "--mark", "80", "95", "--json")
    told = json.loads(done.stdout)[0]
    assert told["frames_out"] == 10
    assert [each["what"].partition(":")[0] for each in told["problems"]] == [
        "Of the 15 pictures between the marks the clip holds 10"
    ]


def test_a_recipe_that_cannot_hold_the_picture_says_so_and_writes_nothing(tmp_path: Path) -> None:
    source = make(
        tmp_path / "in.mp4",
        raw_pictures(30, 0, interlaced=True),
        "-c:v",
        "libx264",
        "-flags",
        "+ildct+ilme",
        "-x264opts",
        "tff=1",
    )
    done = diadoche("convert", source, "--recipe", "vc3-hq", "--to", tmp_path / "out", "--json")
    assert done.returncode == 2
    assert "cannot hold" in json.loads(done.stdout)["problems"][0]["what"]
    assert not (tmp_path / "out").exists()


def test_less_colour_is_said_first(tmp_path: Path) -> None:
    source = make(
        tmp_path / "in.mkv", bytes([90]) * (64 * 64 * 3 * 6), "-c:v", "ffv1", "-level", "3", pix="yuv444p", size="64x64"
    )
    video = PictureFormat.of(identify([source]))
    assert recipes()["prores-422"].losses(video) == ("ProRes 422 holds colour as 4:2:2, not as 4:4:4.",)
    assert recipes()["h264-intra"].losses(video) == ()


def test_no_encoder_leaves_real_time_priority_behind(tmp_path: Path) -> None:
    """As root, the AV1 encoder takes it for the whole process: what is started later would keep others from running."""
    source = tmp_path / "in.mov"
    subprocess.run(
        ["ffmpeg", "-v", "error", "-f", "lavfi", "-i", "testsrc2=s=128x96:r=25:d=0.4", "-c:v", "libx264", source],
        check=True,
    )
    made = perform_make(MakeRequest((source,), recipes()["review-av1"], tmp_path / "out"), Watch())
    assert made.output
    assert os.sched_getscheduler(0) == os.SCHED_OTHER
