"""What the head of a rewrap says of its pictures: the same packets are other pictures where it names another kind."""

from __future__ import annotations

import re
import shutil
import zlib
from pathlib import Path

import pytest
from pymediainfo import MediaInfo

from diadoche.core.boxes import find, inner_boxes, movie_payload
from diadoche.core.convert import rewrap as rewrapping
from diadoche.core.convert.outputs import Output
from diadoche.core.convert.read_back import ReadBack, read_back
from diadoche.core.convert.recipes import recipes
from diadoche.core.convert.rewrap import rewrap
from diadoche.core.identify.probe import identify
from diadoche.core.watch import Watch
from diadoche.services.jobs.make_output import MakeRequest, perform_make
from tests.outside.numbered import ffmpeg
from tests.outside.public_tools import ffprobe, picture_digests

# [RDD36] and its names in sample entries, by the number that FFmpeg's encoder has for each.
PRORES = {"0": "apco", "1": "apcs", "2": "apcn", "3": "apch", "4": "ap4h", "5": "ap4x"}


def made(path: Path, *options: str) -> Path:
    ffmpeg("-f", "lavfi", "-i", "testsrc2=s=320x240:r=25:d=0.4", *options, path)
    return path


def rewrapped(source: Path, folder: Path, container: str) -> Output:
    return rewrap([source], identify([source]), folder, Watch(), container=container)


def entry(path: Path) -> str:
    """The type of the first sample entry, by its bytes [ISO14496-12, 8.5.2]."""
    description = next(find(movie_payload(path) or b"", "trak", "mdia", "minf", "stbl", "stsd"))
    return next(inner_boxes(description[8:]))[0]


@pytest.mark.parametrize("ending", ["mov", "mkv"])
@pytest.mark.parametrize("profile", PRORES)
def test_prores_stays_what_it_is(tmp_path: Path, profile: str, ending: str) -> None:
    pixels = "yuva444p10le" if profile in "45" else "yuv422p10le"
    source = made(tmp_path / f"in.{ending}", "-c:v", "prores_ks", "-profile:v", profile, "-pix_fmt", pixels)
    output = rewrapped(source, tmp_path / "out", "mov")
    assert output.output, output.problems
    assert entry(Path(output.output)) == PRORES[profile]
    assert picture_digests(output.output) == picture_digests(str(source))
    # And again out of Matroska, whose head has a place for it as well.
    there = rewrapped(Path(output.output), tmp_path / "there", "mkv")
    back = rewrapped(Path(there.output), tmp_path / "back", "mov")
    assert entry(Path(back.output)) == PRORES[profile]
    assert ffprobe(Path(there.output))["streams"][0]["profile"] == ffprobe(source)["streams"][0]["profile"]


@pytest.mark.parametrize("coding", [("prores_ks", "yuv422p10le"), ("jpeg2000", "yuv422p"), ("v210", "yuv422p10le")])
def test_pixels_keep_their_shape_where_the_head_alone_tells_it(tmp_path: Path, coding: tuple[str, str]) -> None:
    encoder, pixels = coding
    source = made(tmp_path / "in.mov", "-vf", "setsar=4/3", "-c:v", encoder, "-pix_fmt", pixels)
    output = rewrapped(source, tmp_path / "out", "mov")
    assert output.output, output.problems
    shapes = [float(MediaInfo.parse(each).video_tracks[0].pixel_aspect_ratio) for each in (source, output.output)]
    assert shapes == pytest.approx([4 / 3, 4 / 3], abs=0.001)
    assert not any("says" in each.what for each in output.problems)
    if encoder == "v210":
        return
    output = rewrapped(source, tmp_path / "mkv", "mkv")
    assert output.output, output.problems
    assert float(MediaInfo.parse(output.output).video_tracks[0].pixel_aspect_ratio) == pytest.approx(4 / 3, abs=0.001)
    assert picture_digests(output.output) == picture_digests(str(source))
    assert_whole(Path(output.output))


def assert_whole(path: Path) -> None:
    """Each sum of a Matroska file's head is right, and its list of contents points to what it names [RFC8794, RFC9559]."""
    data = path.read_bytes()
    segment = data.index(b"\x18\x53\x80\x67") + 12
    seen, place = {}, segment
    while place < len(data):
        first = data[place]
        name_bytes = 9 - first.bit_length()
        size_bytes = 9 - data[place + name_bytes].bit_length()
        field = int.from_bytes(data[place + name_bytes : place + name_bytes + size_bytes], "big")
        size = field & ((1 << 7 * size_bytes) - 1)
        begin = place + name_bytes + size_bytes
        body = data[begin : begin + size]
        seen[place - segment] = data[place : place + name_bytes]
        if body[:2] == b"\xbf\x84":
            assert int.from_bytes(body[2:6], "little") == zlib.crc32(body[6:]), data[place : place + name_bytes]
        if first == 0x11:
            seeks = body
        place = begin + size
    assert place == len(data)
    entries = re.findall(rb"\x53\xab\x84(....)\x53\xac([\x81-\x88])", seeks, re.DOTALL)
    assert len(entries) >= 3
    for match in re.finditer(rb"\x53\xab\x84(....)\x53\xac([\x81-\x88])", seeks, re.DOTALL):
        length = match[2][0] & 15
        assert seen[int.from_bytes(seeks[match.end() : match.end() + length], "big")] == match[1]


@pytest.mark.parametrize(("shape", "size"), [("16/15", "720x576"), ("32/27", "720x480"), ("4/3", "320x240")])
def test_a_conversion_to_matroska_keeps_the_shape_of_its_pixels(tmp_path: Path, shape: str, size: str) -> None:
    source = made(tmp_path / "in.mov", "-s", size, "-vf", f"setsar={shape}", "-c:v", "mpeg4", "-q:v", "3")
    told = identify([source]).video[0].pixel_aspect
    output = perform_make(MakeRequest((source,), recipes()["ffv1"], tmp_path / "out"), Watch())
    assert output.output, output.problems
    assert ffprobe(Path(output.output))["streams"][0]["sample_aspect_ratio"] == f"{told.numerator}:{told.denominator}"
    assert told != 1
    assert not any("does not say" in each.what and "shape" in each.what for each in output.problems)
    assert_whole(Path(output.output))


def test_a_container_that_takes_no_shape_is_told(tmp_path: Path) -> None:
    source = made(tmp_path / "in.mov", "-vf", "setsar=4/3", "-c:v", "libx264", "-pix_fmt", "yuv420p")
    output = perform_make(MakeRequest((source,), recipes()["vc3-hq-mxf"], tmp_path / "out"), Watch())
    assert output.output, output.problems
    assert any("shape of a pixel 4:3, not 1:1" in each.what for each in output.problems)


def test_a_head_that_names_another_kind_is_found(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    # The file is changed on the disk, behind the back of whoever wrote it and before it is read again.
    source = made(tmp_path / "in.mov", "-c:v", "prores_ks", "-profile:v", "4", "-pix_fmt", "yuva444p10le")

    def changed(part: Path, *others: object) -> ReadBack:
        film = part.read_bytes()
        assert film.count(b"ap4h") == 1
        part.write_bytes(film.replace(b"ap4h", b"apch"))
        shutil.copy(part, tmp_path / "seen.mov")
        return read_back(part, *others)  # type: ignore[arg-type]

    monkeypatch.setattr(rewrapping, "read_back", changed)
    output = rewrap([source], identify([source]), tmp_path / "out", Watch(), container="mov", decode_check=False)
    assert not output.output
    assert "variant of the codec 4444, not HQ" in output.problems[-1].what
    assert not list((tmp_path / "out").iterdir())
    assert picture_digests(str(tmp_path / "seen.mov")) != picture_digests(str(source))


@pytest.mark.parametrize("pixels", ["yuv410p", "yuv411p", "yuv440p"])
def test_colour_is_as_dense_as_it_was_where_nothing_is_to_be_lost(tmp_path: Path, pixels: str) -> None:
    source = made(tmp_path / "in.mkv", "-c:v", "ffv1", "-pix_fmt", pixels)
    output = perform_make(MakeRequest((source,), recipes()["ffv1"], tmp_path / "out"), Watch())
    assert ffprobe(Path(output.output))["streams"][0]["pix_fmt"] == pixels
    assert picture_digests(output.output) == picture_digests(str(source))
