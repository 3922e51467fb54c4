"""Rewrapping and joining, on trees that share no code with the demo or the layouts, compared by public tools."""

from __future__ import annotations

import json
import random
import subprocess
from collections.abc import Iterator
from dataclasses import replace
from fractions import Fraction
from pathlib import Path

import pytest
from pymediainfo import MediaInfo

from diadoche.core.convert.proof import TrackDigest
from diadoche.core.convert.recipes import recipes
from diadoche.core.convert.rewrap import rewrap
from diadoche.core.convert.sources import FileSource
from diadoche.core.convert.transcode import convert
from diadoche.core.identify.probe import identify
from diadoche.core.run import Picture, Run, Unit
from diadoche.core.watch import Watch
from tests.conftest import diadoche
from tests.outside.avchd_by_hand import HEIGHT, WIDTH, Shot, make_tree, read_field
from tests.outside.public_tools import ffprobe, luma_pictures, picture_digests

TREES = [
    (1, "25", "ac3", [2, 1]),
    (2, "30000/1001", "pcm_bluray", [3]),
    (3, "25", "pcm_bluray", [5, 2]),
    (4, "30000/1001", "ac3", [1, 4]),
]


@pytest.fixture(params=TREES, ids=lambda tree: f"{tree[1].replace('/', '_')}-{tree[2]}-{tree[3]}")
def tree(request: pytest.FixtureRequest, tmp_path: Path) -> tuple[Path, list[Shot], str, str]:
    seed, rate, sound, spans = request.param
    shots = make_tree(tmp_path / "card", seed, rate, sound, spans)
    return tmp_path / "card", shots, rate, sound


def test_from_card_to_joined_files(tree: tuple[Path, list[Shot], str, str], tmp_path: Path, own_state: Path) -> None:
    card, shots, rate, sound = tree
    done = diadoche("offload", card, "--to", tmp_path / "a", "--to", tmp_path / "b", "--shoot", "S", "--json")
    told = json.loads(done.stdout)
    assert [copy["status"] for copy in told["copies"]] == ["proven", "proven"], done.stderr
    copy = Path(told["copies"][0]["root"])
    done = diadoche("rewrap", copy, "--to", tmp_path / "out", "--json")
    outputs = json.loads(done.stdout)
    assert done.returncode == 0, done.stderr
    assert len(outputs) == len(shots)
    for output, shot in zip(outputs, shots, strict=True):
        streams = [card / "PRIVATE/AVCHD/BDMV/STREAM" / f"{name}.MTS" for name in shot.names]
        assert output["packets_identical"]
        assert output["checks"] == {"frames": True, "duration": True, "sync": True, "decodes": True}
        path = Path(output["output"])
        # Pictures: each decoded picture is the same as in the spans put end to end, and each field has its number.
        assert picture_digests(str(path)) == picture_digests("concat:" + "|".join(map(str, streams)))
        luma = luma_pictures(path, WIDTH, HEIGHT)
        fields = [number for picture in luma for number in (read_field(picture[0::2]), read_field(picture[1::2]))]
        assert fields == list(range(shot.first_field, shot.first_field + 2 * shot.frames))
        _check_what_public_tools_say(path, shot, rate, sound)


def _check_what_public_tools_say(path: Path, shot: Shot, rate: str, sound: str) -> None:
    said = ffprobe(path)
    video = next(stream for stream in said["streams"] if stream["codec_type"] == "video")
    audio = next(stream for stream in said["streams"] if stream["codec_type"] == "audio")
    assert video["field_order"] == "tt"
    assert Fraction(video["avg_frame_rate"]) == Fraction(rate)
    assert int(video["nb_frames"]) == shot.frames
    assert audio["codec_name"] == ("ac3" if sound == "ac3" else "pcm_s16le")
    seconds = shot.frames / float(Fraction(rate))
    # Drift: an AC-3 frame is 32 ms, and a stream may end up to one frame late.
    assert abs(float(audio["duration"]) - seconds) < 0.04
    labels = [track.time_code_of_first_frame for track in MediaInfo.parse(path).tracks if track.track_type == "Other"]
    assert labels == [shot.timecode]
    assert said["format"]["tags"]["creation_time"].startswith("2025-07-03T09:00:00")


def test_packets_are_the_same_by_a_public_tool(camcorder: Path, tmp_path: Path) -> None:
    """The sound's packets by `ffmpeg`'s own digest; the picture's through a filter that undoes the framing."""
    stream = camcorder / "PRIVATE/AVCHD/BDMV/STREAM/00002.MTS"
    assert diadoche("rewrap", stream, "--to", tmp_path).returncode == 0
    output = next(tmp_path.glob("*.mov"))

    def packets(path: Path, track: str, *more: str) -> str:
        return subprocess.run(
            ["ffmpeg", "-v", "error", "-i", str(path), "-map", track, "-c", "copy", *more, "-f", "md5", "-"],
            capture_output=True, text=True, check=True,
        ).stdout  # fmt: skip

    assert packets(stream, "0:a:0") == packets(output, "0:a:0")
    undone = "h264_metadata=aud=remove,filter_units=remove_types=7-9"
    assert packets(stream, "0:v:0", "-bsf:v", undone) == packets(
        output, "0:v:0", "-bsf:v", f"h264_mp4toannexb,{undone}"
    )


class Losing(FileSource):
    """A source that loses a picture and says nothing."""

    def units(self, begin_s: Fraction = Fraction(0), end_s: Fraction | None = None) -> Iterator[Unit]:
        pictures = 0
        for unit in super().units(begin_s, end_s):
            pictures += isinstance(unit, Picture)
            if pictures != 10 or not isinstance(unit, Picture):
                yield unit


class Swapping(FileSource):
    """A source that shows a picture at another's time."""

    def units(self, begin_s: Fraction = Fraction(0), end_s: Fraction | None = None) -> Iterator[Unit]:
        for unit in super().units(begin_s, end_s):
            late = isinstance(unit, Picture) and unit.time_s > 1
            yield replace(unit, time_s=unit.time_s + Fraction(1, 5)) if late else unit


@pytest.mark.parametrize(("source", "check"), [(Losing, "frames"), (Swapping, "sync")])
def test_an_output_that_fails_its_check_is_not_delivered(
    drone: Path, tmp_path: Path, source: type[FileSource], check: str
) -> None:
    """What the source codes, and when it shows it, is read by other means than those that made the output."""
    path = drone / "DCIM/100DRONE/DRON0003.MP4"
    output = convert(source([path], identify([path])), recipes()["vc3-lb"], tmp_path, Watch())
    assert (output.output, output.bytes) == ("", 0)
    assert output.checks is not None
    assert not output.checks.as_dict()[check]
    assert "failed its check" in output.problems[0].what
    assert list(tmp_path.iterdir()) == []


@pytest.fixture
def broken(camcorder: Path, tmp_path: Path) -> Path:
    """A recording with a burst in its middle: headers of transport packets stay, what they carry is spoilt."""
    data = bytearray((camcorder / "PRIVATE/AVCHD/BDMV/STREAM/00002.MTS").read_bytes())
    for packet in range(6000, 6060):
        data[packet * 192 + 40 : packet * 192 + 180] = b"\xa5" * 140
    path = tmp_path / "card" / "00002.MTS"
    path.parent.mkdir()
    path.write_bytes(bytes(data))
    return path


@pytest.fixture(scope="module")
def undamaged(camcorder: Path) -> tuple[Path, list[str]]:
    """A recording, and the digests of its pictures."""
    path = camcorder / "PRIVATE/AVCHD/BDMV/STREAM/00002.MTS"
    return path, picture_digests(str(path), threads=1)


@pytest.mark.parametrize("seed", [0, 1, *(pytest.param(seed, marks=pytest.mark.long) for seed in range(2, 6))])
def test_a_concealed_picture_is_told_whichever_thread_is_first(
    undamaged: tuple[Path, list[str]], tmp_path: Path, monkeypatch: pytest.MonkeyPatch, seed: int
) -> None:
    """Against the public decoder on one thread: whether it conceals, and which pictures change by the damage."""
    monkeypatch.setattr("os.cpu_count", lambda: 16)
    sound, digests = undamaged
    spoilt = tmp_path / "00002.MTS"
    data, chance = bytearray(sound.read_bytes()), random.Random(seed)
    first = chance.randrange(300, len(data) // 192 - 300)
    for packet in range(first, first + 8):
        data[packet * 192 + 40 : packet * 192 + 180] = chance.randbytes(140)
    spoilt.write_bytes(bytes(data))
    pictures = zip(digests, picture_digests(str(spoilt), threads=1), strict=True)
    changed = {number for number, (before, after) in enumerate(pictures) if before != after}
    units = [unit for unit in Run([spoilt], None).units() if isinstance(unit, Picture)]
    told = {number for number, unit in enumerate(units) if unit.damaged}
    log = subprocess.run(
        ["ffmpeg", "-v", "verbose", "-threads", "1", "-i", str(spoilt), "-map", "0:v:0", "-f", "null", "-"],
        capture_output=True, text=True, check=True,
    ).stderr  # fmt: skip
    assert bool(told) == ("concealing" in log)
    assert told <= changed


def test_a_damaged_original_is_rewrapped_as_it_is_and_named(broken: Path, tmp_path: Path) -> None:
    output = rewrap([broken], identify([broken]), tmp_path / "out", Watch())
    assert output.packets_identical
    assert output.pictures_identical
    assert output.output
    assert picture_digests(output.output, threads=1) == picture_digests(str(broken), threads=1)


def test_a_looped_stream_whose_clock_stutters_is_still_put_into_a_container(camcorder: Path, tmp_path: Path) -> None:
    source = camcorder / "PRIVATE/AVCHD/BDMV/STREAM/00003.MTS"
    looped = tmp_path / "looped.mts"
    subprocess.run(
        ["ffmpeg", "-v", "error", "-stream_loop", "3", "-i", str(source), "-c", "copy", "-f", "mpegts", "-mpegts_m2ts_mode", "1", str(looped)],
        check=True,
    )  # fmt: skip
    output = rewrap([looped], identify([looped]), tmp_path / "out", Watch())
    assert output.packets_identical
    assert output.output, output.problems
    told = ffprobe(looped, "-count_packets")["streams"][0]["nb_read_packets"]
    assert output.frames_out == int(told)


def test_a_changed_packet_is_never_called_identical() -> None:
    one, other = TrackDigest("h264", None), TrackDigest("h264", None)
    one.take(b"\0\0\0\1\x65abc\0\0\1\x06def")
    other.take(b"\0\0\0\1\x65abc\0\0\1\x06deg")
    assert one.value() != other.value()


def test_start_codes_and_lengths_are_only_framing() -> None:
    avcc = bytes([1, 100, 0, 40, 0xFF, 0xE1])
    one, other = TrackDigest("h264", None), TrackDigest("h264", avcc)
    one.take(b"\0\0\0\1\x09\x10\0\0\0\1\x67sps\0\0\1\x65abc\0\0\1\x06def")
    other.take(b"\0\0\0\4\x65abc\0\0\0\4\x06def")
    assert one.value() == other.value()
