"""Pictures that are coded in another order than they are shown in.

AVI numbers them as they are coded: there their own heads tell when they are shown.
"""

from __future__ import annotations

from collections.abc import Sequence
from fractions import Fraction
from pathlib import Path

import pytest

from diadoche.core.convert.recipes import recipes
from diadoche.core.convert.rewrap import rewrap
from diadoche.core.footage.frames import FrameReader
from diadoche.core.identify.picture_order import avi_times
from diadoche.core.identify.probe import identify
from diadoche.core.run import Picture, Run
from diadoche.core.watch import Watch
from diadoche.services.jobs.make_output import MakeRequest, perform_make
from tests.outside.numbered import BITS, CELL, HEIGHT, WIDTH, film, numbers_of, times_of

PICTURES = 75
EVEN = [number / 25 for number in range(PICTURES)]


def between(folder: Path, *options: str, codec: str = "libx264") -> Path:
    return film(folder / "in.avi", range(PICTURES), "25", "-c:v", codec, "-g", "25", *options, sound=False)


WAYS = {
    "two between": ("libx264", "-x264-params", "b-adapt=0:bframes=2"),
    "a pyramid": ("libx264", "-x264-params", "b-adapt=0:bframes=5:b-pyramid=normal"),
    "open groups": ("libx264", "-x264-params", "b-adapt=0:bframes=3:open-gop=1"),
    "none between": ("libx264", "-x264-params", "bframes=0"),
    "HEVC, three between": ("libx265", "-x265-params", "log-level=none:b-adapt=0:bframes=3:repeat-headers=1", "-tag:v", "HEVC"),
    "HEVC, none between": ("libx265", "-x265-params", "log-level=none:bframes=0:repeat-headers=1", "-tag:v", "HEVC"),
    "MPEG-4, two between": ("mpeg4", "-bf", "2", "-q:v", "2"),
    "Motion JPEG": ("mjpeg", "-q:v", "2"),
}  # fmt: skip


@pytest.fixture(params=WAYS)
def numbered(request: pytest.FixtureRequest, tmp_path: Path) -> Path:
    codec, *options = WAYS[request.param]
    return between(tmp_path, *options, "-color_range", "tv", codec=codec)


@pytest.mark.parametrize("container", ["mov", "mkv"])
def test_a_rewrap_shows_every_picture_at_its_time(numbered: Path, tmp_path: Path, container: str) -> None:
    output = rewrap([numbered], identify([numbered]), tmp_path / "out", Watch(), container=container)
    assert output.output, output.problems
    assert not output.findings
    assert numbers_of(Path(output.output)) == list(range(PICTURES))
    assert times_of(Path(output.output)) == pytest.approx(EVEN, abs=2e-3)


@pytest.mark.parametrize("marks", [None, ("33", "61")])
def test_a_conversion_has_every_picture(numbered: Path, tmp_path: Path, marks: tuple[str, str] | None) -> None:
    output = perform_make(MakeRequest((numbered,), recipes()["vc3-hqx"], tmp_path / "out", marks=marks), Watch())
    assert output.output, output.problems
    assert not output.findings
    first, end = (33, 61) if marks else (0, PICTURES)
    assert numbers_of(Path(output.output)) == list(range(first, end))


def test_decoded_pictures_come_in_their_order(numbered: Path) -> None:
    shown = [round(unit.time_s * 25) for unit in Run([numbered], Fraction(25)).units() if isinstance(unit, Picture)]
    assert shown == list(range(PICTURES))


def test_the_player_shows_the_picture_that_is_asked_for(numbered: Path) -> None:
    shows_each(numbered)


def test_the_player_begins_at_the_beginning_of_other_files(tmp_path: Path) -> None:
    """Readers that take a time before the first picture for an error."""
    shows_each(film(tmp_path / "in.flv", range(PICTURES), "25", "-c:v", "libx264", "-bf", "2", sound=False))


def shows_each(numbered: Path, numbers: Sequence[int] = (40, 41, 42, 43, 44, 12, 11, 10, 74, 0, 1)) -> None:
    reader = FrameReader([numbered], identify([numbered]), (WIDTH, HEIGHT))
    try:
        for wanted in numbers:
            picture = reader.at(wanted)
            assert picture is not None
            cells = [picture[24, 16 + bit * CELL + CELL // 2].mean() > 128 for bit in range(BITS)]
            assert sum(1 << bit for bit, is_set in enumerate(cells) if is_set) == wanted
    finally:
        reader.close()


def test_only_avi_is_asked(tmp_path: Path) -> None:
    path = film(tmp_path / "in.mov", range(30), "25", "-c:v", "libx264", "-bf", "2", sound=False)
    assert avi_times([path]) is None


@pytest.mark.parametrize("ending", ["mp4", "mkv", "ts"])
def test_pictures_seconds_apart_are_no_clock_that_starts_again(tmp_path: Path, ending: str) -> None:
    # A picture in two seconds, shown before others that are coded first: stamps go back by four seconds.
    source = film(tmp_path / f"in.{ending}", range(24), "1/2", "-c:v", "libx264", "-bf", "3", "-g", "12", sound=False)
    facts = identify([source])
    for container in ("mov", "mkv"):
        output = rewrap([source], facts, tmp_path / "out", Watch(), container=container)
        assert output.output, output.problems
        assert numbers_of(Path(output.output)) == list(range(24))
        times = times_of(Path(output.output))
        assert [time - times[0] for time in times] == pytest.approx([2 * number for number in range(24)], abs=0.002)
    shows_each(source, (13, 14, 0, 23, 12, 11, 1))


@pytest.mark.parametrize(("ending", "sound"), [("avi", "pcm_s16le"), ("flv", "aac")])
def test_holes_between_pictures_stay_where_they_are(tmp_path: Path, ending: str, sound: str) -> None:
    # An AVI numbers pictures that are not there; the media library takes the next one's number for when one is shown.
    gone = {20, 21, 22, 23, 24, 40}
    there = [number for number in range(60) if number not in gone]
    kept = "not(between(n,20,24))*not(eq(n,40))"
    source = film(tmp_path / f"in.{ending}", range(60), "25", "-c:v", "libx264", "-bf", "0", "-c:a", sound, kept=kept)
    for container in ("mov", "mkv"):
        output = rewrap([source], identify([source]), tmp_path / "out", Watch(), container=container)
        assert output.output, output.problems
        assert numbers_of(Path(output.output)) == there
        times = times_of(Path(output.output))
        assert [time - times[0] for time in times] == pytest.approx([number / 25 for number in there], abs=0.002)
    made = perform_make(MakeRequest((source,), recipes()["ffv1"], tmp_path / "made"), Watch())
    expected = [max(number for number in there if number <= place) for place in range(60)]
    assert numbers_of(Path(made.output)) == expected, made.problems
