"""Lens pictures that are not what their rig says: named, and not stitched into something that was never filmed.

The truth is the demo's gallery, drawn by casting rays through lenses at their true positions; it shares no code with
`core/sphere` (an import contract holds that). That such faults must be named: common practice, no source.
"""

from __future__ import annotations

from pathlib import Path

import numpy as np
import pytest

from diadoche.core.sphere.lens_check import lens_faults
from diadoche.core.sphere.rig import rig_named
from diadoche.demo.fisheye import photograph, planes
from diadoche.demo.ray_scene import Moment, RayScene
from tests.conftest import diadoche
from tests.outside.gallery import drawn, encode, psnr, two_lenses
from tests.outside.test_calibration import filmed, true_lenses
from tests.outside.test_ring_stereo import SIZE, rig, ring
from tests.outside.test_spheres import lumas, stitch

BACK_TO_BACK = rig_named("two-files-200").for_size(640, 640)


@pytest.fixture(scope="module")
def six() -> list[np.ndarray]:
    return [planes(photograph(lens, RayScene(3), Moment(0.5, 1), fine=1))[0] for lens in ring()]


def said(lumas: list[np.ndarray]) -> list[tuple[str, bool]]:
    return [(fault.words, fault.sure) for fault in lens_faults(rig(), [lumas], 8)]


def test_of_six_lenses_each_fault_is_named(six: list[np.ndarray]) -> None:
    assert said(six) == []
    exchanged = [six[number] for number in (0, 2, 1, 3, 4, 5)]
    assert said(exchanged) == [("It seems that the pictures of lens 2 and lens 3 are exchanged.", True)]
    mirrored = [luma[:, ::-1].copy() if number == 3 else luma for number, luma in enumerate(six)]
    assert said(mirrored) == [("It seems that the picture of lens 4 is mirrored.", True)]
    black = [np.full((SIZE, SIZE), 16, np.uint8) if number == 3 else luma for number, luma in enumerate(six)]
    assert said(black) == [("The picture of lens 4 is black.", False)]


@pytest.mark.parametrize("seed", [3, 41, 52])
def test_lenses_as_they_are_built_are_not_accused(seed: int) -> None:
    """Bent, turned, noisy, of other brightness, with people near: before anything is aligned."""
    lenses = true_lenses(seed)
    lumas = filmed(lenses, RayScene(seed), (0.5,))
    assert lens_faults(BACK_TO_BACK, lumas, 8) == []
    (front, back) = lumas[0]
    (fault,) = lens_faults(BACK_TO_BACK, [[front, back[:, ::-1].copy()]], 8)
    # Of two, it cannot be told which.
    assert fault.sure
    assert "the picture of front is mirrored, or the picture of back is mirrored" in fault.words
    (fault,) = lens_faults(BACK_TO_BACK, [[front, back[::-1, ::-1].copy()]], 8)
    assert "show different things" in fault.words


@pytest.mark.usefixtures("own_state")
def test_a_mirrored_lens_is_refused_and_a_black_one_told(tmp_path: Path) -> None:
    pictures = [drawn(lens, RayScene(3), 2) for lens in two_lenses(400)]
    front = encode(tmp_path / "front.mov", [pictures[0]])
    flipped = [tuple(plane[:, ::-1].copy() for plane in picture) for picture in pictures[1]]
    mirrored = encode(tmp_path / "mirrored.mov", [flipped])
    words = ["--rig", "two-files-200", "--size", "720x360"]
    told = stitch(front, mirrored, "--to", tmp_path / "out" / "a.mov", *words, code=1)
    assert "is mirrored" in told["problems"][0]["what"]
    assert told["output"] == ""
    assert list((tmp_path / "out").glob("*")) == []
    dark = [(np.full_like(luma, 16), np.full_like(blue, 128), np.full_like(red, 128)) for luma, blue, red in flipped]
    black = encode(tmp_path / "black.mov", [dark])
    told = stitch(front, black, "--to", tmp_path / "out" / "b.mov", *words, code=1)
    assert "The picture of back is black" in told["problems"][0]["what"]
    assert told["frames"] == 2


@pytest.mark.usefixtures("own_state")
def test_a_lens_that_is_missing_is_told_and_the_others_are_stitched(tmp_path: Path) -> None:
    """Of six lenses of 160 degrees any direction of the horizon is seen by two others."""
    pictures = [drawn(lens, RayScene(3), 2) for lens in ring()]
    paths = [encode(tmp_path / f"lens{number}.mov", [each]) for number, each in enumerate(pictures, start=1)]
    five = [path for path in paths if path.stem != "lens4"]
    words = ("--rig", "ring-of-six-160", "--size", "720x360", "--quality", "quick", "--as-filmed")
    whole = stitch(*paths, "--to", tmp_path / "out" / "whole.mov", *words)
    told = diadoche("stitch", *five, "--to", tmp_path / "out" / "no.mov", *words)
    assert told.returncode == 2
    assert "takes 6 pictures, and 5 were given" in told.stderr
    made = stitch(*five, "--to", tmp_path / "out" / "part.mov", *words, "--without-lens", "4", code=1)
    assert made["checks"] == whole["checks"]
    (problem,) = made["problems"]
    assert problem["what"].startswith("Lens 4 is missing")
    one, other = (lumas(Path(each["output"]), (720, 360))[0] for each in (whole, made))
    behind = one[150:190, 40:-40], other[150:190, 40:-40]
    assert psnr(*behind) > 24
    assert np.abs(one[:, 330:390].astype(int) - other[:, 330:390]).max() <= 4
    told = diadoche("stitch", *five, "--to", tmp_path / "out" / "no.mov", *words, "--without-lens", "7")
    assert told.returncode == 2
    assert "pictures 1 to 6" in told.stderr
