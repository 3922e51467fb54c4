"""Places that are filled from around: closed forms of the harmonic extension, and nothing else touched."""

from __future__ import annotations

from fractions import Fraction

import numpy as np
import pytest

from diadoche.core.sphere.cover import Cap, Cover, open_poles
from diadoche.core.sphere.projection import Equirectangular
from diadoche.core.sphere.rig import rig_named
from diadoche.core.sphere.rotation import rotation
from diadoche.core.sphere.stitch_map import LUMA, chroma_sampling

TARGET = Equirectangular(720, 360)
DOWN = np.array([0.0, 1.0, 0.0])


def away_deg(target: Equirectangular, direction: np.ndarray) -> np.ndarray:
    found: np.ndarray = np.degrees(np.arccos(np.clip(target.grid() @ direction, -1, 1)))
    return found


def harmonic(target: Equirectangular, direction: np.ndarray, order: int) -> np.ndarray:
    """A harmonic function on the sphere without its antipode: of the stereographic plane around a direction."""
    beside = np.cross(direction, (1.0, 0.0, 0.0))
    beside /= np.linalg.norm(beside)
    rays = target.grid()
    radius = np.tan(np.radians(np.minimum(away_deg(target, direction), 90)) / 2) / np.tan(np.radians(20) / 2)
    turn = np.arctan2(rays @ np.cross(direction, beside), rays @ beside)
    return 120 + 50 * np.minimum(radius, 2) ** order * np.cos(order * turn + 0.4)


@pytest.mark.parametrize("direction", [DOWN, -DOWN, rotation(70, 35, 20) @ DOWN], ids=["below", "above", "turned"])
@pytest.mark.parametrize("order", [0, 1, 3])
def test_what_is_harmonic_comes_back_from_its_rim(direction: np.ndarray, order: int) -> None:
    true = harmonic(TARGET, direction, order)
    plane = np.clip(true, 0, 255).astype(np.uint8)
    inside = away_deg(TARGET, direction) < 20
    plane[inside] = 0
    before = plane.copy()
    Cover(Cap(tuple(direction), 20.0), TARGET, LUMA).fill(plane)
    assert np.abs(plane[inside].astype(float) - true[inside]).max() < 3
    beyond = away_deg(TARGET, direction) > 22
    assert (plane[beyond] == before[beyond]).all()


def test_planes_of_colour_and_sixteen_bits_and_parts_of_spheres() -> None:
    plane = np.full((180, 360), 50_000, np.uint16)
    small = Equirectangular(720, 360)
    plane[150:] = 0
    Cover(Cap((0.0, 1.0, 0.0), 31.0), small, chroma_sampling(2, 2)).fill(plane)
    assert (np.abs(plane.astype(int) - 50_000) <= 1).all()
    # A part of the sphere that the cap lies outside of is left alone.
    band = Equirectangular.part(720, 120, Fraction(360), Fraction(60))
    level = np.full((120, 720), 90, np.uint8)
    Cover(Cap((0.0, 1.0, 0.0), 20.0), band, LUMA).fill(level)
    assert (level == 90).all()


def test_only_a_ring_leaves_its_poles_open() -> None:
    caps = open_poles(rig_named("ring-of-six-160"), DOWN)
    assert len(caps) == 2
    # Between two lenses, 30 degrees from either's axis, a lens of 160 degrees sees up to 78.4: cos 80 / cos 30.
    assert [cap.radius_deg for cap in caps] == [pytest.approx(90 - 78.4 + 1, abs=0.6)] * 2
    assert open_poles(rig_named("two-files-200"), DOWN) == []
    turn = rotation(30, 40, 10)
    turned = open_poles(rig_named("ring-of-six-160").turned(turn), turn @ DOWN)
    assert turned[0].direction == pytest.approx(tuple(turn @ DOWN))
