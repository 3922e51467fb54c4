"""Lens models and projections, held against closed forms and other people's code."""

from __future__ import annotations

from fractions import Fraction
from pathlib import Path

import cv2
import numpy as np
import py360convert
import pytest

from diadoche.core.sphere.lens import RADIAL_MODELS, DoubleSphere, Equidistant, KannalaBrandt, Lens
from diadoche.core.sphere.projection import CUBE_FACES, CubeMap, Equirectangular, Rectilinear
from diadoche.core.sphere.rig import rig_named
from diadoche.core.sphere.rotation import angle_between_deg, angles_of, rotation
from tests.outside.numbered import ffmpeg

TERMS = {"kannala-brandt": (0.05, -0.02, 0.004, -0.0005), "double-sphere": (-0.2, 0.58)}
# Bounds of checks.md: a round trip comes back within this many pixels.
ROUND_TRIP_PX = 0.05


def lens_of(model: str, field_deg: float = 200.0) -> Lens:
    return Lens(RADIAL_MODELS[model](TERMS.get(model, ())), 600.0, (955.3, 968.1), (1920, 1920), field_deg)


def some_rays(count: int, widest: float, seed: int = 3) -> np.ndarray:
    dice = np.random.default_rng(seed)
    angle, around = dice.uniform(0, widest, count), dice.uniform(0, 2 * np.pi, count)
    return np.stack((np.sin(angle) * np.cos(around), np.sin(angle) * np.sin(around), np.cos(angle)), axis=-1)


@pytest.mark.parametrize(("model", "field"), [(name, 170.0 if name == "gnomonic" else 200.0) for name in RADIAL_MODELS])
def test_every_lens_comes_back_from_its_picture(model: str, field: float) -> None:
    lens = lens_of(model, field)
    rays = some_rays(5000, lens.widest * 0.999)
    places, angles = lens.project(rays)
    assert np.allclose(np.cos(angles), rays[:, 2])
    back = lens.unproject(places)
    assert np.abs(back - rays).max() < 1e-9
    assert np.isnan(lens.unproject(np.array([[lens.centre_px[0] + lens.circle_px * 1.01, lens.centre_px[1]]]))).all()


def test_the_equidistant_lens_is_the_closed_form() -> None:
    lens = lens_of("equidistant")
    # r = f times the angle: 90 degrees to the right, and 45 degrees down.
    places, _ = lens.project(np.array([[1.0, 0.0, 0.0], [0.0, np.sqrt(0.5), np.sqrt(0.5)]]))
    assert np.allclose(places, [[955.3 + 600 * np.pi / 2, 968.1], [955.3, 968.1 + 600 * np.pi / 4]])


def test_kannala_brandt_is_opencvs_fisheye_where_that_is_right() -> None:
    """OpenCV's own `projectPoints` of its fisheye model; beyond 85 degrees off the axis it is wrong."""
    lens = lens_of("kannala-brandt", 170.0)
    rays = some_rays(2000, np.radians(85))
    camera = np.array([[600.0, 0, 955.3], [0, 600.0, 968.1], [0, 0, 1]])
    theirs, _ = cv2.fisheye.projectPoints(
        rays[:, None, :], np.zeros(3), np.zeros(3), camera, np.array(TERMS["kannala-brandt"])
    )
    assert np.abs(lens.project(rays)[0] - theirs[:, 0]).max() < 1e-6


def test_double_sphere_is_its_papers_closed_form() -> None:
    """[DS2018, eq. 40 to 42], written out anew from the paper's x, y and z; from memory."""
    lens, (xi, alpha) = lens_of("double-sphere"), TERMS["double-sphere"]
    x, y, z = some_rays(2000, lens.widest).T * 3.7
    one = np.sqrt(x**2 + y**2 + z**2)
    two = np.sqrt(x**2 + y**2 + (xi * one + z) ** 2)
    below = alpha * two + (1 - alpha) * (xi * one + z)
    theirs = np.stack((600 * x / below + 955.3, 600 * y / below + 968.1), axis=-1)
    assert np.abs(lens.project(np.stack((x, y, z), axis=-1))[0] - theirs).max() < 1e-6


def test_lenses_that_fold_over_are_seen() -> None:
    assert KannalaBrandt((0.05, -0.02, 0.004, -0.0005)).grows_until(np.radians(100))
    assert not KannalaBrandt((-0.3, 0, 0, 0)).grows_until(np.radians(100))
    assert Equidistant().grows_until(np.radians(179))
    with pytest.raises(ValueError, match="takes 2 terms"):
        DoubleSphere((0.1,))


def test_rotations_are_those_of_scipy_and_come_back() -> None:
    from scipy.spatial.transform import Rotation

    for yaw, pitch, roll in ((30, 20, 10), (-170, -80, 179), (0, 0, -90)):
        matrix = rotation(yaw, pitch, roll)
        assert np.allclose(matrix, Rotation.from_euler("YXZ", [yaw, pitch, roll], degrees=True).as_matrix())
        assert np.allclose(angles_of(matrix), (yaw, pitch, roll))
    # Up is up, right is right, and clockwise is what one sees who looks along.
    assert np.allclose(rotation(0, 90) @ [0, 0, 1], [0, -1, 0])
    assert np.allclose(rotation(90) @ [0, 0, 1], [1, 0, 0])
    assert np.allclose(rotation(0, 0, 90) @ [0, -1, 0], [1, 0, 0])
    assert angle_between_deg(rotation(10), rotation(25)) == pytest.approx(15)


def test_equirectangular_is_that_of_py360convert() -> None:
    """py360convert's own way from directions (with y up) to places, which it counts from the first pixel's middle."""
    dice = np.random.default_rng(5).standard_normal((5000, 3))
    longitude, latitude = py360convert.utils.xyz2uv(dice * [1, -1, 1])
    across, down = py360convert.utils.uv2coor(longitude[:, 0], latitude[:, 0], 256, 512)
    theirs = np.stack((across, down), axis=-1) + 0.5
    assert np.abs(theirs - Equirectangular(512, 256).places(dice)).max() < ROUND_TRIP_PX


@pytest.mark.parametrize(
    "whole", [Equirectangular(640, 320), Equirectangular.part(300, 320, Fraction(180)), CubeMap(128)]
)
def test_every_projection_comes_back(whole: Equirectangular | CubeMap) -> None:
    rays = whole.grid()
    assert np.allclose(np.linalg.norm(rays, axis=-1), 1)
    down, across = np.mgrid[: whole.height, : whole.width] + 0.5
    assert np.abs(whole.places(rays * 2.5) - np.stack((across, down), axis=-1)).max() < 1e-6


def test_a_flat_view_is_a_pinhole() -> None:
    """OpenCV's `projectPoints` without distortion."""
    view = Rectilinear(640, 480, 90.0, rotation(40, 10, 5))
    rays = view.grid().reshape(-1, 3)
    camera = np.array([[320.0, 0, 320], [0, 320.0, 240], [0, 0, 1]])
    theirs, _ = cv2.projectPoints(rays @ view.matrix, np.zeros(3), np.zeros(3), camera, None)
    assert np.abs(view.places(rays) - theirs[:, 0]).max() < 1e-6
    assert np.isnan(view.places(-rays[:1])).all()
    # What is straight stays straight: the horizon of a level view is its middle line.
    level = Rectilinear(640, 480, 90.0)
    assert np.allclose(level.places(np.array([[0.3, 0, 1.0], [-0.7, 0, 1.0]]))[:, 1], 240)


def test_a_cubes_faces_look_where_they_should_and_meet() -> None:
    cube = CubeMap(64)
    rays = cube.grid()
    for number, (_, _, outward) in enumerate(CUBE_FACES.values()):
        row, column = divmod(number, 3)
        middle = rays[row * 64 + 31 : row * 64 + 33, column * 64 + 31 : column * 64 + 33].mean(axis=(0, 1))
        assert np.allclose(middle / np.linalg.norm(middle), outward, atol=1e-9)


def test_a_fisheye_falls_where_v360_looks_for_it(tmp_path: Path) -> None:
    """FFmpeg's `v360` reads a picture whose values are its own coordinates: what it gives tells where it looked."""
    size, out = 960, (480, 240)
    ramp = np.arange(size) * 60
    for name, picture in (("across", np.tile(ramp, (size, 1))), ("down", np.tile(ramp[:, None], (1, size)))):
        (tmp_path / f"{name}.gray").write_bytes(picture.astype("<u2").tobytes())
    looked = []
    for name in ("across", "down"):
        raw = ["-f", "rawvideo", "-pix_fmt", "gray16le"]
        chain = f"v360=input=fisheye:ih_fov=200:iv_fov=200:output=e:w={out[0]}:h={out[1]}:interp=linear"
        source = ["-s", f"{size}x{size}", "-i", str(tmp_path / f"{name}.gray")]
        gave = ffmpeg(*raw, *source, "-vf", chain, *raw, "-")
        looked.append(np.frombuffer(gave, "<u2").reshape(out[1], out[0]) / 60)
    lens = Lens(Equidistant(), size / 2 / np.radians(100), (size / 2, size / 2), (size, size), 200.0)
    places, angles = lens.project(Equirectangular(*out).grid())
    inside = angles < np.radians(98)
    off = np.stack(looked, axis=-1) + 0.5 - places
    # It spreads its pixels' middles over the whole width, so that it is off by up to half a pixel at the rim.
    assert np.abs(off[inside]).max() < 0.6
    assert np.abs(off[angles < np.radians(20)]).max() < 0.2


def test_the_supplied_rig_is_what_its_name_says() -> None:
    rig = rig_named("dual-fisheye-200")
    assert rig.picture_px == (3840, 1920)
    left, right = rig.lenses
    assert np.allclose(left.matrix @ [0, 0, 1], [0, 0, 1])
    assert np.allclose(right.matrix @ [0, 0, 1], [0, 0, -1])
    # Its circles fill their halves: 100 degrees off the axis is at the rim.
    assert left.lens.circle_px == pytest.approx(960, abs=1e-3)
    assert right.corner_px == (1920, 0)
