"""Date and timecode inside DV pictures, as FFmpeg writes them, against MediaInfo's own reader."""

from __future__ import annotations

from datetime import UTC, datetime
from pathlib import Path

import pytest
from pymediainfo import MediaInfo

from diadoche.core.identify.packs import dv_packs
from diadoche.core.identify.probe import identify
from tests.outside.test_every_container import ffmpeg

SIZES = {"625": ("720x576", "25", "yuv420p", ":"), "525": ("720x480", "30000/1001", "yuv411p", ";")}


def _dv(folder: Path, lines: str, date: str = "2009-02-03T23:05:06") -> Path:
    size, rate, pixels, mark = SIZES[lines]
    path = folder / f"{lines}.dv"
    picture = ["-f", "lavfi", "-i", f"testsrc2=s={size}:r={rate}:d=0.2", "-f", "lavfi", "-i", "sine=r=48000:d=0.2"]
    words = ["-ac", "2", "-pix_fmt", pixels, "-timecode", f"10:41:07{mark}12", "-metadata", f"creation_time={date}"]
    ffmpeg(*picture, *words, "-f", "dv", path)
    return path


@pytest.mark.parametrize("ending", ["dv", "avi", "mov"])
@pytest.mark.parametrize("lines", SIZES)
def test_date_and_timecode_are_mediainfos(tmp_path: Path, lines: str, ending: str) -> None:
    path = _dv(tmp_path, lines)
    if ending != "dv":
        ffmpeg("-i", path, "-c", "copy", path.with_suffix(f".{ending}"))
        path = path.with_suffix(f".{ending}")
    facts = identify([path], "headers")
    told = MediaInfo.parse(path)
    assert facts.start == datetime(2009, 2, 3, 23, 5, 6, tzinfo=UTC)
    assert told.general_tracks[0].recorded_date == f"{facts.start:%Y-%m-%d %H:%M:%S}.000"
    assert told.video_tracks[0].time_code_of_first_frame == facts.video[0].timecode == f"10:41:07{SIZES[lines][3]}12"
    assert facts.origin == "camera"


@pytest.mark.parametrize(("date", "start"), [("1970-01-01T00:00:00", None), ("1999-12-31T23:59:59", 1999)])
def test_years_of_two_digits(tmp_path: Path, date: str, start: int | None) -> None:
    facts = identify([_dv(tmp_path, "625", date)], "headers")
    assert (facts.start.year if facts.start else None) == start


def test_pictures_without_packs_say_nothing(tmp_path: Path) -> None:
    path = tmp_path / "bare.avi"
    ffmpeg("-f", "lavfi", "-i", "testsrc2=s=720x576:r=25:d=0.2", "-c:v", "dvvideo", "-pix_fmt", "yuv420p", path)
    facts = identify([path], "headers")
    assert (facts.start, facts.video[0].timecode, facts.origin) == (None, None, "converted")
    assert dv_packs(bytes(12000)) is None
    assert dv_packs(b"\xff" * 144000) is None
    assert dv_packs(b"") is None
