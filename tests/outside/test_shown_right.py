"""What the player and the small pictures show, against known colours, places of lines, and numbers in the pictures."""

from __future__ import annotations

import io
import subprocess
from collections.abc import Iterable
from fractions import Fraction
from pathlib import Path

import av
import numpy as np
import pytest

from diadoche.core.footage.display import field_of
from diadoche.core.footage.frames import FrameReader
from diadoche.core.footage.trial import first_picture
from diadoche.core.identify.probe import identify
from tests.outside.numbered import BITS, CELL, HEIGHT, WIDTH, film
from tests.outside.test_colours_come_back import COLOURS, as_yuv


def striped(path: Path, wide: int, high: int, matrix: str, *options: str) -> Path:
    """Eight stripes of known colours, without tags."""
    rgb = np.repeat(COLOURS, wide // 8, axis=0)[None].repeat(high, axis=0).astype(float)
    subprocess.run(
        ["ffmpeg", "-v", "error", "-y", "-f", "rawvideo", "-pix_fmt", "yuv422p", "-s", f"{wide}x{high}", "-r", "25", "-i", "-",
         "-c:v", "libx264", "-qp", "0", *options, str(path)],
        input=as_yuv(rgb, matrix, full=False, bits=8) * 4, check=True,
    )  # fmt: skip
    return path


@pytest.mark.parametrize(("size", "matrix"), [((1280, 720), "709"), ((720, 576), "601")])
def test_pictures_without_tags_have_the_colours_of_their_size(
    tmp_path: Path, size: tuple[int, int], matrix: str
) -> None:
    path = striped(tmp_path / "in.mov", *size, matrix)
    reader = FrameReader([path], identify([path]), size)
    picture = reader.at(0)
    reader.close()
    assert picture is not None
    part = picture.shape[1] // 8
    found = np.array([picture[100:200, n * part + 20 : n * part + part - 20].mean(axis=(0, 1)) for n in range(8)])
    assert np.abs(found - COLOURS).max() <= 3


def small(path: Path) -> np.ndarray:
    """The thumbnail of a film, decoded by FFmpeg."""
    with av.open(io.BytesIO(first_picture(path)), "r", format="image2pipe", options={"vcodec": "mjpeg"}) as media:
        return next(media.decode(video=0)).to_ndarray(format="rgb24")


def test_thumbnails_have_their_colours_shape_and_turn(tmp_path: Path) -> None:
    plain = striped(tmp_path / "in.mov", 1280, 720, "709")
    picture = small(plain)
    assert picture.shape[:2] == (108, 192)
    found = np.array([picture[40:60, n * 24 + 8 : n * 24 + 16].mean(axis=(0, 1)) for n in range(8)])
    assert np.abs(found - COLOURS).max() <= 12
    turned, narrow = tmp_path / "turned.mov", tmp_path / "narrow.mov"
    subprocess.run(
        ["ffmpeg", "-v", "error", "-y", "-display_rotation", "90", "-i", plain, "-c", "copy", turned], check=False
    )
    if not turned.exists() or identify([turned]).video[0].rotation == 0:
        subprocess.run(
            ["ffmpeg", "-v", "error", "-y", "-i", plain, "-c", "copy", "-metadata:s:v", "rotate=90", turned], check=True
        )
    rotation = identify([turned]).video[0].rotation
    assert rotation in {90, 270}
    picture = small(turned)
    assert picture.shape[:2] == (192, 108)
    # Turned clockwise by 90°, the left stripe lies at the top.
    first = picture[8:16, 40:60].mean(axis=(0, 1))
    assert np.abs(first - COLOURS[0 if rotation == 90 else 7]).max() <= 12
    striped(narrow, 720, 576, "601", "-aspect", "16:9")
    assert small(narrow).shape[:2] == (108, 192)


def test_a_clip_of_several_parts_is_shown_to_its_last(tmp_path: Path) -> None:
    spans = [
        film(tmp_path / f"C{part}.mp4", range(part * 20, part * 20 + 20), "25", "-c:v", "libx264") for part in range(3)
    ]
    reader = FrameReader(spans, identify(spans), (WIDTH, HEIGHT))
    shown = [reader.at(moment) for moment in (0, 19, 20, 45, 59, 21, 3)]
    reader.close()
    assert [read(picture) for picture in shown if picture is not None] == [0, 19, 20, 45, 59, 21, 3]


def read(picture: np.ndarray) -> int:
    return sum(int(picture[14:34, 20 + bit * CELL : 28 + bit * CELL].mean() > 125) << bit for bit in range(BITS))


@pytest.mark.parametrize("pixels", ["yuv420p", "yuv422p10le", "yuv422p10be"])
def test_both_fields_of_a_still_scene_lie_on_the_same_lines(pixels: str) -> None:
    # A ramp from top to bottom: shown field by field, nothing may bob.
    bits = 10 if "10" in pixels else 8
    frame = av.VideoFrame(64, 64, "yuv422p10le" if bits == 10 else pixels)
    for plane in frame.planes:
        kind = np.dtype("<u2" if bits == 10 else np.uint8)
        lines = np.frombuffer(plane, kind).reshape(plane.height, -1)  # type: ignore[call-overload]
        lines[:] = (np.arange(plane.height, dtype=kind) * 2 + 40)[:, None]
    frame = frame.reformat(format=pixels)
    frame.time_base = Fraction(1, 25)
    top, bottom = (field_of(frame, parity) for parity in (0, 1))
    one, other = (
        np.frombuffer(each.planes[0], "<u2" if bits == 10 else np.uint8).reshape(64, -1)[1:-1, :64].astype(int)  # type: ignore[call-overload]
        for each in (top, bottom)
    )
    assert np.array_equal(one, other)


def numbers(found: Iterable[tuple[int, np.ndarray | None]]) -> list[tuple[int, int]]:
    """The moments that have a picture, and the numbers that were read in them."""
    return [(moment, read(picture)) for moment, picture in found if picture is not None]


@pytest.mark.parametrize(
    "options",
    [
        ("-c:v", "libx264", "-g", "250", "-bf", "3"),
        ("-c:v", "libx264", "-g", "12", "-bf", "3", "-x264-params", "open-gop=1"),
        ("-c:v", "libx264", "-g", "10", "-bf", "0"),
        ("-c:v", "mpeg2video", "-g", "15", "-bf", "2", "-q:v", "2"),
        ("-c:v", "mjpeg", "-q:v", "2"),
    ],
)
@pytest.mark.parametrize("ending", ["mp4", "mkv", "ts", "mxf"])
def test_what_is_read_ahead_and_back_is_what_stands_there(
    tmp_path: Path, options: tuple[str, ...], ending: str
) -> None:
    """The number drawn into each picture, read again, whichever way it is come to: in order, backwards, or by leaps."""
    if ending in {"ts", "mxf"} and "mjpeg" in options:
        pytest.skip("they hold no Motion JPEG")
    if ending == "mxf" and "libx264" in options and options[-1] != "0":
        pytest.skip("FFmpeg's MXF does not tell when such pictures are shown: its own reader gives 14, 16, 15, 17")
    path = film(tmp_path / f"in.{ending}", range(120), "25", *options)
    reader = FrameReader([path], identify([path]), (WIDTH, HEIGHT))

    def every(_moment: int) -> bool:
        return True

    try:
        assert numbers(reader.ahead(0, every)) == [(each, each) for each in range(120)]
        for last in (119, 85, 84, 60, 12, 11, 3):
            wanted = [(each, each) for each in range(max(0, last - 19), last + 1)]
            assert numbers(reader.before(last, 20, every)) == wanted
        # Those that are not wanted are passed over; it goes on where it stopped, and from anywhere else.
        for first in (30, 31, 100, 5):
            found = reader.ahead(first, lambda moment: moment % 3 == 0)
            some = numbers(next(found) for _ in range(9))
            assert some == [(each, each) for each in range(first, first + 9) if each % 3 == 0]
        for moment in (50, 51, 49, 110, 10, 11):
            picture = reader.at(moment)
            assert picture is not None
            assert read(picture) == moment
    finally:
        reader.close()


def test_fields_and_parts_are_read_ahead_and_back(tmp_path: Path) -> None:
    spans = [
        film(tmp_path / f"C{part}.mp4", range(part * 20, part * 20 + 20), "25", "-c:v", "libx264") for part in range(3)
    ]
    reader = FrameReader(spans, identify(spans), (WIDTH, HEIGHT))
    try:
        assert numbers(reader.ahead(7, lambda _moment: True)) == [(each, each) for each in range(7, 60)]
        # No more than one part at once.
        assert numbers(reader.before(45, 30, lambda _moment: True)) == [(each, each) for each in range(40, 46)]
        assert numbers(reader.before(39, 5, lambda _moment: True)) == [(each, each) for each in range(35, 40)]
    finally:
        reader.close()


def test_the_picture_that_stands_on_is_found_however_far_back_it_is(tmp_path: Path) -> None:
    """A hole of a second: what was shown before it stands on in it."""
    whole, holed = tmp_path / "whole.mp4", tmp_path / "holed.mp4"
    film(whole, range(100), "25", "-c:v", "libx264", "-bf", "0")
    words = ["-vf", "select='not(between(n,30,54))'", "-fps_mode", "passthrough", "-c:v", "libx264", "-bf", "0"]
    subprocess.run(["ffmpeg", "-v", "error", "-y", "-i", whole, *words, holed], check=True)
    reader = FrameReader([holed], identify([holed]), (WIDTH, HEIGHT))
    try:
        for moment, number in ((52, 29), (31, 29), (56, 56), (29, 29)):
            picture = reader.at(moment)
            assert picture is not None
            assert read(picture) == number
    finally:
        reader.close()
