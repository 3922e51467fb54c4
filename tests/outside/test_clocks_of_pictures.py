"""What is shown and when, against FFmpeg's own decoding: fields coded by themselves, edits, lost pictures, timecode."""

from __future__ import annotations

import subprocess
from fractions import Fraction
from pathlib import Path

import pytest

from diadoche.core.identify.probe import identify
from tests.outside.field_coded_by_hand import field_coded
from tests.outside.public_tools import ffprobe


def decoded(path: Path) -> int:
    """How many pictures `ffprobe` decodes."""
    said = ffprobe(path, "-count_frames", "-select_streams", "v:0")
    return int(said["streams"][0]["nb_read_frames"])


def ffmpeg(*words: str | Path) -> None:
    subprocess.run(["ffmpeg", "-v", "error", "-y", *map(str, words)], check=True)


@pytest.mark.parametrize("rate", ["25", "30000/1001"])
def test_two_fields_are_one_picture(tmp_path: Path, rate: str) -> None:
    path = field_coded(tmp_path / "fields.ts", 40, rate)
    facts = identify([path])
    video = facts.video[0]
    assert (facts.frames, video.frame_rate, video.frame_rate_mode) == (decoded(path), Fraction(rate), "constant")
    assert (video.scan, video.field_order) == ("interlaced", "top")


def test_pictures_that_an_edit_list_hides_are_not_counted(tmp_path: Path) -> None:
    whole, cut = tmp_path / "whole.mp4", tmp_path / "cut.mp4"
    ffmpeg("-f", "lavfi", "-i", "testsrc2=r=25:d=4:s=320x180", "-c:v", "libx264", "-g", "30", "-bf", "2", whole)
    ffmpeg("-ss", "1.48", "-i", whole, "-c", "copy", cut)
    facts = identify([cut])
    assert facts.frames == decoded(cut) < int(ffprobe(cut)["streams"][0]["nb_frames"])
    assert facts.video[0].frame_rate == 25


def test_a_file_cut_off_counts_what_is_left(tmp_path: Path) -> None:
    path = tmp_path / "a.mp4"
    ffmpeg(
        "-f",
        "lavfi",
        "-i",
        "testsrc2=r=25:d=4:s=320x180",
        "-c:v",
        "libx264",
        "-bf",
        "0",
        "-movflags",
        "+faststart",
        path,
    )
    data = path.read_bytes()
    path.write_bytes(data[: len(data) * 2 // 3])
    facts = identify([path])
    assert facts.frames is not None
    assert facts.frames < 100
    # The last packet is torn: FFmpeg may decode a part of it.
    assert abs(facts.frames - decoded(path)) <= 1


def test_lost_pictures_are_gaps_and_the_rate_stays(tmp_path: Path) -> None:
    path = tmp_path / "a.mp4"
    ffmpeg("-f", "lavfi", "-i", "testsrc2=r=30000/1001:d=20:s=320x180", "-vf", "select='not(eq(n,50)+eq(n,200)+eq(n,201)+eq(n,444))'",
           "-fps_mode", "passthrough", "-enc_time_base", "1001/30000", "-c:v", "libx264", "-bf", "2", path)  # fmt: skip
    video = identify([path]).video[0]
    assert (video.frame_rate, video.frame_rate_mode) == (Fraction(30000, 1001), "constant")
    assert [gap.pictures for gap in video.gaps] == [1, 2, 1]


def test_timecode_tells_its_own_base(tmp_path: Path) -> None:
    plain, path = tmp_path / "plain.mov", tmp_path / "half.mov"
    ffmpeg("-f", "lavfi", "-i", "testsrc2=r=50:d=1:s=320x180", "-c:v", "prores_ks", "-timecode", "05:00:00:10", plain)
    assert identify([plain]).video[0].timecode_rate == 50
    data = plain.read_bytes()
    # The timecode sample entry, altered to count 25 a second: scale, length, labels [QTFF, timecode].
    place = data.index(b"tmcd", data.index(b"stsd", data.index(b"gmhd")))
    scale, length = (int.from_bytes(data[place + 20 + 4 * n : place + 24 + 4 * n], "big") for n in range(2))
    assert Fraction(scale, length) == 50
    entry = scale.to_bytes(4, "big") + (2 * length).to_bytes(4, "big") + bytes([25])
    path.write_bytes(data[: place + 20] + entry + data[place + 29 :])
    video = identify([path]).video[0]
    assert (video.timecode, video.timecode_rate, video.frame_rate) == ("10:00:00:10", 25, 50)
    assert video.labels is not None
    assert [str(video.labels.at(picture)) for picture in (0, 29, 30)] == ["10:00:00:10", "10:00:00:24", "10:00:01:00"]
