"""Known RGB, written as YUV by arithmetic, through every recipe, and read back by FFmpeg with the tags it finds."""

from __future__ import annotations

import subprocess
from collections.abc import Callable
from functools import partial
from itertools import product
from pathlib import Path

import numpy as np
import pytest

from diadoche.core.convert.formats import PictureFormat
from diadoche.core.convert.recipes import recipes
from diadoche.core.identify.probe import identify
from diadoche.core.watch import Watch
from diadoche.services.jobs.make_output import MakeRequest, perform_make
from tests.outside.public_tools import ffprobe, ffprobe_pixels, reading, tagged
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
WIDTH, HEIGHT, PATCH = 640, 360, 80


def patches() -> np.ndarray:
    """RGB, shape (HEIGHT, WIDTH, 3): eight flat stripes."""
    return np.repeat(COLOURS, PATCH, axis=0)[None].repeat(HEIGHT, axis=0).astype(float)


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


def read_rgb(path: Path) -> np.ndarray:
    """The first picture as a player shows it: 16 bits of RGB by the file's own tags, as 8-bit values, shape (8, 3)."""
    data = subprocess.run(
        ["ffmpeg", "-v", "error", *reading(path), "-frames:v", "1", "-vf", "scale=flags=accurate_rnd+full_chroma_int+full_chroma_inp",
         "-pix_fmt", "rgb48le", "-f", "rawvideo", "-"],
        capture_output=True, check=True,
    ).stdout  # fmt: skip
    picture = np.frombuffer(data, "<u2").reshape(HEIGHT, WIDTH, 3)
    return np.array([picture[100:260, n * PATCH + 24 : n * PATCH + 56].mean(axis=(0, 1)) for n in range(8)]) / 257


def write(path: Path, picture: bytes, pixels: str, *options: str) -> Path:
    subprocess.run(
        ["ffmpeg", "-v", "error", "-y", "-f", "rawvideo", "-pix_fmt", pixels, "-s", f"{WIDTH}x{HEIGHT}", "-r", "25", "-i", "-",
         *tagged(options), *options, str(path)],
        input=picture * 4, check=True,
    )  # fmt: skip
    return path


def convert(source: Path, recipe: str, folder: Path) -> Path:
    output = perform_make(MakeRequest((source,), recipes()[recipe], folder), Watch())
    assert output.output, output.problems
    return Path(output.output)


class Sources:
    """Sources that several recipes are tried on, each written and read back once."""

    def __init__(self, folder: Path) -> None:
        self._folder = folder
        self._made: dict[str, tuple[Path, np.ndarray]] = {}

    def get(self, name: str, picture: Callable[[], bytes], pixels: str, *options: str) -> tuple[Path, np.ndarray]:
        """The file, and its colours as a player shows them."""
        if name not in self._made:
            path = write(self._folder / name, picture(), pixels, *options)
            self._made[name] = path, read_rgb(path)
        return self._made[name]


@pytest.fixture(scope="module")
def sources(tmp_path_factory: pytest.TempPathFactory) -> Sources:
    return Sources(tmp_path_factory.mktemp("sources"))


# Each matrix, range and depth with each recipe, and each two of the three together; all threes are long.
LATIN = {
    ("601", False, 10),
    ("601", True, 8),
    ("709", False, 8),
    ("709", True, 10),
    ("2020", False, 10),
    ("2020", True, 8),
}
TAGGED = [
    pytest.param(*each, id="-".join(map(str, each)), marks=[] if each in LATIN else pytest.mark.long)
    for each in product(sorted(KR_KB), (False, True), (8, 10))
]


@pytest.mark.parametrize("recipe", EVERY_RECIPE)
@pytest.mark.parametrize(("matrix", "full", "bits"), TAGGED)
def test_tagged_colours_come_back(
    sources: Sources, tmp_path: Path, matrix: str, full: bool, bits: int, recipe: str
) -> None:
    primaries, transfer, space = TAGS[matrix]
    source, before = sources.get(
        f"{matrix}-{full}-{bits}.mkv", partial(as_yuv, patches(), matrix, full=full, bits=bits),
        "yuv422p" if bits == 8 else "yuv422p10le",
        "-c:v", "ffv1", "-level", "3", "-color_primaries", primaries, "-color_trc", transfer, "-colorspace", space,
        "-color_range", "pc" if full else "tv",
    )  # fmt: skip
    # 8 bits of YUV, and FFmpeg's own arithmetic, hold no colour better than this.
    assert np.abs(before - COLOURS).max() <= 1.8
    # Eight bits of ten round once more; what that costs in RGB is what it costs where chroma is resampled.
    held = recipes()[recipe].losses(PictureFormat.of(identify([source])))
    most = 2 if any("bits" in loss for loss in held) else 1
    assert np.abs(read_rgb(convert(source, recipe, tmp_path / "out")) - before).max() <= most


@pytest.mark.parametrize("recipe", EVERY_RECIPE)
@pytest.mark.parametrize(("size", "matrix"), [((720, 576), "601"), ((720, 480), "601"), ((1280, 720), "709")])
def test_pictures_without_tags_are_read_as_their_size_means(
    tmp_path: Path, size: tuple[int, int], matrix: str, recipe: str
) -> None:
    wide, high = size
    rgb = np.repeat(COLOURS, wide // 8, axis=0)[None].repeat(high, axis=0).astype(float)
    source = tmp_path / "in.mov"
    subprocess.run(
        ["ffmpeg", "-v", "error", "-y", "-f", "rawvideo", "-pix_fmt", "yuv422p", "-s", f"{wide}x{high}", "-r", "25", "-i", "-",
         "-c:v", "libx264", "-qp", "0", str(source)],
        input=as_yuv(rgb, matrix, full=False, bits=8) * 4, check=True,
    )  # fmt: skip
    assert identify([source]).video[0].color.matrix == "unspecified"
    path = convert(source, recipe, tmp_path / "out")
    data = subprocess.run(
        ["ffmpeg", "-v", "error", *reading(path), "-frames:v", "1", "-vf", "scale=flags=accurate_rnd+full_chroma_int+full_chroma_inp",
         "-pix_fmt", "rgb48le", "-f", "rawvideo", "-"],
        capture_output=True, check=True,
    ).stdout  # fmt: skip
    picture = np.frombuffer(data, "<u2").reshape(high, wide, 3)
    part = wide // 8
    found = np.array([picture[100:260, n * part + 24 : n * part + part - 24].mean(axis=(0, 1)) for n in range(8)]) / 257
    assert np.abs(found - COLOURS).max() <= 2
    if not ffprobe_pixels(path).startswith(("rgb", "gbr", "bgr")):
        told = ffprobe(path)["streams"][0]["color_space"]
        assert told in ({"bt709"} if matrix == "709" else {"smpte170m", "bt470bg"})


@pytest.mark.parametrize("recipe", EVERY_RECIPE)
@pytest.mark.parametrize(
    ("pixels", "codec"),
    [("rgb24", "png"), ("rgb48be", "png"), ("gbrp", "libx264rgb"), ("gbrp10le", "ffv1"), ("bgr24", "rawvideo")],
)
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
    source, before = sources.get(f"{pixels}-{codec}.{ending}", fed, "rgb24", *options)
    assert identify([source]).video[0].chroma == "RGB"
    assert np.abs(before - COLOURS).max() < 1.1
    path = convert(source, recipe, tmp_path / "out")
    if not ffprobe_pixels(path).startswith(("rgb", "gbr", "bgr")):
        assert ffprobe(path)["streams"][0]["color_space"] == "bt709"
    assert np.abs(read_rgb(path) - COLOURS).max() <= 2
