"""The seam measure, held against breaks that are known because they were made."""

from __future__ import annotations

from dataclasses import replace

import numpy as np
import pytest
from scipy.stats import spearmanr

from diadoche.core.sphere.projection import Equirectangular
from diadoche.core.sphere.rig import Rig, rig_named
from diadoche.core.sphere.rotation import rotation
from diadoche.core.sphere.seam import SeamMeasure
from diadoche.core.sphere.seam_curve import SeamCurve
from diadoche.demo.ray_scene import RayScene
from tests.outside.gallery import drawn, two_lenses

SIZE = 640


def rolled(rig: Rig, degrees: float) -> Rig:
    """The second lens turned about its axis: along the seam everything is broken by as much."""
    back = rig.lenses[1]
    return replace(rig, lenses=(rig.lenses[0], replace(back, matrix=back.matrix @ rotation(0, 0, degrees))))


def test_what_is_measured_is_what_is_broken() -> None:
    rig, target = rig_named("two-files-200").for_size(SIZE, SIZE), Equirectangular(1152, 576)
    # Nobody and nothing stands near: all that is broken is what we break. The floor is seen from two places.
    scene = RayScene(seed=8, people=(), rails=False)
    lumas = [drawn(lens, scene, 1)[0][0] for lens in two_lenses(SIZE)]
    turns = [0.0, 0.4, 0.8, 1.2, 1.6, 2.0]
    found = [SeamMeasure(rolled(rig, turn), target).picture(lumas) for turn in turns]
    assert all(value is not None for value in found)
    # The matching of checks.md: rank correlation with the true break.
    assert spearmanr(turns, found).statistic > 0.8
    floor_px = found[0] or 0.0
    # A turn moves the seam's things by as many pixels as the result has in it, beside what the floor is off by anyway.
    wanted = [np.hypot(turn * 1152 / 360, floor_px) for turn in turns]
    assert np.abs(np.array(found) - wanted).max() < 1.6


def test_pictures_without_anything_to_compare_say_nothing() -> None:
    rig = rig_named("two-files-200").for_size(SIZE, SIZE)
    measure = SeamMeasure(rig, Equirectangular(1152, 576))
    assert measure.has_seams
    assert measure.picture([np.full((SIZE, SIZE), 90, np.uint8)] * 2) is None


def test_a_curve_leads_to_its_worst_picture() -> None:
    curve = SeamCurve((1.0, None, 3.5, 2.0, 3.5))
    assert curve.worst == (2, 3.5)
    assert curve.median_px == pytest.approx(2.75)
    assert SeamCurve((None, None)).worst is None
    assert SeamCurve(()).median_px is None
