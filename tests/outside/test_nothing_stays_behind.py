"""What a rewrap takes along beside picture and sound: tracks of data to the byte, second pictures, boxes, names of codecs."""

from __future__ import annotations

import hashlib
import struct
import subprocess
from fractions import Fraction
from itertools import pairwise
from pathlib import Path

import pytest

from diadoche.core.boxes import find, inner_boxes, movie_payload
from diadoche.core.identify.probe import identify
from tests.outside.numbered import ffmpeg, film, numbers_of
from tests.outside.public_tools import ffprobe
from tests.outside.test_true_to_the_picture import X264, made, make


def data_of(path: Path, track: str, kind: str = "data") -> str:
    """MD5 of all packets of a track, as FFmpeg reads them."""
    return hashlib.md5(ffmpeg("-i", path, "-map", track, "-c", "copy", "-f", kind, "-")).hexdigest()


def times_of_track(path: Path, track: str) -> list[tuple[float, int]]:
    said = ffprobe(path, "-select_streams", track, "-show_entries", "packet=pts_time,size")
    return [(float(each["pts_time"]), int(each["size"])) for each in said["packets"]]


@pytest.fixture
def rich(tmp_path: Path) -> Path:
    """A film with a timecode track, subtitles that tell places, and a second picture."""
    captions = tmp_path / "places.srt"
    captions.write_text(
        "".join(f"{n + 1}\n00:00:0{n},000 --> 00:00:0{n},900\nGPS(5{n}.12345, -3.21000)\n\n" for n in range(4))
    )
    film(tmp_path / "plain.mov", range(100), "25", *X264, "-c:a", "pcm_s16le")
    path = tmp_path / "rich.mov"
    ffmpeg("-i", tmp_path / "plain.mov", "-i", captions, "-f", "lavfi", "-i", "testsrc2=r=25:d=4:s=160x90", "-map", "0:v", "-map", "0:a",
           "-map", "1:s", "-map", "2:v", "-c:v:0", "copy", "-c:v:1", "mjpeg", "-c:a", "copy", "-c:s", "mov_text", "-timecode", "10:00:00:00", path)  # fmt: skip
    return path


@pytest.mark.parametrize("container", ["mov", "mp4"])
def test_every_track_comes_along_to_the_byte(rich: Path, tmp_path: Path, container: str) -> None:
    path = made([rich], "rewrap", container, tmp_path / "out")
    before, after = (ffprobe(each)["streams"] for each in (rich, path))
    kinds = [sorted((each["codec_type"], each.get("codec_tag_string")) for each in side) for side in (before, after)]
    assert [kind for kind, _tag in kinds[0]] == [kind for kind, _tag in kinds[1]]
    assert data_of(rich, "0:s:0") == data_of(path, "0:s:0")
    assert times_of_track(rich, "s:0") == times_of_track(path, "s:0")
    assert data_of(rich, "0:v:1", "mjpeg") == data_of(path, "0:v:1", "mjpeg")
    # FFmpeg wrote a timecode track for each picture.
    assert identify([path]).data == identify([rich]).data
    assert set(identify([rich]).data) == {"subtitle telemetry", "timecode"}
    video = identify([path]).video[0]
    assert (video.timecode, video.timecode_rate) == ("10:00:00:00", 25)
    assert numbers_of(path) == list(range(100))


def test_data_comes_along_into_converted_files(rich: Path, tmp_path: Path) -> None:
    path = made([rich], "convert", "prores-422", tmp_path / "out")
    assert data_of(rich, "0:s:0") == data_of(path, "0:s:0")
    assert times_of_track(rich, "s:0") == times_of_track(path, "s:0")
    assert identify([path]).video[0].timecode == "10:00:00:00"
    part = make([rich], "convert", "prores-422", tmp_path / "part", marks=("10", "20"))
    assert any("subtitle telemetry" in problem.what for problem in part.problems)
    assert identify([Path(part.output)]).video[0].timecode == "10:00:00:10"


def test_a_timecode_of_its_own_base_stays_one(tmp_path: Path) -> None:
    film(tmp_path / "plain.mov", range(100), "50", *X264, "-timecode", "05:00:00:10", sound=False)
    data = (tmp_path / "plain.mov").read_bytes()
    place = data.index(b"tmcd", data.index(b"stsd", data.index(b"gmhd")))
    scale, length = (int.from_bytes(data[place + 20 + 4 * n : place + 24 + 4 * n], "big") for n in range(2))
    source = tmp_path / "half.mov"
    source.write_bytes(data[: place + 24] + struct.pack(">IB", 2 * length, 25) + data[place + 29 :])
    assert Fraction(scale, length) == 50
    for way, recipe in (("rewrap", "mp4"), ("convert", "prores-422")):
        video = identify([made([source], way, recipe, tmp_path / way)]).video[0]
        assert (video.timecode, video.timecode_rate, video.frame_rate) == ("10:00:00:10", 25, 50)
    # A part, and another container, get a track or a tag that counts the pictures: the same moment, not the same digits.
    part = make([source], "convert", "prores-422", tmp_path / "part", marks=("11", "20"))
    video = identify([Path(part.output)]).video[0]
    assert (video.timecode, video.timecode_rate) == ("10:00:00:31", 50)
    video = identify([made([source], "rewrap", "mkv", tmp_path / "mkv")]).video[0]
    assert video.timecode == "10:00:00:20"


def test_data_of_joined_parts_follows_the_pictures(tmp_path: Path) -> None:
    parts = []
    for part in range(3):
        words = tmp_path / f"{part}.srt"
        words.write_text(f"1\n00:00:00,200 --> 00:00:00,800\npart {part} GPS(51.00001, -3.00001)\n\n")
        film(tmp_path / f"v{part}.mov", range(part * 25, part * 25 + 25), "25", *X264, "-c:a", "pcm_s16le")
        parts.append(tmp_path / f"C{part}.mov")
        ffmpeg(
            "-i",
            tmp_path / f"v{part}.mov",
            "-i",
            words,
            "-map",
            "0",
            "-map",
            "1",
            "-c",
            "copy",
            "-c:s",
            "mov_text",
            parts[-1],
        )
    path = made(parts, "rewrap", "mov", tmp_path / "out")
    said = ffmpeg("-i", path, "-map", "0:s:0", "-f", "srt", "-").decode()
    for part in range(3):
        place = said.index(f"part {part}")
        assert f"00:00:0{part},200 --> 00:00:0{part},800" in said[:place].rsplit("\n\n", 1)[-1]


def with_light(path: Path) -> tuple[bytes, bytes]:
    """Puts mastering and light-level boxes into a film's sample entry, by hand [14496-12, 12.1.6]."""
    mastering = struct.pack(">6H2H2I", 13250, 34500, 7500, 3000, 34000, 16000, 15635, 16450, 10_000_000, 1)
    light = struct.pack(">HH", 1000, 400)
    data = path.read_bytes()
    boxes = (
        struct.pack(">I4s", 8 + len(mastering), b"mdcv")
        + mastering
        + struct.pack(">I4s", 8 + len(light), b"clli")
        + light
    )
    entry = data.index(b"hvc1" if b"hvc1" in data else b"avc1", data.index(b"stsd")) - 4
    size = int.from_bytes(data[entry : entry + 4], "big")
    out = bytearray(data[: entry + size] + boxes + data[entry + size :])
    # Every box around it grows; the movie box is the last of the file, so that no offset moves.
    for kind in (b"moov", b"trak", b"mdia", b"minf", b"stbl", b"stsd"):
        place = out.index(kind, out.index(b"moov")) - 4 if kind != b"moov" else out.index(b"moov") - 4
        out[place : place + 4] = (int.from_bytes(out[place : place + 4], "big") + len(boxes)).to_bytes(4, "big")
    out[entry : entry + 4] = (size + len(boxes)).to_bytes(4, "big")
    path.write_bytes(bytes(out))
    return mastering, light


@pytest.mark.parametrize("container", ["mov", "mp4"])
def test_hevc_keeps_its_name_and_what_is_told_of_light(tmp_path: Path, container: str) -> None:
    path = film(
        tmp_path / "in.mp4",
        range(50),
        "25",
        "-c:v",
        "libx265",
        "-x265-params",
        "log-level=none",
        "-tag:v",
        "hvc1",
        sound=False,
    )
    mastering, light = with_light(path)
    output = made([path], "rewrap", container, tmp_path / "out")
    assert ffprobe(output)["streams"][0]["codec_tag_string"] == "hvc1"
    movie = movie_payload(output)
    assert movie is not None
    track = next(find(movie, "trak"))
    entry = next(inner_boxes(next(find(track, "mdia", "minf", "stbl", "stsd"))[8:]))[1][78:]
    boxes = dict(inner_boxes(entry))
    assert (boxes["mdcv"], boxes["clli"]) == (mastering, light)


def test_hevc_from_a_transport_stream_becomes_what_editors_take(tmp_path: Path) -> None:
    path = film(tmp_path / "in.ts", range(50), "25", "-c:v", "libx265", "-x265-params", "log-level=none:bframes=3")
    output = made([path], "rewrap", "mov", tmp_path / "out")
    said = ffprobe(output)["streams"][0]
    assert (said["codec_tag_string"], said["avg_frame_rate"]) == ("hvc1", "25/1")
    assert numbers_of(output) == list(range(50))


def test_reordered_pictures_of_matroska_lie_even_steps_apart(tmp_path: Path) -> None:
    source = film(
        tmp_path / "in.mkv", range(120), "24000/1001", "-c:v", "libx264", "-bf", "3", "-b_strategy", "0", "-c:a", "flac"
    )
    output = made([source], "rewrap", "mov", tmp_path / "out")
    said = ffprobe(output)["streams"][0]
    assert (said["r_frame_rate"], said["avg_frame_rate"]) == ("24000/1001", "24000/1001")
    table = subprocess.run(
        ["ffprobe", "-v", "error", "-select_streams", "v", "-show_entries", "packet=dts", "-of", "csv=p=0", str(output)],
        capture_output=True, text=True, check=True,
    ).stdout.split()  # fmt: skip
    steps = {int(later.strip(",")) - int(earlier.strip(",")) for earlier, later in pairwise(table)}
    assert len(steps) == 1
    assert numbers_of(output) == list(range(120))


def test_what_a_container_cannot_hold_is_said(rich: Path, tmp_path: Path) -> None:
    output = make([rich], "rewrap", "mkv", tmp_path / "out")
    assert output.output, output.problems
    assert identify([Path(output.output)]).video[0].timecode == "10:00:00:00"
    assert any("takes no subtitle telemetry along:" in problem.what for problem in output.problems)
