"""Both eyes out of six lenses in a ring, judged by the drawn scene as each eye sees it: from a place on its own circle."""

from __future__ import annotations

import cv2
import numpy as np
import pytest

from diadoche.core.sphere.near_matching import NearMatching
from diadoche.core.sphere.projection import Equirectangular
from diadoche.core.sphere.rig import Rig, rig_named
from diadoche.core.sphere.ring_stereo import EYES_M
from diadoche.core.sphere.rotation import rotation
from diadoche.core.sphere.stitcher import Stitcher
from diadoche.demo.fisheye import Fisheye, photograph, planes
from diadoche.demo.ray_scene import EYE_M, Moment, RayScene
from tests.outside.gallery import psnr
from tests.outside.test_near_things import world

SIZE, RING_M = 400, 0.064
TARGET = Equirectangular(960, 480)
SCENE, MOMENT = RayScene(seed=181), Moment(0.4, 3)


def ring() -> list[Fisheye]:
    return [
        Fisheye(
            SIZE,
            160.0,
            (RING_M * float(np.sin(turn)), RING_M * float(np.cos(turn)), EYE_M),
            float(np.degrees(turn)),
            fall_off=0.0,
        )
        for turn in np.radians(np.arange(6) * 60)
    ]


def rig() -> Rig:
    return rig_named("ring-of-six-160").for_size(SIZE, SIZE)


@pytest.fixture(scope="module")
def made() -> dict[str, np.ndarray]:
    """Luma of either eye."""
    pictures = [planes(photograph(lens, SCENE, MOMENT, fine=1)) for lens in ring()]
    found = {}
    for eye in ("left", "right"):
        own = rig().for_eye(eye)
        into = tuple(np.zeros((TARGET.height // small, TARGET.width // small), np.uint8) for small in (1, 2, 2))
        with Stitcher(own, TARGET, near=NearMatching(own, 8.0)) as stitcher:
            stitcher.stitch(pictures, into)  # type: ignore[arg-type]  # three planes
        found[eye] = into[0]
    return found


def seen_by(eye: str) -> np.ndarray:
    """What an eye truly sees: each ray starts on the circle that it touches."""
    light = np.zeros((TARGET.height, TARGET.width, 3))
    for across in (0.25, 0.75):
        for down in (0.25, 0.75):
            rays = TARGET.rays(np.arange(TARGET.width)[None, :] + across, np.arange(TARGET.height)[:, None] + down)
            level = np.stack((rays[..., 2], 0 * rays[..., 0], -rays[..., 0]), axis=-1)
            level /= np.maximum(np.linalg.norm(level, axis=-1, keepdims=True), 1e-9)
            side = {"left": -1, "right": 1, "middle": 0}[eye]
            origin = world(level) * side * EYES_M / 2 + np.array((0.0, 0.0, EYE_M))
            light += SCENE.see(origin, world(rays), MOMENT)[0] / 4
    return planes(light)[0]


# Where eyes are apart, and all is seen by two lenses.
MIDDLE = slice(int(480 * 45 / 180), int(480 * 135 / 180))


def test_each_eye_sees_what_it_would_see(made: dict[str, np.ndarray]) -> None:
    true = {eye: seen_by(eye) for eye in ("left", "right", "middle")}
    for eye, other in (("left", "right"), ("right", "left")):
        own = psnr(made[eye][MIDDLE], true[eye][MIDDLE])
        # Not the other eye's, which would be eyes exchanged, and not one picture for both.
        assert own > psnr(made[eye][MIDDLE], true[other][MIDDLE]) + 1.5
        assert own > psnr(made[eye][MIDDLE], true["middle"][MIDDLE]) + 0.5
    search = cv2.DISOpticalFlow.create(cv2.DISOPTICAL_FLOW_PRESET_MEDIUM)
    slope = np.hypot(*np.gradient(true["left"][MIDDLE].astype(float)))
    edges = slope > 12
    flow = search.calc(made["left"], made["right"], np.empty(0))[MIDDLE]
    wanted = search.calc(true["left"], true["right"], np.empty(0))[MIDDLE]
    # Between the eyes nothing is higher or lower, and near things are as far apart as they are.
    assert np.percentile(np.abs(flow[..., 1])[edges], 95) <= 1
    assert np.median(np.abs(flow[..., 0] - wanted[..., 0])[edges]) <= 1
    near = edges & (wanted[..., 0] < -3)
    assert near.sum() > 300
    # Where a lens of 160 degrees does not see to its side, an eye stays a little behind its place.
    assert 0.75 < np.median((flow[..., 0] / wanted[..., 0])[near]) < 1.1


def test_eyes_come_together_towards_the_poles(made: dict[str, np.ndarray]) -> None:
    rows = slice(int(480 * 12 / 180), int(480 * 16 / 180))
    both = (made["left"][rows] > 16) & (made["right"][rows] > 16)
    assert both.mean() > 0.5
    assert np.abs(made["left"][rows].astype(int) - made["right"][rows])[both].mean() < 1.5


def test_which_rigs_have_two_eyes() -> None:
    assert rig().is_ring
    assert rig().turned(rotation(40, 20, 10)).is_ring
    assert not rig_named("two-files-200").has_two_eyes
    assert rig_named("two-files-200").for_eye("left").viewing_eye == ""
