"""Files that were taken for spans of one clip and are not alike: said of the clip, of what is made of it, or why nothing is."""

from __future__ import annotations

from pathlib import Path

import pytest

from diadoche.core.convert.recipes import recipes
from diadoche.core.convert.rewrap import rewrap
from diadoche.core.errors import RequestError
from diadoche.core.identify.probe import identify
from diadoche.core.watch import Watch
from diadoche.services.jobs.make_output import MakeRequest, perform_make
from tests.outside.numbered import ffmpeg
from tests.outside.public_tools import picture_digests
from tests.outside.two_entries_by_hand import joined

H264 = ("-c:v", "libx264", "-color_primaries", "bt709", "-color_trc", "bt709", "-colorspace", "bt709")
HEVC = ("-c:v", "libx265", "-tag:v", "hvc1", "-x265-params")
PCM = ("-c:a", "pcm_s16le")


def span(path: Path, options: tuple[str, ...], rate: str = "25") -> Path:
    ffmpeg(
        "-f", "lavfi", "-i", f"testsrc2=s=320x240:r={rate}:d=1", "-f", "lavfi", "-i", "sine=r=48000:d=1", *options, path
    )
    return path


@pytest.fixture(params=["mov", "prores-422"])
def way(request: pytest.FixtureRequest) -> str:
    kind: str = request.param
    return kind


def told(spans: list[Path], way: str, folder: Path) -> tuple[bool, str]:
    """Whether an output was delivered, and all that was said of it."""
    facts = identify(spans)
    if way == "mov":
        output = rewrap(spans, facts, folder, Watch())
    else:
        output = perform_make(MakeRequest(tuple(spans), recipes()[way], folder), Watch())
    assert [each.what for each in facts.problems] == list(facts.span_differences)
    return bool(output.output), " ".join(each.what for each in output.problems)


@pytest.mark.parametrize(("first", "second", "words"), [
    ((*H264, *PCM), (*H264, *PCM, "-vf", "setsar=4/3"), "shape of a pixel 4:3, not 1:1"),
    ((*H264, *PCM), ("-c:v", "libx264", *PCM, "-colorspace", "bt2020nc"), "matrix BT.2020, not BT.709"),
    ((*H264, *PCM), (*H264, "-c:a", "pcm_s24le"), "sound track 1 PCM 24 bits mono 48,000 Hz, not PCM 16 bits mono"),
    ((*H264, *PCM), (*H264, "-an"), "sound track 1 none, not PCM 16 bits"),
])  # fmt: skip
def test_what_is_joined_all_the_same_is_told(
    tmp_path: Path, way: str, first: tuple[str, ...], second: tuple[str, ...], words: str
) -> None:
    spans = [span(tmp_path / "C0.mov", first), span(tmp_path / "C1.mov", second)]
    delivered, said = told(spans, way, tmp_path / "out")
    assert delivered
    assert f"C1.mov is not like C0.mov, before it in the same clip: {words}" in said or words in said
    assert words in identify(spans, "headers").span_differences[0]


def test_spans_of_one_recording_say_nothing(tmp_path: Path, way: str) -> None:
    spans = [span(tmp_path / f"C{number}.mov", (*H264, *PCM)) for number in range(3)]
    delivered, said = told(spans, way, tmp_path / "out")
    assert delivered
    assert "not like" not in said


def test_a_join_that_fails_names_the_span_that_it_comes_of(tmp_path: Path) -> None:
    spans = [
        span(tmp_path / f"C{number}.mp4", (*HEVC, f"log-level=none:ctu={unit}", "-c:a", "aac"))
        for number, unit in enumerate((64, 32))
    ]
    delivered, said = told(spans, "mov", tmp_path / "out")
    assert not delivered
    assert "C1.mp4 is not like C0.mp4, before it in the same clip: other parameters for its decoder." in said


def test_another_rate_is_named(tmp_path: Path, way: str) -> None:
    spans = [span(tmp_path / f"C{number}.mov", (*H264, *PCM), rate) for number, rate in enumerate(("25", "50"))]
    delivered, said = told(spans, way, tmp_path / "out")
    assert not delivered
    assert "C1.mov is not like C0.mov, before it in the same clip: rate 50, not 25." in said


def halves(folder: Path, *codings: tuple[str, ...]) -> tuple[Path, list[str]]:
    """One track that goes on by another entry, and the digests of its pictures."""
    parts = [folder / f"half{number}.mov" for number in range(2)]
    for number, (part, coding) in enumerate(zip(parts, codings, strict=True)):
        look = f"testsrc2=s=320x240:r=25:d=1,hue=h={90 * number}"
        ffmpeg("-f", "lavfi", "-i", look, *coding, part)
    path = joined(parts[0], parts[1], folder / "in.mov")
    digests = [digest for part in parts for digest in picture_digests(str(part))]
    assert identify([path]).frames == len(digests) == 50
    return path, digests


def test_a_track_that_goes_on_by_other_parameters(tmp_path: Path) -> None:
    path, digests = halves(tmp_path, *((*HEVC, f"log-level=none:bframes=0:ctu={unit}") for unit in (64, 32)))
    output = rewrap([path], identify([path]), tmp_path / "out", Watch())
    assert output.output, output.problems
    # Nobody but both decoders can tell whether each half is read by its own.
    assert output.pictures_identical
    assert picture_digests(output.output) == digests
    made = perform_make(MakeRequest((path,), recipes()["ffv1"], tmp_path / "ffv1"), Watch())
    assert picture_digests(made.output) == digests
    with pytest.raises(RequestError, match=r"other parameters for its decoder at 1\.00 s"):
        rewrap([path], identify([path]), tmp_path / "mkv", Watch(), container="mkv")
    assert not list((tmp_path / "mkv").iterdir())


def test_half_of_the_pictures_is_not_all_of_them(tmp_path: Path, way: str) -> None:
    # The media library leaves out what has another entry than the first: half as many, as if they were fields.
    path, _digests = halves(tmp_path, *(("-c:v", "prores_ks", "-profile:v", profile) for profile in "13"))
    facts = identify([path])
    assert "pictures of several kinds in one track (apcs, apch)" in facts.problems[-1].what
    delivered, said = told([path], way, tmp_path / "out")
    assert not delivered
    assert "of several kinds in one track (apcs, apch)" in said
    assert not list((tmp_path / "out").iterdir())


def test_parameters_that_are_only_said_again_are_no_others(tmp_path: Path) -> None:
    # FLV has them in packets of their own, which live recordings repeat (from memory: eleven bytes of head, four behind).
    plain = span(tmp_path / "plain.flv", (*H264, "-bf", "0", "-g", "10", "-c:a", "aac"))
    data, place, found = plain.read_bytes(), 13, []
    while place + 15 <= len(data):
        length = 15 + int.from_bytes(data[place + 1 : place + 4], "big")
        found.append((place, data[place], data[place + 11 : place + 13], data[place : place + length]))
        place += length
    sequence = next(tag for _at, kind, head, tag in found if kind == 9 and head == b"\x17\x00")
    key = [at for at, kind, head, _tag in found if kind == 9 and head == b"\x17\x01"][1]
    path = tmp_path / "in.flv"
    path.write_bytes(data[:key] + sequence[:4] + data[key + 4 : key + 8] + sequence[8:] + data[key:])
    output = rewrap([path], identify([path]), tmp_path / "out", Watch(), container="mkv")
    assert output.output, output.problems
    assert picture_digests(output.output) == picture_digests(str(plain))
