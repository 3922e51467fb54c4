"""Lenses that are unequally bright, by gains that are known because they were drawn with them.

The truth is the demo's gallery, drawn by casting rays through lenses at their true positions; it shares no code with
`core/sphere` (an import contract holds that). What a fair error is: common practice, no source.
"""

from __future__ import annotations

from dataclasses import replace

import numpy as np
import pytest

from diadoche.core.sphere.exposure import Correction, Levels, Shading, linear, matched_gains, matched_shading
from diadoche.core.sphere.rig import rig_named
from diadoche.demo.fisheye import photograph, planes, transfer
from diadoche.demo.ray_scene import Moment, RayScene
from tests.outside.gallery import two_lenses
from tests.outside.test_ring_stereo import SIZE as RING_SIZE
from tests.outside.test_ring_stereo import ring

SIZE = 480
PARTS = {"BT.709": (0.2126, 0.0722), "BT.601 (625)": (0.299, 0.114), "BT.2020": (0.2627, 0.0593)}


def encoded(rgb: np.ndarray, levels: Levels) -> tuple[np.ndarray, ...]:
    """Y'CbCr by the recommendations' own formulas [BT709-6, 3.3 and 3.5; BT601-7; BT2020-2]."""
    red, blue = PARTS[levels.matrix]
    luma = red * rgb[..., 0] + (1 - red - blue) * rgb[..., 1] + blue * rgb[..., 2]
    parts = luma, (rgb[..., 2] - luma) / (2 * (1 - blue)), (rgb[..., 0] - luma) / (2 * (1 - red))
    if levels.full:
        top = (1 << levels.bits) - 1
        return parts[0] * top, parts[1] * top + (top + 1) / 2, parts[2] * top + (top + 1) / 2
    scale = 1 << levels.bits - 8
    return (16 + 219 * parts[0]) * scale, (128 + 224 * parts[1]) * scale, (128 + 224 * parts[2]) * scale


@pytest.mark.parametrize("matrix", PARTS)
@pytest.mark.parametrize("full", [False, True])
@pytest.mark.parametrize("bits", [8, 10])
def test_gains_in_linear_light_become_what_they_are_in_code_values(matrix: str, full: bool, bits: int) -> None:
    levels, gains = Levels(bits, full, matrix), np.array([1.2, 1.0, 0.85])
    light = np.random.default_rng(2).uniform(0.05, 0.7, (500, 3))
    before, wanted = encoded(transfer(light), levels), encoded(transfer(light * gains), levels)
    assert np.allclose(levels.rgb(*before), transfer(light), atol=1e-9)
    assert np.allclose(linear(transfer(light)), light, atol=1e-9)
    matrix3, offset = levels.change(gains)
    middles = [0 if full else 16 << bits - 8, 1 << bits - 1, 1 << bits - 1]
    own = np.stack(before, axis=-1) - middles
    changed = np.stack(before, axis=-1) + own @ matrix3.T + offset
    assert np.abs(changed - np.stack(wanted, axis=-1)).max() < 1e-6 * (1 << bits)


@pytest.mark.parametrize("seed", [11, 12])
def test_the_gains_of_drawn_lenses_are_found_within_two_in_a_hundred(seed: int) -> None:
    dice = np.random.default_rng(seed)
    true = dice.uniform(0.85, 1.15, (2, 3))
    lenses = [
        replace(lens, gains=tuple(gain), fall_off=0.35, noise=0.004)
        for lens, gain in zip(two_lenses(SIZE), true, strict=True)
    ]
    frames = [[planes(photograph(lens, RayScene(seed), Moment(0.3, 1), fine=1, dice=dice)) for lens in lenses]]
    rig = rig_named("two-files-200").for_size(SIZE, SIZE)
    found = matched_gains(rig, frames, Levels(), (2, 2))
    assert found is not None
    assert np.allclose(found.prod(axis=0), 1)
    # What makes them equal is the true ratio, undone.
    assert np.abs(found[1] / found[0] * true[1] / true[0] - 1).max() < 0.02
    # And applied, both show the same where they meet.
    for number, gain in enumerate(found):
        Correction(rig, number, gain, Levels(), (2, 2)).apply(frames[0][number])
    again = matched_gains(rig, frames, Levels(), (2, 2))
    assert again is not None
    assert np.abs(again - 1).max() < 0.01


def test_the_middle_of_a_lens_keeps_its_look() -> None:
    rig = rig_named("two-files-200").for_size(SIZE, SIZE)
    grey = tuple(
        np.full(shape, value, np.uint8) for shape, value in (((SIZE, SIZE), 120), ((240, 240), 110), ((240, 240), 140))
    )
    changed = tuple(plane.copy() for plane in grey)
    Correction(rig, 0, np.array([1.1, 1.0, 0.95]), Levels(), (2, 2)).apply(changed)  # type: ignore[arg-type]  # three
    assert (changed[0][190:290, 190:290] == 120).all()
    rim = changed[0][SIZE // 2, 2]
    assert rim != 120
    assert not Correction(rig, 0, np.array([1.001, 1.0, 1.0]), Levels(), (2, 2)).needed


@pytest.mark.parametrize("value", [16, 235])
def test_nothing_is_matched_where_all_is_dark_or_clipped(value: int) -> None:
    rig = rig_named("two-files-200").for_size(SIZE, SIZE)
    flat = (np.full((SIZE, SIZE), value, np.uint8), *(np.full((240, 240), 128, np.uint8) for _ in range(2)))
    assert matched_gains(rig, [[flat, flat]], Levels(), (2, 2)) is None  # type: ignore[list-item]  # three planes


@pytest.mark.parametrize(("seed", "fall_off"), [pytest.param(21, 0.35, marks=pytest.mark.long), (22, 0.5), (23, 0.0)])
def test_how_lenses_of_a_ring_darken_is_found_and_undone(seed: int, fall_off: float) -> None:
    """Six lenses that lose a known share of the light towards their rims; applied, little of that is left."""
    dice = np.random.default_rng(seed)
    lenses = [replace(lens, fall_off=fall_off, noise=0.003, gains=tuple(dice.uniform(0.9, 1.1, 3))) for lens in ring()]
    frames = [[planes(photograph(lens, RayScene(seed), Moment(0.3, 1), fine=1, dice=dice)) for lens in lenses]]
    rig = rig_named("ring-of-six-160").for_size(RING_SIZE, RING_SIZE)
    gains = matched_gains(rig, frames, Levels(), (2, 2))
    assert gains is not None
    found = matched_shading(rig, frames, Levels(), (2, 2), gains)
    if not fall_off:
        assert found is None
        return
    assert found is not None
    parts = np.linspace(0, 0.95, 20)
    assert np.abs(np.exp(found.log(parts)) - (1 - fall_off * parts**4)).max() < 0.06
    for number, gain in enumerate(gains):
        Correction(rig, number, gain, Levels(), (2, 2), found).apply(frames[0][number])
    even = photograph(replace(lenses[0], fall_off=0.0, noise=0.0), RayScene(seed), Moment(0.3, 1), fine=1)
    true = planes(np.clip(even * gains[0], 0, 1))[0].astype(float)
    middle = RING_SIZE // 2
    out = np.hypot(*np.mgrid[-middle:middle, -middle:middle]) / middle
    near_rim = (out > 0.8) & (out < 0.93) & (true > 60) & (true < 180)
    assert abs(np.median(frames[0][0][0][near_rim] - true[near_rim])) < 4


def test_undoing_shading_leaves_no_place_without_a_number() -> None:
    """Rims lie between roundings: for any focal length, what is beyond the circle is still a number."""
    rig = rig_named("ring-of-six-160").for_size(240, 240)
    for focal_px in (60.045, 60.27, 60.96, 61.65, 62.565):
        lens = replace(rig.lenses[0], lens=replace(rig.lenses[0].lens, focal_px=float(focal_px)))
        one = Correction(replace(rig, lenses=(lens,)), 0, np.ones(3), Levels(), (2, 2), Shading(-0.3, -0.2))
        assert one._lifts is not None
        assert all(np.isfinite(lift).all() for lift in one._lifts)


def test_two_lenses_back_to_back_do_not_tell_how_they_darken() -> None:
    lenses = [replace(lens, fall_off=0.35) for lens in two_lenses(SIZE)]
    frames = [[planes(photograph(lens, RayScene(4), Moment(0.3, 1), fine=1)) for lens in lenses]]
    rig = rig_named("two-files-200").for_size(SIZE, SIZE)
    assert matched_shading(rig, frames, Levels(), (2, 2), np.ones((2, 3))) is None


@pytest.mark.parametrize(
    ("name", "changed"), [("ring-of-six-160", True), ("stereo-files-190", True), ("two-files-200", False)]
)
def test_what_neighbours_share_is_corrected_to_the_axis(name: str, changed: bool) -> None:
    """Of two lenses back to back each keeps its look in its middle; where all is seen twice, all becomes alike."""
    rig = rig_named(name).for_size(240, 240)
    picture = (
        np.full((240, 240), 120, np.uint8),
        np.full((120, 120), 128, np.uint8),
        np.full((120, 120), 128, np.uint8),
    )
    Correction(rig, 0, np.array([1.2, 1.2, 1.2]), Levels(), (2, 2)).apply(picture)
    # BT.709's transfer: (V + 0.099) grows by the gain to the power of 0.45.
    wanted = 16 + 219 * (((120 - 16) / 219 + 0.099) * 1.2**0.45 - 0.099)
    assert abs(float(picture[0][120, 120]) - (wanted if changed else 120)) <= 1
