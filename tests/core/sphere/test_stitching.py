"""Stitching pictures whose every value follows from its direction: what comes out is known without any stitcher."""

from __future__ import annotations

from dataclasses import replace
from fractions import Fraction
from typing import Literal

import cv2
import numpy as np
import pytest
from numpy.typing import NDArray

from diadoche.core.spatial import Bounds
from diadoche.core.sphere.lens import Equidistant, KannalaBrandt, Lens
from diadoche.core.sphere.near_matching import NearMatching
from diadoche.core.sphere.projection import Equirectangular
from diadoche.core.sphere.rig import Rig, RigLens, rig_named
from diadoche.core.sphere.rotation import rotation
from diadoche.core.sphere.stitch_map import StitchMap, chroma_sampling, weights_of
from diadoche.core.sphere.stitcher import Planes, Stitcher

SIZE = 640
SHARED = {"420": (2, 2), "422": (2, 1), "444": (1, 1)}


def value(rays: np.ndarray, eye: str = "") -> np.ndarray:
    """A smooth value between 0 and 1 for every direction; the right eye sees another."""
    x, y, z = rays[..., 0], rays[..., 1], rays[..., 2]
    smooth = 0.5 + 0.2 * np.sin(5 * x + 1) * np.cos(4 * y) + 0.2 * np.sin(6 * z + 2 * y)
    return 1 - smooth if eye == "right" else smooth


def coded(values: np.ndarray, bits: int) -> np.ndarray:
    return np.round(values * (219 << bits - 8) + (16 << bits - 8)).astype(np.uint8 if bits == 8 else np.uint16)


def plane_places(width: int, height: int, shared: tuple[int, int], *, luma: bool) -> np.ndarray:
    """Where the samples of a plane lie, in pixels: colour in line with the left pixel, and between the rows."""
    across, down = (1, 1) if luma else shared
    x = np.arange(width // across) * across + 0.5
    y = np.arange(height // down) * down + down / 2
    return np.stack(np.meshgrid(x, y), axis=-1)


def photographed(rig: Rig, shared: tuple[int, int], bits: int) -> list[Planes]:
    """What each picture of a rig holds; black outside the image circles."""
    pictures = []
    for number in range(rig.pictures):
        planes = []
        for plane in range(3):
            places = plane_places(*rig.picture_px, shared, luma=plane == 0)
            found = np.zeros(places.shape[:2])
            for each in rig.lenses:
                if each.picture != number:
                    continue
                own = places - np.array(each.corner_px)
                rays = each.lens.unproject(own) @ each.matrix.T
                inside = (own >= 0).all(-1) & (own < np.array(each.lens.size_px)).all(-1) & ~np.isnan(rays[..., 0])
                found[inside] = value(rays[inside], each.eye)
            planes.append(coded(found, bits))
        pictures.append((planes[0], planes[1], planes[2]))
    return pictures


def empty(width: int, height: int, shared: tuple[int, int], bits: int) -> Planes:
    kind = np.uint8 if bits == 8 else np.uint16
    small = (height // shared[1], width // shared[0])
    return np.zeros((height, width), kind), np.zeros(small, kind), np.zeros(small, kind)


def expected(target: Equirectangular, shared: tuple[int, int], bits: int) -> list[np.ndarray]:
    found = []
    for plane in range(3):
        places = plane_places(target.width, target.height, shared, luma=plane == 0)
        found.append(coded(value(target.rays(places[..., 0], places[..., 1])), bits))
    return found


def two_in_one() -> Rig:
    return rig_named("dual-fisheye-200").for_size(2 * SIZE, SIZE)


# Each layout with each depth, in turn by one thread and by two; the other half is long.
@pytest.mark.parametrize(
    ("shared", "bits", "threads"),
    [
        pytest.param(shared, bits, threads, id=f"{name}-{bits}-{threads}", marks=[] if usual else pytest.mark.long)
        for place, (name, shared) in enumerate(SHARED.items())
        for number, bits in enumerate((8, 10, 16))
        for threads in (1, 2)
        for usual in ((place + number) % 2 == threads - 1,)
    ],
)
def test_what_two_lenses_see_is_what_comes_out(shared: tuple[int, int], bits: int, threads: int) -> None:
    rig, target = two_in_one(), Equirectangular(768, 384)
    into = empty(768, 384, shared, bits)
    with Stitcher(rig, target, shared, threads=threads) as stitcher:
        assert stitcher.sees_all
        stitcher.stitch(photographed(rig, shared, bits), into)
    for made, wanted in zip(into, expected(target, shared, bits), strict=True):
        # Between samples the value is interpolated in a straight line: off by less than three in a thousand.
        off = np.abs(made.astype(int) - wanted.astype(int)) / (219 << bits - 8)
        assert off.max() < 0.015
        assert np.sqrt((off**2).mean()) < 0.003


def test_six_lenses_of_another_model_turned_and_off_centre() -> None:
    lens = Lens(KannalaBrandt((0.02, -0.01, 0.002, 0.0)), 210.0, (325.0, 316.0), (SIZE, SIZE), 150.0)
    lenses = tuple(
        RigLens(f"lens {number}", lens, rotation(60.0 * number + 3, 2.0 * number, -number), picture=number)
        for number in range(6)
    )
    rig = Rig("six", lenses, (SIZE, SIZE))
    target = Equirectangular(768, 384)
    into = empty(768, 384, (2, 2), 8)
    with Stitcher(rig, target) as stitcher:
        stitcher.stitch(photographed(rig, (2, 2), 8), into)
        unseen = into[0] == 16
        assert stitcher.sees_all == (not unseen.any())
    off = np.abs(into[0].astype(int) - expected(target, (2, 2), 8)[0])[~unseen]
    assert np.sqrt((off**2).mean()) < 0.8
    # The ring leaves its poles open: they are black, and nothing else is.
    latitude = 90 - (np.arange(384) + 0.5) / 384 * 180
    assert np.abs(latitude[unseen.any(axis=1)]).min(initial=90) > 60


def test_each_eye_of_a_pair_gets_its_own_lens() -> None:
    lens = Lens(Equidistant(), SIZE / 2 / np.radians(100), (SIZE / 2, SIZE / 2), (SIZE, SIZE), 200.0)
    eyes: tuple[Literal["left", "right"], ...] = ("left", "right")
    pair = tuple(RigLens(eye, lens, np.eye(3), picture=number, eye=eye) for number, eye in enumerate(eyes))
    rig = Rig("pair", pair, (SIZE, SIZE))
    target = Equirectangular.part(512, 512, Fraction(180))
    pictures = photographed(rig, (2, 2), 8)
    rays = target.grid()
    for eye in eyes:
        into = empty(512, 512, (2, 2), 8)
        with Stitcher(rig.for_eye(eye), target) as stitcher:
            stitcher.stitch(pictures, into)
        assert np.abs(into[0].astype(int) - coded(value(rays, eye), 8)).max() < 4


def test_a_part_of_a_sphere_is_cut_out_of_the_whole() -> None:
    rig = two_in_one()
    whole, half = (
        Equirectangular(720, 360),
        Equirectangular(360, 360, Bounds(left=Fraction(1, 4), right=Fraction(1, 4))),
    )
    pictures = photographed(rig, (2, 2), 8)
    one, other = empty(720, 360, (2, 2), 8), empty(360, 360, (2, 2), 8)
    for target, into in ((whole, one), (half, other)):
        with Stitcher(rig, target) as stitcher:
            stitcher.stitch(pictures, into)
    assert np.abs(one[0][:, 180:540].astype(int) - other[0]).max() <= 1


def test_a_turned_rig_turns_its_picture() -> None:
    rig = two_in_one()
    target = Equirectangular(720, 360)
    pictures = photographed(rig, (2, 2), 8)
    turned = empty(720, 360, (2, 2), 8)
    matrix = rotation(50, 20, 10)
    with Stitcher(rig.turned(matrix), target) as stitcher:
        stitcher.stitch(pictures, turned)
    off = turned[0].astype(int) - coded(value(target.grid() @ matrix), 8)
    assert np.sqrt((off**2).mean()) < 0.8


def test_weights_add_up_are_even_and_fade_towards_the_rim() -> None:
    rig, target = two_in_one(), Equirectangular(720, 360)
    angles = np.stack([each.project(target.grid())[1] for each in rig.lenses])
    weights = weights_of(rig, angles, 8.0)
    assert np.allclose(weights.sum(axis=0), 1, atol=1e-6)
    row = weights[0][180]
    # The seam lies at a right angle to the axis; 8 degrees of 360 are 16 columns, and no step is a sharp one.
    assert row[180] == pytest.approx(0.5, abs=0.06)
    assert (row[189:531] == 1).all()
    assert (row[:171] == 0).all()
    assert np.abs(np.diff(row)).max() < 0.12
    # A band wider than what both see: at the rim of a lens its weight is nothing.
    wide = weights_of(rig, angles, 60.0)
    assert wide[0][angles[0] > np.radians(99.95)].max() < 0.05


def test_what_only_one_lens_gives_is_looked_up_once() -> None:
    rig, target = two_in_one(), Equirectangular(1920, 960)
    for sampling in (chroma_sampling(1, 1), chroma_sampling(2, 2)):
        patches = StitchMap(rig, target, sampling).patches
        looked_up = sum(patch.height * patch.width * len(patch.parts) for patch in patches)
        covered = sum(patch.height * patch.width for patch in patches)
        assert covered == (target.width // sampling.across) * (target.height // sampling.down)
        assert looked_up < 1.35 * covered


def test_a_map_worked_out_for_few_places_looks_where_the_exact_one_looks() -> None:
    """At 2560×1280: where a lens is looked up and with which weight, also where colour has a place for four pixels."""
    rig, target = two_in_one(), Equirectangular(2560, 1280)
    turn = rotation(20.0, -35.0, 50.0)
    for sampling in (chroma_sampling(1, 1), chroma_sampling(2, 2)):
        exact = StitchMap(rig.turned(turn), target, sampling)
        coarse = StitchMap(rig, target, sampling, turn=turn)
        assert coarse.is_coarse
        assert not exact.is_coarse
        one, other = (_lenses_looked_up(found) for found in (exact, coarse))
        assert np.abs(one[..., 2] - other[..., 2]).max() < 0.1
        both = (one[..., 2] > 0.1) & (other[..., 2] > 0.1)
        assert both.mean() > 0.5
        assert np.abs(one - other)[both][:, :2].max() < 0.1


def test_what_no_lens_sees_is_the_same_few_places_or_all() -> None:
    one_lens = replace(two_in_one(), lenses=two_in_one().lenses[:1])
    target = Equirectangular(2560, 1280)
    exact, coarse = StitchMap(one_lens, target), StitchMap(one_lens, target, turn=np.eye(3))
    assert exact.unseen > target.width * target.height // 3
    assert abs(exact.unseen - coarse.unseen) < target.height * 4


def _lenses_looked_up(found: StitchMap) -> NDArray[np.float32]:
    """Of the first lens: across, down and weight for each place, shape (height, width, 3)."""
    places = np.zeros((found.height, found.width, 3), np.float32)
    for patch in found.patches:
        for part in patch.parts:
            if part.lens == 0:
                weight = np.ones((1, 1), np.float32) if part.weight is None else patch.filled(part.weight)
                rows = slice(patch.top, patch.top + patch.height)
                columns = slice(patch.left, patch.left + patch.width)
                places[rows, columns, 0] = patch.filled(part.across)
                places[rows, columns, 1] = patch.filled(part.down)
                places[rows, columns, 2] = weight
    return places


def test_lenses_that_stand_beside_the_middle_meet_at_the_chosen_distance() -> None:
    beside = replace(two_in_one().lenses[0], position_m=(0.05, 0.0, 0.0))
    point = np.array([0.3, -0.2, 1.0])
    ray = point / np.linalg.norm(point)
    places, _ = beside.project(ray, float(np.linalg.norm(point)))
    wanted, _ = beside.lens.project(point - np.array([0.05, 0, 0]))
    assert np.allclose(places, wanted)


@pytest.mark.parametrize(("rig", "size"), [("dual-fisheye-200", (1000, 500)), ("ring-of-six-160", (1264, 632))])
@pytest.mark.parametrize("moves", [False, True])
def test_every_place_that_is_seen_is_filled_once_by_all_that_count_there(
    rig: str, size: tuple[int, int], moves: bool
) -> None:
    lenses = rig_named(rig)
    target = Equirectangular(*size)
    found = StitchMap(lenses, target, turn=np.eye(3) if moves else None)
    filled = np.zeros((len(lenses.lenses), target.height, target.width), int)
    for patch in found.patches:
        own = np.s_[patch.top : patch.top + patch.height, patch.left : patch.left + patch.width]
        for part in patch.parts:
            filled[(part.lens, *own)] += 1
    assert filled.max() == 1
    angles = np.stack([each.project(target.grid())[1] for each in lenses.lenses])
    counts = weights_of(lenses, angles, 8.0) > 1e-3
    assert (filled[counts] == 1).all()
    assert sorted(map(id, (*found.alone, *found.seams))) == sorted(map(id, found.patches))


@pytest.mark.parametrize("threads", [1, 3])
def test_an_error_while_near_things_are_matched_ends_the_picture_and_no_later_one(threads: int) -> None:
    rig = two_in_one()
    target = Equirectangular(640, 320)
    pictures = photographed(rig, (2, 2), 8)
    with Stitcher(rig, target, near=NearMatching(rig, 8.0), threads=threads) as stitcher:
        luma, blue, red = pictures[0]
        with pytest.raises(cv2.error):
            stitcher.stitch([(luma.astype(np.complex128), blue, red)], empty(640, 320, (2, 2), 8))
        made = empty(640, 320, (2, 2), 8)
        assert stitcher.stitch(pictures, made) is not None
    assert np.abs(made[0].astype(int) - expected(target, (2, 2), 8)[0]).max() <= 3
