"""A pair of eyes for 180 degrees: not exchanged, level with each other, and told as what they are."""

from __future__ import annotations

import json
from dataclasses import replace
from fractions import Fraction
from pathlib import Path

import cv2
import numpy as np
import pytest

from diadoche.core.sphere.projection import Equirectangular
from diadoche.demo.fisheye import Fisheye, planes
from diadoche.demo.ray_scene import EYE_M, Moment, RayScene
from tests.conftest import diadoche
from tests.outside.gallery import beside, drawn, encode
from tests.outside.public_tools import ffprobe
from tests.outside.test_near_things import world
from tests.outside.test_spheres import lumas

SIZE, EYE_PX = 480, 480
SCENE = RayScene(seed=7)

pytestmark = pytest.mark.usefixtures("own_state")


def eyes() -> list[Fisheye]:
    """As they are built: the right one is turned, pitched and rolled a little against the left one."""
    left = Fisheye(SIZE, 190.0, (-0.032, 0.0, EYE_M), fall_off=0.0)
    return [left, replace(left, position_m=(0.032, 0.0, EYE_M), yaw_deg=0.3, pitch_deg=0.7, roll_deg=-0.6)]


def seen_truly() -> list[np.ndarray]:
    """What each eye sees from its own place, both looking straight ahead."""
    target, found = Equirectangular.part(EYE_PX, EYE_PX, Fraction(180)), []
    for lens in eyes():
        light = SCENE.see(np.array(lens.position_m), world(target.grid()), Moment(0.0, 0))[0]
        found.append(planes(light)[0])
    return found


def apart_px(left: np.ndarray, right: np.ndarray) -> np.ndarray:
    """How far things are apart between the eyes, across and down, shape (rows, columns, 2); NaN where that is not told."""
    search = cv2.DISOpticalFlow.create(cv2.DISOPTICAL_FLOW_PRESET_MEDIUM)
    there = search.calc(left.copy(), right.copy(), np.empty(0))
    back = search.calc(right.copy(), left.copy(), np.empty(0))
    rows, columns = np.indices(left.shape)
    at = [np.clip(np.rint(each), 0, EYE_PX - 1).astype(int) for each in (rows + there[..., 1], columns + there[..., 0])]
    # Not what one eye alone sees, and only edges that tell a height.
    tells = np.linalg.norm(there + back[at[0], at[1]], axis=-1) < 0.5
    tells &= np.abs(np.gradient(left.astype(float), axis=0)) > 12
    there[~tells] = np.nan
    return there[EYE_PX // 4 : 3 * EYE_PX // 4, EYE_PX // 4 : 3 * EYE_PX // 4]


def test_eyes_are_level_and_not_exchanged_once_they_are_aligned(tmp_path: Path) -> None:
    film = encode(tmp_path / "pair.mov", [beside(*(drawn(lens, SCENE, 2) for lens in eyes()))])
    words = [
        "--rig",
        "stereo-pair-190",
        "--width-deg",
        "180",
        "--layout",
        "side-by-side",
        "--size",
        "960x480",
        "--json",
    ]
    found = {}
    for name, more in (("plain", []), ("aligned", ["--calibrate"])):
        done = diadoche("stitch", film, "--to", tmp_path / "out" / f"{name}.mov", *words, *more)
        assert done.returncode == 0, done.stdout
        found[name] = Path(json.loads(done.stdout)["output"])
    plain, aligned = (lumas(found[name], (960, 480))[0] for name in ("plain", "aligned"))
    # To the sides, what is near lies a little higher or lower in one eye: as much as it truly does.
    wanted = apart_px(*seen_truly())
    off = {
        name: np.abs(apart_px(luma[:, :EYE_PX], luma[:, EYE_PX:]) - wanted)
        for name, luma in (("plain", plain), ("aligned", aligned))
    }
    level = {name: float(np.nanpercentile(each[..., 1], 95)) for name, each in off.items()}
    assert np.isfinite(off["aligned"][..., 1]).sum() > 1000
    assert level["plain"] > 1.5
    assert level["aligned"] <= 1
    # What is near lies farther to the left in the right eye, and what is far lies where it is.
    across = apart_px(aligned[:, :EYE_PX], aligned[:, EYE_PX:])[..., 0]
    assert np.nanpercentile(across, 5) < -2
    assert abs(np.nanpercentile(across, 95)) < 1.5
    stream = ffprobe(found["aligned"])["streams"][0]
    data = {each["side_data_type"]: each for each in stream["side_data_list"]}
    assert data["Stereo 3D"]["type"] == "side by side"
    assert data["Spherical Mapping"]["projection"] == "tiled equirectangular"
    # A quarter on either side is missing; ffprobe reckons with the width of both eyes together.
    assert abs(data["Spherical Mapping"]["bound_left"] - 480) <= 1


def test_one_eye_alone_is_mono(tmp_path: Path) -> None:
    film = encode(tmp_path / "pair.mov", [beside(*(drawn(lens, SCENE, 1) for lens in eyes()))])
    words = ["--rig", "stereo-pair-190", "--width-deg", "180", "--size", "480x480", "--recipe", "ffv1", "--json"]
    told = json.loads(diadoche("stitch", film, "--to", tmp_path / "out" / "mono.mkv", *words).stdout)
    assert (told["frames"], told["layout"]) == (1, "mono")
    made = lumas(Path(told["output"]), (480, 480))[0]
    left = lumas(film, (960, 480))[0][:, :EYE_PX]
    # The left eye's middle is the middle of its picture, as 190 degrees over 480 pixels become 180.
    assert abs(int(made[240, 240]) - int(left[240, 240])) < 12
