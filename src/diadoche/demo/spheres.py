"""Simulated 360-degree cameras: two lenses in one file, two lenses in two files, and a rig with a card a lens.

They stand on the gallery and see it through true optics, each body's a little other than the next one's.
"""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from dataclasses import replace
from functools import cache
from pathlib import Path

import av
import numpy as np

from diadoche.demo.fisheye import Fisheye, photograph, planes, still_view, write_number
from diadoche.demo.motion import add_motion_track, leaning, standing
from diadoche.demo.movies import H264, set_time, write_movie
from diadoche.demo.ray_scene import EYE_M, Array, Moment, Person, RayScene
from diadoche.demo.recording import Recording, planar_frame

LENSES = 6
# Half the way between the pupils of two lenses back to back, and from the middle of the rig to each of its pupils.
_PUPIL_M, _RING_M = 0.013, 0.06
_TWO_DEG, _RING_DEG = 200.0, 160.0
_LEAN_DEG = (14.0, -6.0)
SCENE = RayScene(
    people=(
        Person(1.25, -0.1, colour=(0.55, 0.12, 0.08), sway_m=0.25),
        Person(-1.9, 0.5, colour=(0.08, 0.16, 0.42)),
        Person(-0.6, 2.3, colour=(0.5, 0.42, 0.1), sway_m=0.3, sway_s=4.0),
        Person(0.8, -2.5, colour=(0.1, 0.35, 0.2)),
    )
)


def two_lenses(size_px: int, body: int) -> list[Fisheye]:
    """The lenses of a camera with two of them back to back, as its body was built."""
    dice = np.random.default_rng(100 + body)
    lenses = []
    for yaw_deg, ahead_m in ((0.0, _PUPIL_M), (180.0, -_PUPIL_M)):
        off_deg = dice.normal(0, 0.35, 3) * (yaw_deg > 0)
        lenses.append(
            Fisheye(
                size_px,
                _TWO_DEG,
                (0.0, ahead_m, EYE_M),
                yaw_deg + off_deg[0],
                off_deg[1],
                off_deg[2],
                decentre=(float(dice.normal(0, 0.002)), float(dice.normal(0, 0.002))),
                bend=float(dice.uniform(0.001, 0.003)),
                gains=(*(float(gain) for gain in dice.uniform(0.94, 1.06, 3)),),  # type: ignore[arg-type]  # three
                noise=0.002,
                flare=0.005,
                fall_off=0.15,
            )
        )
    return lenses


def ring_lens(size_px: int, number: int) -> Fisheye:
    """A lens of the six-lens rig, from 0."""
    dice = np.random.default_rng(200 + number)
    yaw_deg = 360.0 * number / LENSES
    place = np.radians(yaw_deg)
    off_deg = dice.normal(0, 0.25, 3)
    return Fisheye(
        size_px,
        _RING_DEG,
        (float(_RING_M * np.sin(place)), float(_RING_M * np.cos(place)), EYE_M),
        yaw_deg + off_deg[0],
        off_deg[1],
        off_deg[2],
        bend=float(dice.uniform(0.001, 0.003)),
        noise=0.002,
        fall_off=0.15,
    )


def _filmed(recording: Recording, lens: Fisheye) -> Iterator[av.VideoFrame]:
    """The pictures of a lens, each with its number outside the image circle and on the board."""
    still, dice = still_view(lens, SCENE, fine=1), np.random.default_rng(recording.first_number)
    for index in range(recording.pictures):
        number = recording.first_number + index & 0xFFFF
        light = photograph(lens, SCENE, _moment(recording, index), fine=1, dice=dice, still=still)
        found = planes(light)
        write_number(found[0], number)
        yield planar_frame(found, index, recording.rate)


def _stitched(recording: Recording) -> Iterator[av.VideoFrame]:
    """What the rig itself makes of its pictures, small: the gallery as seen from its middle."""
    rays = _all_around(recording.camera.width_px, recording.camera.height_px)
    still = SCENE.see_still(np.array((0.0, 0.0, EYE_M)), rays, Moment(0.0))
    for index in range(recording.pictures):
        light, _ = SCENE.see_moving(still, _moment(recording, index))
        yield planar_frame(planes(light), index, recording.rate)


def _moment(recording: Recording, index: int) -> Moment:
    return Moment(float(recording.scene_start_s + index / recording.rate), recording.first_number + index & 0xFFFF)


@cache
def _all_around(width: int, height: int) -> Array:
    """Directions of an equirectangular picture's pixels, in east, north and up; its middle looks north."""
    east = (np.arange(width) + 0.5) / width * 2 * np.pi - np.pi
    up = np.pi / 2 - (np.arange(height) + 0.5)[:, None] / height * np.pi
    parts = np.broadcast_arrays(np.sin(east) * np.cos(up), np.cos(east) * np.cos(up), np.sin(up))
    return np.stack(parts, axis=-1)


def write_one_file(root: Path, recordings: Sequence[Recording], model: str) -> None:
    """A two-lens camera that keeps both pictures as tracks of one file."""
    folder = root / "DCIM" / "100LAMPR"
    folder.mkdir(parents=True)
    for number, recording in enumerate(recordings, start=1):
        lenses = two_lenses(recording.camera.width_px, 1)
        pictures = [_filmed(recording, lens) for lens in lenses]
        write_movie(folder / f"LAMP{number:04}.MP4", [recording] * 2, H264, model, pictures=pictures)


def write_two_files(root: Path, recordings: Sequence[Recording], model: str) -> None:
    """A two-lens camera that keeps a file a lens, and in the first one's how it was held."""
    folder = root / "DCIM" / "CAMERA01"
    folder.mkdir(parents=True)
    for number, recording in enumerate(recordings, start=1):
        stem = f"ROOM_{recording.start:%Y%m%d_%H%M%S}"
        # The second time somebody leaned it against the wall; its sensors know.
        lean = leaning(*(_LEAN_DEG if number > 1 else (0.0, 0.0)))
        for place, lens in enumerate(two_lenses(recording.camera.width_px, 2)):
            path = folder / f"{stem}_{place}0_{number:03}.MP4"
            own = replace(lens, lean=tuple(map(tuple, lean)))
            write_movie(path, [recording], H264, model, pictures=[_filmed(recording, own)])
            if place == 0:
                seconds = float(recording.pictures / recording.rate)
                add_motion_track(path, standing(lean, seconds, recording.first_number))
                set_time(path, recording)


def write_rig_card(root: Path, lens: int, recordings: Sequence[Recording], model: str) -> None:
    """One card of a rig: that of a lens (1 to 6), or with 0 the one that holds the rig's own stitched files."""
    folder = root / "RIG" / (f"LENS{lens}" if lens else "STITCHED")
    folder.mkdir(parents=True)
    for number, recording in enumerate(recordings, start=1):
        name = f"GALLERY_{number:04}_L{lens}.MP4" if lens else f"GALLERY_{number:04}_LOW.MP4"
        own = ring_lens(recording.camera.width_px, lens - 1) if lens else None
        pictures = _stitched(recording) if own is None else _filmed(recording, own)
        write_movie(folder / name, [recording], H264, model, pictures=[pictures])
