"""Facts field by field against ffprobe (FFmpeg 5.1) and MediaInfo (pymediainfo), on files made by FFmpeg's command line.

`ffprobe` shares our media library, so rates, durations and timecode also agree with MediaInfo.
"""

from __future__ import annotations

import subprocess
from fractions import Fraction
from pathlib import Path

import pytest
from pymediainfo import MediaInfo

from diadoche.core.identify.probe import identify
from diadoche.core.identify.route import load_profile, route
from tests.outside.avchd_by_hand import HEIGHT, WIDTH, raw_pictures
from tests.outside.public_tools import ffprobe, idet_counts

CASES = {
    "h264.mp4": ("libx264 -pix_fmt yuv420p -g 15", "aac", "30000/1001", "10:11:12;13"),
    "h264-10.mov": ("libx264 -pix_fmt yuv422p10le -g 12", "pcm_s24le", "25", "01:00:00:00"),
    "hevc.mp4": ("libx265 -pix_fmt yuv420p10le -x265-params log-level=none", "aac", "24000/1001", None),
    "prores.mov": ("prores_ks -profile:v 3 -pix_fmt yuv422p10le", "pcm_s16le", "24", "23:59:59:00"),
    "dnxhr.mov": ("dnxhd -profile:v dnxhr_hq -pix_fmt yuv422p", "pcm_s16le", "50", None),
    "mpeg2.ts": ("mpeg2video -pix_fmt yuv420p -g 12 -b:v 4M", "mp2", "25", None),
    "h264.m2ts": ("libx264 -pix_fmt yuv420p -g 12", "ac3", "60000/1001", None),
    "ffv1.mkv": ("ffv1 -level 3 -pix_fmt yuv422p10le", "flac", "30", None),
    "mjpeg.avi": ("mjpeg -pix_fmt yuvj422p -q:v 4", "pcm_s16le", "30", None),
}


@pytest.fixture(scope="module")
def made(tmp_path_factory: pytest.TempPathFactory) -> Path:
    return tmp_path_factory.mktemp("made")


def make(folder: Path, name: str) -> Path:
    video, audio, rate, timecode = CASES[name]
    path = folder / name
    if not path.exists():
        more = ["-timecode", timecode] if timecode else []
        subprocess.run(
            ["ffmpeg", "-v", "error", "-y", "-f", "rawvideo", "-pix_fmt", "yuv420p", "-s", f"{WIDTH}x{HEIGHT}", "-r", rate, "-i", "-",
             "-f", "lavfi", "-t", "1.2", "-i", "sine=sample_rate=48000", "-ac", "2", "-c:v", *video.split(), "-c:a", audio,
             "-color_primaries", "bt709", "-color_trc", "bt709", "-colorspace", "bt709", *more, "-shortest", str(path)],
            input=raw_pictures(36, 0, interlaced=False), check=True,
        )  # fmt: skip
    return path


@pytest.mark.parametrize("name", CASES)
def test_every_field_agrees_with_ffprobe(made: Path, name: str) -> None:
    path = make(made, name)
    facts = identify([path])
    said = ffprobe(path, "-count_packets")
    streams = {stream["codec_type"]: stream for stream in reversed(said["streams"])}
    video, theirs = facts.video[0], streams["video"]
    assert (video.codec, video.width, video.height) == (theirs["codec_name"], theirs["width"], theirs["height"])
    assert video.frame_rate == Fraction(theirs["avg_frame_rate"]) or video.frame_rate == Fraction(
        theirs["r_frame_rate"]
    )
    assert facts.frames == int(theirs["nb_read_packets"])
    assert video.bit_depth == (10 if "10le" in theirs["pix_fmt"] else 8)
    assert video.chroma.replace(":", "") in theirs["pix_fmt"]
    assert video.color.matrix == "BT.709" or name in {"dnxhr.mov", "mjpeg.avi"}
    sound, theirs_sound = facts.audio[0], streams["audio"]
    assert (sound.codec, sound.channels, sound.sample_rate) == (
        theirs_sound["codec_name"],
        theirs_sound["channels"],
        int(theirs_sound["sample_rate"]),
    )
    assert video.decodable
    assert sound.decodable
    assert video.frame_rate_mode == "constant"
    assert not facts.problems


@pytest.mark.parametrize("name", CASES)
def test_rates_durations_and_timecode_agree_with_mediainfo(made: Path, name: str) -> None:
    path = make(made, name)
    facts = identify([path])
    tracks = MediaInfo.parse(path).tracks
    video = next(track for track in tracks if track.track_type == "Video")
    # MediaInfo tells no rate or depth of some streams; what it tells must agree.
    assert not video.frame_rate or abs(float(facts.video[0].frame_rate) - float(video.frame_rate)) < 0.001
    told_s = float(video.duration or facts.duration_s * 1000) / 1000
    assert abs(facts.duration_s - told_s) <= 1 / float(facts.video[0].frame_rate) + 0.02
    assert (video.bit_depth or facts.video[0].bit_depth) == facts.video[0].bit_depth
    if video.chroma_subsampling:
        assert video.chroma_subsampling == facts.video[0].chroma
    wanted = CASES[name][3]
    labels = [track.time_code_of_first_frame for track in tracks if track.track_type == "Other"]
    assert facts.video[0].timecode == wanted
    assert not wanted or wanted in labels


@pytest.mark.parametrize(
    ("name", "intra"),
    [("h264.mp4", False), ("prores.mov", True), ("dnxhr.mov", True), ("ffv1.mkv", True), ("mpeg2.ts", False)],
)
def test_intra_only_is_told_from_long_gop(made: Path, name: str, intra: bool) -> None:
    assert identify([make(made, name)]).video[0].intra_only is intra


@pytest.mark.parametrize("name", CASES)
def test_a_wrong_ending_changes_nothing(made: Path, tmp_path: Path, name: str) -> None:
    wrong = tmp_path / "file.JPG"
    wrong.write_bytes(make(made, name).read_bytes())
    mine, right = identify([wrong]), identify([make(made, name)])
    assert (mine.container, mine.frames, mine.video[0].codec) == (right.container, right.frames, right.video[0].codec)


def woven(path: Path, *, interlaced: bool, top_first: bool, flags: list[str]) -> Path:
    subprocess.run(
        ["ffmpeg", "-v", "error", "-y", "-f", "rawvideo", "-pix_fmt", "yuv420p", "-s", f"{WIDTH}x{HEIGHT}", "-r", "25", "-i", "-",
         "-c:v", "libx264", "-preset", "ultrafast", "-crf", "14", *flags, str(path)],
        input=raw_pictures(40, 0, interlaced=interlaced, top_first=top_first), check=True,
    )  # fmt: skip
    return path


TFF, BFF = ["-flags", "+ildct+ilme", "-x264opts", "tff=1"], ["-flags", "+ildct+ilme", "-x264opts", "bff=1"]


@pytest.mark.parametrize(
    ("interlaced", "top_first", "flags", "scan", "order"),
    [
        (True, True, TFF, "interlaced", "top"),
        (True, False, BFF, "interlaced", "bottom"),
        (True, True, [], "interlaced", "top"),
        (True, False, TFF, "interlaced", "bottom"),
        (False, True, [], "progressive", None),
        (False, True, TFF, "progressive", None),
    ],
)
def test_scan_is_decided_by_the_pictures_whatever_the_flags(
    tmp_path: Path, interlaced: bool, top_first: bool, flags: list[str], scan: str, order: str | None
) -> None:
    path = woven(tmp_path / "x.mp4", interlaced=interlaced, top_first=top_first, flags=flags)
    video = identify([path]).video[0]
    assert (video.scan, video.field_order) == (scan, order)
    # FFmpeg's own detector as second opinion.
    counts = idet_counts(path)
    del counts["Undetermined"]
    assert max(counts, key=lambda each: counts[each]) == {"top": "TFF", "bottom": "BFF", None: "Progressive"}[order]


def test_a_still_scene_is_undecided(tmp_path: Path) -> None:
    path = tmp_path / "still.mp4"
    subprocess.run(
        [
            "ffmpeg",
            "-v",
            "error",
            "-f",
            "lavfi",
            "-i",
            "testsrc2=d=0.04:s=640x360,loop=30:1:0",
            "-c:v",
            "libx264",
            str(path),
        ],
        check=True,
    )
    assert identify([path]).video[0].scan == "undecided"


def test_a_variable_rate_is_told(tmp_path: Path) -> None:
    path = tmp_path / "vfr.mp4"
    subprocess.run(
        [
            "ffmpeg",
            "-v",
            "error",
            "-f",
            "lavfi",
            "-i",
            "testsrc2=d=3:s=320x180:r=30",
            "-vf",
            "select='not(mod(n,3))+gt(n,45)'",
            "-fps_mode",
            "vfr",
            "-c:v",
            "libx264",
            str(path),
        ],
        check=True,
    )
    facts = identify([path])
    assert facts.video[0].frame_rate_mode == "variable"
    assert route(facts, load_profile()).name == "convert"


def test_a_file_cut_off_before_its_index(made: Path, tmp_path: Path) -> None:
    whole = make(made, "h264.mp4").read_bytes()
    cut = tmp_path / "CUT0001.MP4"
    cut.write_bytes(whole[: whole.index(b"moov") - 100])
    facts = identify([cut])
    assert "cut off before its index" in facts.problems[0].what
    assert route(facts, load_profile()).name == "unsupported"


def test_text_called_mp4_and_an_empty_file(tmp_path: Path) -> None:
    (tmp_path / "NOTE.MP4").write_text("Shopping: bread, batteries\n")
    (tmp_path / "ZERO.MP4").write_bytes(b"")
    assert "plain text" in identify([tmp_path / "NOTE.MP4"]).problems[0].what
    assert "is empty" in identify([tmp_path / "ZERO.MP4"]).problems[0].what


def test_profiles_judge_differently(made: Path) -> None:
    facts = identify([make(made, "h264.mp4")])
    assert route(facts, load_profile("general")).name == "ready"
    assert route(facts, load_profile("intra-only")).name == "convert"
    stream = identify([make(made, "h264.m2ts")])
    assert route(stream, load_profile("nearly-everything")).name == "ready"
    assert route(identify([make(made, "hevc.mp4")]), load_profile("general")).name == "convert"
    assert route(identify([make(made, "prores.mov")]), load_profile("general")).name == "ready"


def test_mediainfo_reads_the_date_that_our_camcorder_writes_and_so_do_we(camcorder: Path) -> None:
    path = camcorder / "PRIVATE/AVCHD/BDMV/STREAM/00000.MTS"
    general = MediaInfo.parse(path).tracks[0]
    facts = identify([path])
    assert facts.start is not None
    said = next(track.recorded_date for track in MediaInfo.parse(path).tracks if track.recorded_date)
    assert said == facts.start.isoformat(sep=" ")
    assert general.format == "BDAV"
    assert facts.container == "M2TS"


def test_libbluray_reads_the_camcorders_tree(camcorder: Path) -> None:
    # libbluray's tools (Debian's libbluray-bin): the tree as a disc library sees it.
    info = subprocess.run(
        ["bd_info", str(camcorder / "PRIVATE/AVCHD")], capture_output=True, text=True, check=True
    ).stdout
    assert "BluRay detected     : yes" in info
    assert "HDMV titles         : 1" in info
    titles = subprocess.run(
        ["bd_list_titles", str(camcorder / "PRIVATE/AVCHD")], capture_output=True, text=True, check=True
    )
    line = next(line for line in titles.stdout.splitlines() if "playlist: 00000" in line)
    assert "duration: 00:00:11" in line
    assert "chapters:   3" in line
    assert "clips:   4" in line
    assert "error" not in titles.stderr.lower()


def test_woven_and_whole_pictures_in_one_clip_are_mixed(tmp_path: Path) -> None:
    # Whole pictures at the beginning and woven ones after them, as an editor that ignores fields leaves them.
    parts = [
        woven(tmp_path / "whole.mp4", interlaced=False, top_first=True, flags=[]),
        woven(tmp_path / "woven.mp4", interlaced=True, top_first=True, flags=[]),
    ]
    (tmp_path / "list.txt").write_text("".join(f"file '{part}'\n" for part in parts))
    path = tmp_path / "mixed.mp4"
    words = [
        "ffmpeg",
        "-v",
        "error",
        "-f",
        "concat",
        "-safe",
        "0",
        "-i",
        str(tmp_path / "list.txt"),
        "-c",
        "copy",
        str(path),
    ]
    subprocess.run(words, check=True)
    video = identify([path]).video[0]
    assert (video.scan, video.field_order) == ("mixed", "top")
    assert video.evidence is not None
