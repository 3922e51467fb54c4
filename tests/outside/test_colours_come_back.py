"""Known RGB, written as YUV by arithmetic, through every recipe, and read back by FFmpeg with the tags it finds."""

from __future__ import annotations

import subprocess
from collections.abc import Callable, Sequence
from dataclasses import dataclass
from functools import partial
from itertools import product
from pathlib import Path
from typing import Any

import numpy as np
import pytest

from diadoche.core.convert.formats import PictureFormat
from diadoche.core.convert.recipes import recipes
from diadoche.core.identify.facts import Facts
from diadoche.core.identify.probe import identify
from diadoche.core.watch import Watch
from diadoche.services.jobs.make_output import MakeRequest, perform_make
from tests.outside.public_tools import ffprobe_pictures, reading, tagged
from tests.outside.recipe_names import EVERY_RECIPE

# Kr and Kb [BT601-7, BT709-6, BT2020-2].
KR_KB = {"601": (0.299, 0.114), "709": (0.2126, 0.0722), "2020": (0.2627, 0.0593)}
TAGS = {
    "601": ("smpte170m", "smpte170m", "smpte170m"),
    "709": ("bt709", "bt709", "bt709"),
    "2020": ("bt2020", "bt709", "bt2020nc"),
}
COLOURS = np.array(
    [
        (191, 30, 62),
        (235, 235, 235),
        (16, 16, 16),
        (40, 180, 90),
        (30, 60, 200),
        (200, 180, 40),
        (120, 120, 120),
        (250, 120, 10),
    ]
)
SIZE = (640, 360)


def patches(size: tuple[int, int] = SIZE) -> np.ndarray:
    """RGB, shape (height, width, 3): eight flat stripes."""
    width, height = size
    return np.repeat(COLOURS, width // 8, axis=0)[None].repeat(height, axis=0).astype(float)


def as_yuv(rgb: np.ndarray, matrix: str, *, full: bool, bits: int) -> bytes:
    """Planar 4:2:2 by the definitions, rounded once."""
    kr, kb = KR_KB[matrix]
    red, green, blue = (rgb[..., place] / 255 for place in range(3))
    luma = kr * red + (1 - kr - kb) * green + kb * blue
    cb, cr = (blue - luma) / (2 - 2 * kb), (red - luma) / (2 - 2 * kr)
    one = 1 << (bits - 8)
    if full:
        top = (256 * one) - 1
        planes = luma * top, cb * top + 128 * one, cr * top + 128 * one
    else:
        planes = (16 + 219 * luma) * one, (128 + 224 * cb) * one, (128 + 224 * cr) * one
    kind = np.uint8 if bits == 8 else np.dtype("<u2")
    y, u, v = (np.clip(np.rint(plane), 0, 256 * one - 1).astype(kind) for plane in planes)
    return y.tobytes() + u[:, ::2].tobytes() + v[:, ::2].tobytes()


def read_rgb(path: Path, size: tuple[int, int] = SIZE) -> np.ndarray:
    """The first picture as a player shows it: 16 bits of RGB by the file's own tags, as 8-bit values, shape (8, 3)."""
    data = subprocess.run(
        ["ffmpeg", "-v", "error", *reading(path), "-frames:v", "1", "-vf", "scale=flags=accurate_rnd+full_chroma_int+full_chroma_inp",
         "-pix_fmt", "rgb48le", "-f", "rawvideo", "-"],
        capture_output=True, check=True,
    ).stdout  # fmt: skip
    width, height = size
    stripes = np.frombuffer(data, "<u2").reshape(height, 8, width // 8, 3)
    return stripes[100:260, :, 24:-24].mean(axis=(0, 2)) / 257


def write(path: Path, picture: bytes, pixels: str, *options: str, size: tuple[int, int] = SIZE) -> Path:
    subprocess.run(
        ["ffmpeg", "-v", "error", "-y", "-f", "rawvideo", "-pix_fmt", pixels, "-s", f"{size[0]}x{size[1]}", "-r", "25", "-i", "-",
         *tagged(options), *options, str(path)],
        input=picture * 4, check=True,
    )  # fmt: skip
    return path


def convert(source: Source, recipe: str, folder: Path) -> Path:
    output = perform_make(MakeRequest((source.path,), recipes()[recipe], folder, facts=source.facts), Watch())
    assert output.output, output.problems
    return Path(output.output)


@dataclass(frozen=True)
class Source:
    """A file, its colours as a player shows them, and what is known of it."""

    path: Path
    colours: np.ndarray
    facts: Facts


class Sources:
    """Sources that several recipes are tried on, each written and read back once."""

    def __init__(self, folder: Path) -> None:
        self._folder = folder
        self._made: dict[str, Source] = {}

    def get(
        self, name: str, picture: Callable[[], bytes], pixels: str, *options: str, size: tuple[int, int] = SIZE
    ) -> Source:
        if name not in self._made:
            path = write(self._folder / name, picture(), pixels, *options, size=size)
            self._made[name] = Source(path, read_rgb(path, size), identify([path]))
        return self._made[name]


@pytest.fixture(scope="module")
def sources(tmp_path_factory: pytest.TempPathFactory) -> Sources:
    return Sources(tmp_path_factory.mktemp("sources"))


def in_turn(kinds: Sequence[tuple[Any, ...]], times: int, among: int = 0) -> list[Any]:
    """Kinds of sources with every recipe: each usual recipe with so many kinds, in turn; all others are long.

    Args:
        kinds: what is known of each.
        times: how many of them a recipe gets.
        among: of the first so many; of all where there is none.
    """
    usual = [recipe for recipe in EVERY_RECIPE if isinstance(recipe, str)]
    among = among or len(kinds)
    cases = []
    for place, recipe in enumerate([*usual, *sorted(set(recipes()).difference(usual))]):
        for number, kind in enumerate(kinds):
            wanted = place < len(usual) and number < among and (number - place) % among < times
            name = "-".join(str(each) for each in (*kind, recipe))
            cases.append(pytest.param(*kind, recipe, id=name, marks=[] if wanted else pytest.mark.long))
    return cases


# Each two of matrix, range and depth together; all threes follow.
LATIN = [
    ("601", False, 10),
    ("709", True, 10),
    ("2020", False, 10),
    ("601", True, 8),
    ("709", False, 8),
    ("2020", True, 8),
]
TAGGED = [*LATIN, *sorted(set(product(KR_KB, (False, True), (8, 10))).difference(LATIN))]


@pytest.mark.parametrize(("matrix", "full", "bits", "recipe"), in_turn(TAGGED, 3, len(LATIN)))
def test_tagged_colours_come_back(
    sources: Sources, tmp_path: Path, matrix: str, full: bool, bits: int, recipe: str
) -> None:
    primaries, transfer, space = TAGS[matrix]
    source = sources.get(
        f"{matrix}-{full}-{bits}.mkv", partial(as_yuv, patches(), matrix, full=full, bits=bits),
        "yuv422p" if bits == 8 else "yuv422p10le",
        "-c:v", "ffv1", "-level", "3", "-color_primaries", primaries, "-color_trc", transfer, "-colorspace", space,
        "-color_range", "pc" if full else "tv",
    )  # fmt: skip
    # 8 bits of YUV, and FFmpeg's own arithmetic, hold no colour better than this.
    assert np.abs(source.colours - COLOURS).max() <= 1.8
    # Eight bits of ten round once more; what that costs in RGB is what it costs where chroma is resampled.
    held = recipes()[recipe].losses(PictureFormat.of(source.facts))
    most = 2 if any("bits" in loss for loss in held) else 1
    assert np.abs(read_rgb(convert(source, recipe, tmp_path / "out")) - source.colours).max() <= most


# What is read of a source does not hang on what is made of it: its size, or how its RGB is laid out.
SIZES = [((720, 576), "601"), ((720, 480), "601"), ((1280, 720), "709")]
RGB = [("rgb24", "png"), ("rgb48be", "png"), ("gbrp", "libx264rgb"), ("gbrp10le", "ffv1"), ("bgr24", "rawvideo")]


@pytest.mark.parametrize(("size", "matrix", "recipe"), in_turn(SIZES, 1))
def test_pictures_without_tags_are_read_as_their_size_means(
    sources: Sources, tmp_path: Path, size: tuple[int, int], matrix: str, recipe: str
) -> None:
    fed = partial(as_yuv, patches(size), matrix, full=False, bits=8)
    source = sources.get(f"{size[1]}.mov", fed, "yuv422p", "-c:v", "libx264", "-qp", "0", size=size)
    assert source.facts.video[0].color.matrix == "unspecified"
    path = convert(source, recipe, tmp_path / "out")
    assert np.abs(read_rgb(path, size) - COLOURS).max() <= 2
    told = ffprobe_pictures(path)
    if not told["pix_fmt"].startswith(("rgb", "gbr", "bgr")):
        assert told["color_space"] in ({"bt709"} if matrix == "709" else {"smpte170m", "bt470bg"})


@pytest.mark.parametrize(("pixels", "codec", "recipe"), in_turn(RGB, 1))
def test_rgb_comes_back(sources: Sources, tmp_path: Path, pixels: str, codec: str, recipe: str) -> None:
    ending = {"ffv1": "mkv", "libx264rgb": "mkv", "rawvideo": "avi"}.get(codec, "mov")
    options = (
        "-pix_fmt",
        "rgb24" if codec == "libx264rgb" else pixels,
        "-c:v",
        codec,
        *(("-qp", "0") if codec == "libx264rgb" else ()),
    )
    fed = patches().astype(np.uint8).tobytes
    source = sources.get(f"{pixels}-{codec}.{ending}", fed, "rgb24", *options)
    assert source.facts.video[0].chroma == "RGB"
    assert np.abs(source.colours - COLOURS).max() < 1.1
    path = convert(source, recipe, tmp_path / "out")
    told = ffprobe_pictures(path)
    if not told["pix_fmt"].startswith(("rgb", "gbr", "bgr")):
        assert told["color_space"] == "bt709"
    assert np.abs(read_rgb(path) - COLOURS).max() <= 2
