"""The verdict on the scan against FFmpeg's `idet`, on real films, on fine patterns that move, and on film in fields."""

from __future__ import annotations

from pathlib import Path

import numpy as np
import pytest

from diadoche.core.identify.probe import identify
from tests.outside.numbered import ffmpeg
from tests.outside.public_tools import idet_counts
from tests.outside.test_real_files import _FILMS, film

KEEP = ("-c:v", "libx264", "-preset", "ultrafast", "-crf", "10", "-pix_fmt", "yuv420p")


@pytest.mark.parametrize("name", _FILMS)
@pytest.mark.parametrize("begin_s", [0, 1.7, 3])
def test_real_films_are_progressive(tmp_path: Path, name: str, begin_s: float) -> None:
    path = tmp_path / "part.mp4"
    ffmpeg("-ss", str(begin_s), "-t", "1.6", "-i", film(name), "-an", *KEEP, path)
    # So small and blurred that `idet` takes one of them for fields: it was never of fields (from memory).
    if not name.startswith("carphone"):
        found = idet_counts(path)
        assert found["TFF"] + found["BFF"] <= found["Progressive"] // 5
    assert identify([path], "looked").video[0].scan in {"progressive", "undecided"}


@pytest.mark.parametrize("name", ["bikes.mp4", "bigbuckbunny.mp4"])
@pytest.mark.parametrize("order", ["top", "bottom"])
def test_real_films_woven_into_fields_are_interlaced(tmp_path: Path, name: str, order: str) -> None:
    path = tmp_path / "fields.mp4"
    mode = "interleave_top" if order == "top" else "interleave_bottom"
    ffmpeg("-i", film(name), "-an", "-vf", f"tinterlace={mode}", *KEEP, "-flags", "+ildct+ilme", path)
    found = idet_counts(path)
    assert found["TFF" if order == "top" else "BFF"] > found["Progressive"]
    video = identify([path], "looked").video[0]
    assert (video.scan, video.field_order, video.pulldown) == ("interlaced", order, False)


@pytest.mark.parametrize("name", ["bikes.mp4", "bigbuckbunny.mp4"])
def test_film_in_fields_is_told_as_such(tmp_path: Path, name: str) -> None:
    path = tmp_path / "film.mp4"
    ffmpeg("-i", film(name), "-an", "-vf", "setpts=N*1001/24000/TB,fps=24000/1001,telecine=pattern=23:first_field=top",
           "-r", "30000/1001", *KEEP, "-flags", "+ildct+ilme", path)  # fmt: skip
    video = identify([path], "looked").video[0]
    assert (video.scan, video.pulldown, video.field_order) == ("interlaced", True, "top")


@pytest.mark.parametrize("period", [2, 3, 4, 5, 6, 8])
@pytest.mark.parametrize("step", [1, 2, 3])
def test_fine_patterns_that_move_are_no_fields(tmp_path: Path, period: int, step: int) -> None:
    # Stripes as fine as lines, moving up and down in a part of the picture: to the fields' eye they comb either way.
    pictures = []
    for number in range(60):
        picture = np.full((240, 320), 100, np.uint8)
        place = abs(number % 20 - 10) * step
        lines = (np.arange(80) + place) % period < period // 2
        picture[80:160, 100:220] = np.where(lines, 200, 40)[:, None]
        picture[20:50, number * 4 % 280 : number * 4 % 280 + 40] = 180
        pictures.append(picture.tobytes() + bytes([128]) * (320 * 240 // 2))
    path = tmp_path / "stripes.mp4"
    ffmpeg(
        "-f",
        "rawvideo",
        "-pix_fmt",
        "yuv420p",
        "-s",
        "320x240",
        "-r",
        "25",
        "-i",
        "-",
        *KEEP,
        path,
        given=b"".join(pictures),
    )
    assert identify([path], "looked").video[0].scan in {"progressive", "undecided"}


@pytest.mark.parametrize("rate", ["50", "60000/1001", "120"])
def test_faster_than_any_fields_are_whole_pictures(tmp_path: Path, rate: str) -> None:
    # A fine pattern that moves, which `idet` takes for fields at every rate.
    path = tmp_path / "in.mp4"
    ffmpeg("-f", "lavfi", "-i", f"testsrc2=s=320x240:r={rate}:d=1", "-c:v", "libx264", path)
    video = identify([path]).video[0]
    assert (video.scan, video.field_order, video.interlaced) == ("progressive", None, False)
