"""A stitched moment before anything is started: made in a process of its own, right or with words why not."""

from __future__ import annotations

from collections.abc import Iterator
from fractions import Fraction
from pathlib import Path

import numpy as np
import pytest
from PyQt6.QtGui import QImage

from diadoche.core.sphere.projection import Equirectangular
from diadoche.demo.ray_scene import Moment, Person, RayScene
from diadoche.services.jobs.lens_take import LensTake, StitchSettings
from diadoche.services.side_processes.sphere_preview import ShotSeen, SpherePreviews
from tests.outside.gallery import RATE, beside, drawn, encode, psnr, truth, two_lenses

SIZE, COUNT = 320, 10
SCENE = RayScene(people=(Person(1.4, 0.0, sway_m=0.4),))


@pytest.fixture(scope="module")
def film(tmp_path_factory: pytest.TempPathFactory) -> Path:
    lenses = [drawn(lens, SCENE, COUNT) for lens in two_lenses(SIZE)]
    return encode(tmp_path_factory.mktemp("preview") / "take.mov", [beside(*lenses)])


@pytest.fixture
def previews() -> Iterator[SpherePreviews]:
    with SpherePreviews() as made:
        yield made


def luma_of(png: bytes) -> np.ndarray:
    image = QImage.fromData(png).convertToFormat(QImage.Format.Format_Grayscale8)
    bits = image.constBits()
    assert bits is not None
    bits.setsize(image.sizeInBytes())
    lines = np.frombuffer(bits, np.uint8).reshape(image.height(), image.bytesPerLine())  # type: ignore[call-overload]  # a buffer
    found: np.ndarray = lines[:, : image.width()]
    return found


def test_any_moment_is_shown_with_its_seam(film: Path, previews: SpherePreviews) -> None:
    take = LensTake(((film,),), "dual-fisheye-200")
    found = previews.picture(take, StitchSettings(), Fraction(4, RATE), 512)
    assert found.problem == ""
    shown = luma_of(found.png).astype(float)
    assert shown.shape == (256, 512)
    seen, depth = truth(SCENE, Equirectangular(512, 256), Moment(4 / RATE, 4))
    # As it is shown on a screen: black and white are 0 and 255 there.
    assert psnr((seen[depth > 20] - 16.0) * 255 / 219, shown[depth > 20]) > 22
    assert len(found.seams) == 1
    assert luma_of(found.seams[0].png).shape == (64, 1440)
    assert found.break_px is not None
    # Turned over, it is the same picture upside down.
    over = previews.picture(take, StitchSettings(turn_deg=(0.0, 0.0, 180.0)), Fraction(4, RATE), 512)
    assert psnr(luma_of(over.png)[::-1, ::-1], shown) > 28


def test_what_cannot_be_shown_says_why(film: Path, previews: SpherePreviews, tmp_path: Path) -> None:
    late = previews.picture(LensTake(((film,),), "dual-fisheye-200"), StitchSettings(), Fraction(60), 512)
    assert (late.png, late.problem) == (b"", "Not every lens has a picture at this moment.")
    gone = previews.picture(LensTake(((tmp_path / "no.mov",),), "dual-fisheye-200"), StitchSettings(), Fraction(0), 512)
    assert "There is no file" in gone.problem
    other = previews.picture(LensTake(((film,),), "two-files-200"), StitchSettings(), Fraction(0), 512)
    assert "takes 2 pictures" in other.problem
    broken = tmp_path / "broken.mov"
    broken.write_bytes(film.read_bytes()[:2000])
    assert previews.picture(LensTake(((broken,),), "dual-fisheye-200"), StitchSettings(), Fraction(0), 512).problem
    # And the next one is made all the same.
    assert previews.picture(LensTake(((film,),), "dual-fisheye-200"), StitchSettings(), Fraction(0), 512).png


def test_the_shot_is_told_with_its_reason_and_cost(film: Path, previews: SpherePreviews) -> None:
    take = LensTake(((film,),), "dual-fisheye-200")
    shot = previews.shot(take, StitchSettings(), Fraction(2, RATE))
    assert shot is not None
    assert not shot.stands
    assert 0 < shot.saved < 1
    assert "“Best” follows them" in shot.words("best")
    assert "may lag behind" in shot.words("standing")
    assert previews.shot(take, StitchSettings(), Fraction(COUNT - 1, RATE)) is None
    still = ShotSeen(moving=0.0, noise=2.0, stands=True, is_noisy=True, saved=0.3)
    assert "is enough, and stitching takes 30% less" in still.words("best")
    assert "noisy" in still.words("best")
