"""A horizon that is made level by what the camera's sensors tell, against the gallery as it is.

The lenses film it as a hand holds them; sensors and pictures both follow from that, by code of the demo.
"""

from __future__ import annotations

import json
import subprocess
from dataclasses import replace
from pathlib import Path

import av
import numpy as np
import pytest

from diadoche.core.sphere.motion_track import read_motion
from diadoche.core.sphere.projection import Equirectangular
from diadoche.demo.fisheye import photograph, planes, write_number
from diadoche.demo.motion import add_motion_track, leaning
from diadoche.demo.ray_scene import Moment, RayScene
from tests.conftest import diadoche
from tests.outside.gallery import RATE, encode, psnr, truth, two_lenses
from tests.outside.test_spheres import stitch

SCENE, SIZE, PICTURES = RayScene(3), 400, 8
_SHOWN = "stream=codec_tag_string:packet=pts_time"
TARGET = Equirectangular(720, 360)


def lean(time_s: float) -> np.ndarray:
    """A hand that holds the camera askew, and sways."""
    return leaning(15 + 9 * np.sin(9 * time_s), 5 * np.cos(9 * time_s))


def sensors() -> list[tuple[float, int, np.ndarray]]:
    """Pushes and turning in the camera's frame, 200 times a second."""
    found, step = [], 1e-4
    for number in range(200 * PICTURES // RATE + 60):
        time_s = number / 200
        now, later = lean(time_s), lean(time_s + step)
        east, north, up = now.T @ np.array((0.0, 0.0, 9.81))
        found.append((time_s, 3, np.array((east, -up, north))))
        # By how much it turned in its own frame: small angles are read off the matrix.
        turned = now.T @ later
        rate = np.array((turned[2, 1] - turned[1, 2], turned[0, 2] - turned[2, 0], turned[1, 0] - turned[0, 1]))
        east, north, up = rate / 2 / step
        found.append((time_s, 2, np.array((east, -up, north))))
    return found


@pytest.fixture(scope="module")
def held(tmp_path_factory: pytest.TempPathFactory) -> list[Path]:
    """Two lens files of a camera that is held, the first with a motion track."""
    folder, paths = tmp_path_factory.mktemp("held"), []
    for number, lens in enumerate(two_lenses(SIZE)):
        pictures = []
        for index in range(PICTURES):
            held_so = replace(lens, lean=tuple(map(tuple, lean(index / RATE))))
            found = planes(photograph(held_so, SCENE, Moment(index / RATE, index), fine=1))
            write_number(found[0], index)
            pictures.append(found)
        paths.append(encode(folder / f"lens{number}.mov", [pictures]))
    add_motion_track(paths[0], sensors())
    return paths


def lumas(path: Path) -> list[np.ndarray]:
    with av.open(str(path)) as media:
        return [frame.to_ndarray(format="gray") for frame in media.decode(video=0)]


@pytest.mark.usefixtures("own_state")
def test_each_picture_is_level_and_once_is_level_on_the_mean(held: list[Path], tmp_path: Path) -> None:
    quality = {}
    true = [truth(SCENE, TARGET, Moment(index / RATE, index))[0] for index in range(PICTURES)]
    for level in ("no", "once", "each-picture"):
        made = stitch(
            *held, "--to", tmp_path / f"{level}.mov", "--rig", "two-files-200", "--size", "720x360", "--level", level
        )
        assert made["checks"]["frames"]
        pictures = lumas(Path(made["output"]))
        assert len(pictures) == PICTURES
        quality[level] = [psnr(one, other) for one, other in zip(pictures, true, strict=True)]
    assert min(quality["each-picture"]) > max(quality["no"]) + 4
    assert np.mean(quality["once"]) > np.mean(quality["no"]) + 1
    # Swaying goes on where the whole was levelled once.
    assert np.mean(quality["each-picture"]) > np.mean(quality["once"]) + 1.5


@pytest.mark.usefixtures("own_state")
def test_what_cannot_be_levelled_is_said_before_the_start(held: list[Path], tmp_path: Path) -> None:
    words = ("--rig", "two-files-200", "--quality", "quick")
    told = diadoche("stitch", held[1], held[1], "--to", tmp_path / "a.mov", *words, "--level", "once")
    assert told.returncode == 2
    assert "no motion track that tells which way is down" in told.stderr
    moving = ("--level", "each-picture", "--cover-deg", "9")
    told = diadoche("stitch", *held, "--to", tmp_path / "b.mov", *words, *moving)
    assert told.returncode == 2
    assert "Level once" in told.stderr
    assert list(tmp_path.glob("*.mov")) == []


def test_the_track_is_one_that_other_readers_find(held: list[Path]) -> None:
    """Its samples as FFmpeg copies them out, byte for byte, and their times."""
    shown = subprocess.run(
        ["ffprobe", "-v", "error", "-select_streams", "d:0", "-show_entries", _SHOWN, "-of", "json", held[0]],
        capture_output=True,
        check=True,
    )
    found = json.loads(shown.stdout)
    assert found["streams"][0]["codec_tag_string"] == "camm"
    times = [float(packet["pts_time"]) for packet in found["packets"]]
    motion = read_motion([held[0]])
    assert motion is not None
    assert motion.times_s[0] == pytest.approx(times[0], abs=0.02)
    assert motion.times_s[-1] == pytest.approx(times[-1], abs=0.02)
    assert read_motion([held[1]]) is None
