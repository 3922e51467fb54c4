"""Every combination of container and codec that FFmpeg's command line (5.1) writes here, field by field against `ffprobe` and
MediaInfo (pymediainfo). Where they disagree with us, the reason stands beside the case.
"""

from __future__ import annotations

import itertools
import struct
import subprocess
from collections.abc import Iterable
from fractions import Fraction
from pathlib import Path

import av
import numpy as np
import pytest
from pymediainfo import MediaInfo

from diadoche.core.errors import MediaError
from diadoche.core.footage.trial import try_clip
from diadoche.core.identify.probe import Depth, identify
from diadoche.core.run import Missing, Run
from tests.conftest import diadoche
from tests.outside.public_tools import ffprobe

_SECONDS = 1.2
_PICTURES = f"testsrc2=s=320x180:r=25:d={_SECONDS}"
VIDEO = {
    "h264": "libx264 -pix_fmt yuv420p -preset ultrafast",
    "hevc": "libx265 -pix_fmt yuv420p10le -preset ultrafast -x265-params log-level=none",
    "mpeg2": "mpeg2video -pix_fmt yuv420p -b:v 3M",
    "mpeg4": "mpeg4 -b:v 3M",
    "prores": "prores_ks -pix_fmt yuv422p10le",
    "dnxhr": "dnxhd -profile:v dnxhr_sq -pix_fmt yuv422p",
    "mjpeg": "mjpeg -pix_fmt yuvj420p",
    "ffv1": "ffv1 -pix_fmt yuv422p10le",
    "vp9": "libvpx-vp9 -b:v 1M -cpu-used 8",
    "av1": "libaom-av1 -cpu-used 8 -b:v 500k",
    "dv": "dvvideo -s 720x576 -pix_fmt yuv420p",
    "v210": "v210 -pix_fmt yuv422p10le",
    "raw": "rawvideo -pix_fmt yuv420p",
    "mpeg1": "mpeg1video -b:v 2M",
    "cfhd": "cfhd -pix_fmt yuv422p10le",
    "png": "png -pix_fmt rgb24",
    "theora": "libtheora -b:v 1M",
    "vp8": "libvpx -b:v 1M -cpu-used 8",
    "jp2": "libopenjpeg -pix_fmt yuv420p",
}
SOUND = {
    "mov": "pcm_s24le",
    "mp4": "aac",
    "mkv": "flac",
    "avi": "pcm_s16le",
    "mxf": "pcm_s16le",
    "ts": "mp2",
    "m2ts": "ac3",
    "mpg": "mp2",
    "webm": "libopus",
}
CONTAINERS = {
    "mov": "MOV",
    "mp4": "MP4",
    "mkv": "Matroska",
    "avi": "AVI",
    "mxf": "MXF",
    "ts": "MPEG-TS",
    "m2ts": "M2TS",
    "mpg": "MPEG-PS",
    "webm": "WebM",
}

# What is met in each; every other pair that can be written is long.
USUAL = {
    "mov": ("prores", "dnxhr", "h264", "hevc", "mjpeg", "cfhd", "png", "v210", "dv"),
    "mp4": ("h264", "hevc", "mpeg2", "mpeg4", "av1", "jp2"),
    "mkv": ("ffv1", "h264", "hevc", "vp8", "vp9", "theora"),
    "avi": ("raw", "mpeg4", "mjpeg", "dv", "cfhd"),
    "mxf": ("mpeg2", "dnxhr", "h264", "dv"),
    "ts": ("h264", "hevc", "mpeg1", "mpeg2"),
    "m2ts": ("h264", "hevc", "mpeg2"),
    "mpg": ("h264", "mpeg1", "mpeg2"),
    "webm": ("vp8", "vp9", "av1"),
}

# By how slow they are: these are encoded once, and their packets copied into each container.
_SLOW = ("av1", "hevc", "jp2", "theora")


@pytest.fixture(scope="session")
def encoded(tmp_path_factory: pytest.TempPathFactory) -> dict[str, Path]:
    """Pictures in the slow codecs, in Matroska."""
    folder, made = tmp_path_factory.mktemp("encoded"), {}
    for video in _SLOW:
        made[video] = folder / f"{video}.mkv"
        ffmpeg("-f", "lavfi", "-i", _PICTURES, "-c:v", *VIDEO[video].split(), made[video])
    return made


def make(folder: Path, video: str, ending: str, encoded: dict[str, Path]) -> Path | None:
    """The file, or None where that container does not hold that codec."""
    path = folder / f"{video}.{ending}"
    # AVI has one clock for a track, and the one that comes with copied packets is another than an encoder's.
    is_copied = video in encoded and ending != "avi"
    pictures = ["-i", encoded[video]] if is_copied else ["-f", "lavfi", "-i", _PICTURES]
    coding = ["copy"] if is_copied else VIDEO[video].split()
    words = [
        "ffmpeg", "-v", "error", "-y", *pictures, "-f", "lavfi", "-i", f"sine=r=48000:d={_SECONDS}", "-ac", "2",
        "-c:v", *coding, "-c:a", SOUND[ending], str(path),
    ]  # fmt: skip
    done = subprocess.run(words, capture_output=True, check=False)
    return path if done.returncode == 0 and path.stat().st_size > 2000 else None


@pytest.mark.parametrize("ending", SOUND)
def test_usual_codecs_in_this_container(tmp_path: Path, ending: str, encoded: dict[str, Path]) -> None:
    assert compared_in(tmp_path, ending, USUAL[ending], encoded) == len(USUAL[ending])


@pytest.mark.long
@pytest.mark.parametrize("ending", SOUND)
def test_every_codec_in_this_container(tmp_path: Path, ending: str, encoded: dict[str, Path]) -> None:
    compared = compared_in(tmp_path, ending, VIDEO, encoded)
    assert compared >= {"webm": 3, "mxf": 4, "ts": 3, "m2ts": 3, "mpg": 3}.get(ending, 8)


def compared_in(folder: Path, ending: str, codecs: Iterable[str], encoded: dict[str, Path]) -> int:
    """How many of the codecs can be written into a container; each is compared."""
    compared = 0
    for video in codecs:
        path = make(folder, video, ending, encoded)
        try:
            said = ffprobe(path, "-count_packets") if path is not None else {"streams": []}
        except (ValueError, subprocess.CalledProcessError):
            # What was written is nonsense to its own writer.
            continue
        theirs = next((each for each in said["streams"] if each["codec_type"] == "video" and each.get("width")), None)
        if path is None or theirs is None:
            continue
        if (video, ending) == ("hevc", "avi"):
            # FFmpeg writes a mark that no reader takes for HEVC, FFmpeg's own included; we say that nothing decodes.
            assert "do not decode" in identify([path]).problems[0].what
            continue
        compared += 1
        compare(path, theirs, said["streams"], ending)
    return compared


def compare(path: Path, theirs: dict[str, object], streams: list[dict[str, object]], ending: str) -> None:
    facts = identify([path])
    video = facts.video[0]
    name = path.name
    assert facts.container == CONTAINERS[ending], name
    assert (video.codec, video.width, video.height) == (theirs["codec_name"], theirs["width"], theirs["height"]), name
    assert (video.frame_rate, video.frame_rate_mode) == (25, "constant"), name
    assert facts.frames == int(str(theirs["nb_read_packets"])), name
    assert abs(facts.duration_s - _SECONDS) <= 1 / 25 + 0.001, name
    assert video.decodable, name
    assert not facts.problems, (name, facts.problems)
    sounds = [each for each in streams if each["codec_type"] == "audio"]
    assert [(each["codec_name"], each["channels"], int(str(each["sample_rate"]))) for each in sounds] == [
        (each.codec, each.channels, each.sample_rate) for each in facts.audio
    ], name
    seen = next((track for track in MediaInfo.parse(path).tracks if track.track_type == "Video"), None)
    if seen is None:
        return
    assert not seen.frame_rate or abs(float(seen.frame_rate) - 25) < 0.01, name
    assert not seen.width or (seen.width, seen.height) == (video.width, video.height), name
    assert (seen.bit_depth or video.bit_depth) == video.bit_depth, name
    # MediaInfo takes JPEG 2000 in MOV for 4:4:4; its components in the codestream are halved, as FFmpeg and we say.
    if seen.chroma_subsampling and name != "jp2.mov":
        assert seen.chroma_subsampling.split()[0] == video.chroma, name


# -- files that are made wrong or strange on purpose ----------------------------------------------------


def ffmpeg(*words: str | Path) -> None:
    subprocess.run(["ffmpeg", "-v", "error", "-y", *map(str, words)], check=True, capture_output=True)


@pytest.fixture(scope="module")
def plain(tmp_path_factory: pytest.TempPathFactory) -> Path:
    """Two seconds of 25 pictures a second, H.264 with AAC, a key picture every half second."""
    path = tmp_path_factory.mktemp("plain") / "plain.mp4"
    ffmpeg("-f", "lavfi", "-i", "testsrc2=s=320x180:r=25:d=2", "-f", "lavfi", "-i", "sine=r=48000:d=2", "-c:v", "libx264",
           "-g", "12", "-c:a", "aac", path)  # fmt: skip
    return path


def media_info(path: Path, kind: str = "Video") -> object:
    return next(track for track in MediaInfo.parse(path).tracks if track.track_type == kind)


def test_a_transport_stream_that_starts_in_the_middle_of_a_packet(plain: Path, tmp_path: Path) -> None:
    whole, cut = tmp_path / "whole.ts", tmp_path / "cut.ts"
    ffmpeg("-i", plain, "-c", "copy", whole)
    cut.write_bytes(whole.read_bytes()[188 * 3 + 71 :])
    facts = identify([cut])
    assert facts.container == "MPEG-TS"
    assert (facts.video[0].codec, facts.video[0].frame_rate) == ("h264", 25)


def test_fragments_have_their_length_and_count(plain: Path, tmp_path: Path) -> None:
    path = tmp_path / "fragments.mp4"
    ffmpeg("-i", plain, "-c", "copy", "-movflags", "frag_keyframe+empty_moov", path)
    facts = identify([path])
    assert (facts.frames, facts.duration_s, facts.video[0].frame_rate) == (50, 2.0, 25)
    assert abs(float(media_info(path).duration) - 2000) <= 40  # type: ignore[attr-defined]
    assert not facts.problems


def test_an_edit_list_is_obeyed_as_mediainfo_does(plain: Path, tmp_path: Path) -> None:
    path = tmp_path / "edited.mp4"
    # Copying from a place between key pictures leaves earlier ones in the file, and an edit list that hides them.
    ffmpeg("-ss", "0.3", "-i", plain, "-c", "copy", path)
    facts = identify([path], "headers")
    said = media_info(path)
    assert abs(facts.duration_s - float(said.duration) / 1000) <= 0.041  # type: ignore[attr-defined]


def test_a_33_bit_clock_that_starts_again_loses_nothing(plain: Path, tmp_path: Path) -> None:
    path = tmp_path / "wrap.ts"
    # 2**33 ticks of 90 kHz are 95,443.7 s [13818-1]; one second before that.
    ffmpeg("-i", plain, "-c", "copy", "-copyts", "-output_ts_offset", "95442.6", path)
    facts = identify([path])
    assert (facts.frames, facts.video[0].frame_rate, facts.video[0].frame_rate_mode) == (50, 25, "constant")
    assert facts.duration_s == 2.0


def test_times_below_zero(plain: Path, tmp_path: Path) -> None:
    path = tmp_path / "negative.mkv"
    ffmpeg("-i", plain, "-c", "copy", "-output_ts_offset", "-1", "-avoid_negative_ts", "disabled", path)
    facts = identify([path])
    assert facts.video[0].frame_rate == 25
    assert facts.frames == int(ffprobe(path, "-count_packets")["streams"][0]["nb_read_packets"])


def test_two_picture_tracks_no_sound_and_sixteen_channels(tmp_path: Path) -> None:
    two, mute, many = tmp_path / "two.mp4", tmp_path / "mute.mov", tmp_path / "many.mov"
    ffmpeg("-f", "lavfi", "-i", "testsrc2=s=320x320:r=25:d=1", "-map", "0", "-map", "0", "-c:v", "libx264", two)
    facts = identify([two])
    assert (len(facts.video), facts.projection, facts.audio) == (2, "dual-fisheye", ())
    ffmpeg("-f", "lavfi", "-i", "testsrc2=s=320x180:r=25:d=1", "-c:v", "libx264", mute)
    assert identify([mute]).audio == ()
    assert not identify([mute]).problems
    ffmpeg("-f", "lavfi", "-i", "testsrc2=s=320x180:r=25:d=1", "-f", "lavfi", "-i", "anullsrc=cl=hexadecagonal:r=48000:d=1",
           "-c:v", "libx264", "-c:a", "pcm_s24le", many)  # fmt: skip
    sound = identify([many]).audio[0]
    assert (sound.channels, sound.bit_depth) == (16, 24)
    assert media_info(many, "Audio").channel_s == 16  # type: ignore[attr-defined]


def test_sound_shorter_than_picture_and_sound_that_is_only_declared(tmp_path: Path) -> None:
    short = tmp_path / "short.mp4"
    ffmpeg("-f", "lavfi", "-i", "testsrc2=s=320x180:r=25:d=4", "-f", "lavfi", "-i", "sine=r=48000:d=1", "-c:v", "libx264",
           "-c:a", "aac", short)  # fmt: skip
    assert "ends 3.0 s before the picture" in identify([short]).problems[0].what
    stream = tmp_path / "declared.ts"
    ffmpeg("-f", "lavfi", "-i", "testsrc2=s=320x180:r=25:d=2", "-f", "lavfi", "-i", "sine=r=48000:d=2", "-c:v", "libx264",
           "-c:a", "mp2", stream)  # fmt: skip
    data = stream.read_bytes()
    packets = [data[place : place + 188] for place in range(0, len(data), 188)]
    # FFmpeg gives the second track the packet identifier 0x101; its tables stay, its packets go.
    silent = b"".join(each for each in packets if (each[1] & 0x1F) << 8 | each[2] != 0x101)
    stream.write_bytes(silent)
    assert "declares sound that it does not have" in identify([stream]).problems[0].what


def test_pictures_in_a_codec_that_nothing_knows_open_and_decode_nowhere(tmp_path: Path) -> None:
    """MPEG-PS has no number for Motion JPEG: `ffprobe` names no codec, and no decoder can be set up for it."""
    path = tmp_path / "unnumbered.mpg"
    ffmpeg("-f", "lavfi", "-i", "testsrc2=s=320x180:r=25:d=1", "-c:v", "mjpeg", path)
    assert "codec_name" not in ffprobe(path)["streams"][0]
    depths: tuple[Depth, ...] = ("headers", "looked", "counted")
    for depth in depths:
        facts = identify([path], depth=depth)
        assert not facts.video[0].decodable
        assert "nothing installed can decode" in facts.problems[0].what
    trial = try_clip([path])
    assert (trial.problem, trial.decoded, trial.thumbnail) == (None, False, b"")
    with pytest.raises(MediaError, match="codec that nothing here knows"):
        list(Run([path], Fraction(25)).units())


def test_a_waybill_does_not_call_decoded_what_only_opens(tmp_path: Path, own_state: Path) -> None:
    card = tmp_path / "card"
    card.mkdir()
    for name, codec in (("unnumbered.mpg", "mjpeg"), ("plain.mpg", "mpeg2video")):
        ffmpeg("-f", "lavfi", "-i", "testsrc2=s=320x180:r=25:d=1", "-c:v", codec, card / name)
    done = diadoche("offload", card, "--to", tmp_path / "a", "--shoot", "Rock")
    assert "1 of 2 clips opened from the copy and decoded, at the beginning and near the end." in done.stderr
    waybill = next((tmp_path / "a/Rock/Waybills").glob("*.html")).read_text()
    assert "1 of 2 clips opened from the copy and decoded" in waybill
    assert "unnumbered: no picture that can be decoded here; it opens" in waybill


def test_a_frame_rate_of_zero_is_said(plain: Path, tmp_path: Path) -> None:
    path = tmp_path / "still.mp4"
    ffmpeg("-f", "lavfi", "-i", "testsrc2=s=320x180:r=25:d=0.04", "-c:v", "libx264", path)
    data = bytearray(path.read_bytes())
    # The only sample's duration in `stts` [14496-12, 8.6.1.2] becomes zero.
    place = data.index(b"stts") + 12
    data[place + 4 : place + 8] = bytes(4)
    path.write_bytes(bytes(data))
    facts = identify([path])
    assert not facts.video[0].frame_rate_told
    assert any("no frame rate" in problem.what for problem in facts.problems)


def test_mxf_is_entered_at_key_pictures_whatever_its_index_says(tmp_path: Path) -> None:
    """Made by the library itself: FFmpeg's program has no FFV1 in MXF before 7."""
    path = tmp_path / "x.mxf"
    with av.open(str(path), "w") as media:
        stream = media.add_stream("ffv1", rate=25, options={"g": "12", "level": "3"})
        stream.width, stream.height, stream.pix_fmt = 320, 240, "yuv422p10le"
        for number in range(60):
            frame = av.VideoFrame.from_ndarray(np.full((240, 320, 3), 4 * number, np.uint8), "rgb24")
            media.mux(stream.encode(frame.reformat(format="yuv422p10le")))
        media.mux(stream.encode())
    assert identify([path]).problems == ()
    units = list(Run([path], Fraction(25)).units(Fraction(2)))
    assert units[0].time_s <= 2
    assert not any(isinstance(unit, Missing) for unit in units)
    assert try_clip([path]).problem is None


def test_mxf_without_an_index_is_read_all_the_same(tmp_path: Path) -> None:
    path = tmp_path / "x.mxf"
    ffmpeg("-f", "lavfi", "-i", "testsrc2=s=720x576:r=25:d=1", "-c:v", "mpeg2video", "-b:v", "4M", path)
    data = bytearray(path.read_bytes())
    # Index table segments [ST 377-1, 11.2] become what no reader knows; the packets stay.
    mark = bytes.fromhex("060e2b34025301010d01020101100100")
    places = [place for place in range(len(data)) if data.startswith(mark, place)]
    assert places
    for place in places:
        data[place + 8 : place + 16] = b"\x7f" * 8
    path.write_bytes(bytes(data))
    facts = identify([path])
    assert (facts.container, facts.video[0].codec, facts.frames, facts.video[0].frame_rate) == (
        "MXF",
        "mpeg2video",
        25,
        25,
    )


def test_a_cover_inside_a_file_is_no_picture_track(plain: Path, tmp_path: Path) -> None:
    cover, path = tmp_path / "cover.jpg", tmp_path / "covered.mp4"
    ffmpeg("-f", "lavfi", "-i", "testsrc2=s=64x64:d=0.04", "-frames:v", "1", cover)
    ffmpeg("-i", plain, "-i", cover, "-map", "0", "-map", "1", "-c", "copy", "-disposition:v:1", "attached_pic", path)
    assert [video.width for video in identify([path]).video] == [320]


@pytest.mark.parametrize("degrees", [90, 180, 270])
def test_rotation_agrees_with_mediainfo(plain: Path, tmp_path: Path, degrees: int) -> None:
    path = tmp_path / "turned.mp4"
    ffmpeg("-i", plain, "-c", "copy", path)
    # A turn to the right in the track's matrix [ISO14496-12, 8.3.2], by hand: FFmpeg has other words for it in 5.1 and 7.
    cosine, sine = {90: (0, 1), 180: (-1, 0), 270: (0, -1)}[degrees]
    film = bytearray(path.read_bytes())
    matrix = (cosine, sine, 0, -sine, cosine, 0, 0, 0, 0x4000)
    struct.pack_into(">9i", film, film.index(b"tkhd") + 4 + 40, *(part << 16 for part in matrix))
    path.write_bytes(film)
    assert identify([path]).video[0].rotation == round(float(media_info(path).rotation)) == degrees  # type: ignore[attr-defined]


def test_rates_that_lie_close_together_stay_apart(tmp_path: Path) -> None:
    for rate, ending in itertools.product(
        ("24000/1001", "24", "30000/1001", "30", "60000/1001", "60"), ("mp4", "mkv", "ts")
    ):
        path = tmp_path / f"{rate.replace('/', '_')}.{ending}"
        ffmpeg(
            "-f", "lavfi", "-i", f"testsrc2=s=320x180:r={rate}:d=1.5", "-c:v", "libx264", "-preset", "ultrafast", path
        )
        assert identify([path]).video[0].frame_rate == Fraction(rate), path.name
