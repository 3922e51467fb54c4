"""Clips that were recorded lying, upside down or in a mirror: shown, converted and rewrapped as their heads say.

A track's matrix takes a point (x, y) to (ax + cy, bx + dy) [ISO14496-12, 6.2.2]: the truth here is that sum, done for each
of four corners. Values of the EXIF tag: [TIFF6, Orientation].
"""

from __future__ import annotations

import io
import struct
from pathlib import Path

import av
import numpy as np
import pytest

from diadoche.core.convert.recipes import recipes
from diadoche.core.convert.rewrap import rewrap
from diadoche.core.footage.frames import FrameReader, shape_of
from diadoche.core.footage.trial import first_picture
from diadoche.core.identify.probe import identify
from diadoche.core.orientation import Orientation
from diadoche.core.watch import Watch
from diadoche.services.jobs.make_output import MakeRequest, perform_make
from tests.outside.numbered import ffmpeg

MATRICES = [
    (x * a, x * b, y * c, y * d) for a, b, c, d in ((1, 0, 0, 1), (0, 1, 1, 0)) for x in (1, -1) for y in (1, -1)
]
# Left above, right above, left below, right below.
CORNERS = {(0, 0): (200, 30, 30), (1, 0): (30, 200, 30), (0, 1): (30, 30, 200), (1, 1): (200, 200, 200)}


@pytest.fixture(scope="module")
def plain(tmp_path_factory: pytest.TempPathFactory) -> Path:
    path = tmp_path_factory.mktemp("plain") / "in.mp4"
    boxes = ",".join(
        f"drawbox=x={x * 160}:y={y * 120}:w=160:h=120:t=fill:c=0x{red:02x}{green:02x}{blue:02x}"
        for (x, y), (red, green, blue) in CORNERS.items()
    )
    ffmpeg(
        "-f",
        "lavfi",
        "-i",
        f"color=s=320x240:r=25:d=0.4,format=gbrp,{boxes}",
        "-c:v",
        "libx264",
        "-pix_fmt",
        "yuv420p",
        path,
    )
    return path


def oriented(plain: Path, path: Path, matrix: tuple[int, int, int, int]) -> Path:
    a, b, c, d = matrix
    film = bytearray(plain.read_bytes())
    numbers = (a << 16, b << 16, 0, c << 16, d << 16, 0, 0, 0, 1 << 30)
    struct.pack_into(">9i", film, film.index(b"tkhd") + 4 + 40, *numbers)
    path.write_bytes(film)
    return path


def expected(matrix: tuple[int, int, int, int]) -> list[tuple[int, int, int]]:
    """The colours of the corners as they are shown."""
    a, b, c, d = matrix
    places = {}
    for (x, y), colour in CORNERS.items():
        # From the middle, so that nothing has to be moved back into the picture.
        across, down = 2 * x - 1, 2 * y - 1
        places[(a * across + c * down + 1) // 2, (b * across + d * down + 1) // 2] = colour
    return [places[corner] for corner in CORNERS]


def corners(picture: np.ndarray) -> list[tuple[int, ...]]:
    high, wide = picture.shape[:2]
    found = [picture[high // 4 + y * high // 2, wide // 4 + x * wide // 2] for x, y in CORNERS]
    return [tuple(200 if value > 115 else 30 for value in pixel) for pixel in found]


def seen(path: Path) -> list[tuple[int, ...]]:
    facts = identify([path])
    shape = shape_of(facts)
    assert (shape.width > shape.height) == (not facts.video[0].rotation % 180)
    reader = FrameReader([path], facts, (shape.width, shape.height))
    picture = reader.at(2)
    reader.close()
    assert picture is not None
    return corners(picture)


@pytest.mark.parametrize("matrix", MATRICES)
def test_a_clip_is_shown_and_delivered_as_its_matrix_says(
    plain: Path, tmp_path: Path, matrix: tuple[int, int, int, int]
) -> None:
    path = oriented(plain, tmp_path / "in.mp4", matrix)
    assert seen(path) == expected(matrix)
    with av.open(io.BytesIO(first_picture(path)), "r", format="image2pipe", options={"vcodec": "mjpeg"}) as media:
        assert corners(next(media.decode(video=0)).to_ndarray(format="rgb24")) == expected(matrix)
    made = [rewrap([path], identify([path]), tmp_path / "out", Watch(), container=each) for each in ("mov", "mkv")]
    made += [
        perform_make(MakeRequest((path,), recipes()[each], tmp_path / each), Watch()) for each in ("prores-422", "ffv1")
    ]
    for output in made:
        assert seen(Path(output.output)) == expected(matrix), output.recipe
    converted = Path(made[2].output).read_bytes()
    a, b, c, d = struct.unpack_from(">ii4xii", converted, converted.index(b"tkhd") + 4 + 40)
    assert (a >> 16, b >> 16, c >> 16, d >> 16) == matrix
    # What holds no orientation says so before the start.
    facts = identify([path]).video[0]
    lost = [each for each in made[2].problems if "mirror" in each.what or "rotation" in each.what]
    assert not lost
    withheld = perform_make(MakeRequest((path,), recipes()["stills-png"], tmp_path / "stills"), Watch())
    told = " ".join(each.what for each in withheld.problems)
    assert ("mirroring" in told, "rotation" in told) == (facts.mirrored, bool(facts.rotation))


def test_the_tag_of_pictures_means_what_its_words_say() -> None:
    # "The 0th row represents the visual top, and the 0th column the visual right" is 2, and so on.
    sides = {1: "top left", 2: "top right", 3: "bottom right", 4: "bottom left", 5: "left top", 6: "right top", 7: "right bottom", 8: "left bottom"}  # fmt: skip
    where = {"top": (0, -1), "bottom": (0, 1), "left": (-1, 0), "right": (1, 0)}
    for value, words in sides.items():
        row, column = (where[side] for side in words.split())
        a, b, c, d = (number // (1 << 16) for number in np.array(Orientation.of_exif(value).matrix)[[0, 1, 3, 4]])
        # The 0th row lies up, at (0, -1); the 0th column lies left, at (-1, 0).
        assert (-c, -d) == row, value
        assert (-a, -b) == column, value


def test_a_matrix_that_makes_no_sense_turns_nothing() -> None:
    assert Orientation.of_matrix(0, 0, 0, 0) == Orientation()
    assert Orientation.of_pose(float("nan"), float("inf")) == Orientation()
    assert Orientation.of_exif(9) == Orientation()
