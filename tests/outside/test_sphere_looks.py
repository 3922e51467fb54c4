"""What pictures without tags look like, against FFmpeg's own layouts of the drawn gallery."""

from __future__ import annotations

from pathlib import Path

import numpy as np
import pytest

from diadoche.core.identify.probe import identify
from diadoche.core.identify.sphere_looks import laid_out
from diadoche.core.sphere.projection import Equirectangular
from diadoche.demo.ray_scene import Moment, RayScene
from tests.outside.gallery import truth
from tests.outside.numbered import ffmpeg


@pytest.fixture(scope="module")
def sphere(tmp_path_factory: pytest.TempPathFactory) -> Path:
    """The gallery all around, 960×480, as a grey picture."""
    path = tmp_path_factory.mktemp("sphere") / "e.yuv"
    luma, _ = truth(RayScene(3), Equirectangular(960, 480), Moment(0.4, 7))
    path.write_bytes(luma.astype(np.uint8).tobytes())
    return path


def by_v360(sphere: Path, out: str, size: tuple[int, int]) -> np.ndarray:
    given = ["-f", "rawvideo", "-pix_fmt", "gray", "-s", "960x480", "-i", str(sphere)]
    change = ["-vf", f"v360=e:{out}:w={size[0]}:h={size[1]}"]
    raw = ffmpeg(*given, *change, "-pix_fmt", "gray", "-f", "rawvideo", "-")
    return np.frombuffer(raw, np.uint8).reshape(size[1], size[0])


def test_a_sphere_and_a_cube_are_told_and_what_only_has_their_shape_is_not(sphere: Path) -> None:
    assert laid_out(by_v360(sphere, "e", (960, 480))) == "equirectangular"
    assert laid_out(by_v360(sphere, "c3x2", (720, 480))) == "cubemap"
    # Flat views of the same gallery, cut to the same shapes; and six views that are no cube.
    assert laid_out(by_v360(sphere, "flat:h_fov=100:v_fov=62", (960, 480))) == "flat"
    assert laid_out(by_v360(sphere, "flat:h_fov=90:v_fov=67", (720, 480))) == "flat"
    cube = by_v360(sphere, "c3x2", (720, 480))
    assert laid_out(np.ascontiguousarray(np.roll(cube, 240, axis=1))) == "flat"
    # A night between bars: its edges are as dark as each other, and its first row is one tone.
    night = by_v360(sphere, "flat:h_fov=100:v_fov=62", (960, 480)).copy()
    night[:60], night[-60:], night[:, :40], night[:, -40:] = 16, 16, 16, 16
    assert laid_out(night) is None
    assert laid_out(by_v360(sphere, "e", (960, 480)).astype(np.uint16) * np.uint16(4), 10) == "equirectangular"
    # What is too even tells nothing.
    assert laid_out(np.full((480, 960), 90, np.uint8)) is None


@pytest.mark.parametrize(
    ("out", "size", "wanted"), [("c3x2", (1440, 960), "cubemap"), ("e", (1920, 960), "equirectangular")]
)
def test_files_say_what_they_look_like(
    sphere: Path, tmp_path: Path, out: str, size: tuple[int, int], wanted: str
) -> None:
    film = tmp_path / "film.mp4"
    given = ["-loop", "1", "-f", "rawvideo", "-pix_fmt", "gray", "-s", "960x480", "-r", "25", "-i", str(sphere)]
    change = ["-vf", f"loop=9:1:0,v360=e:{out}:w={size[0]}:h={size[1]}"]
    ffmpeg(*given[2:], *change, "-c:v", "libx264", "-pix_fmt", "yuv420p", film)
    facts = identify([film])
    assert (facts.projection, facts.spatial) == (wanted, "missing")
