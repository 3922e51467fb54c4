"""Lens films of the drawn gallery, and what is truly seen from its middle; encoded by FFmpeg without loss."""

from __future__ import annotations

from collections.abc import Sequence
from pathlib import Path
from typing import Any

import numpy as np

from diadoche.core.sphere.projection import Equirectangular
from diadoche.demo.fisheye import Fisheye, photograph, planes, still_view, write_number
from diadoche.demo.ray_scene import EYE_M, Moment, RayScene, StillView
from tests.outside.numbered import ffmpeg

RATE = 25
_SEEN: list[Any] = []
PUPIL_M = 0.012


def two_lenses(size: int) -> list[Fisheye]:
    """Back to back, with their pupils before the middle; the plain optics of the supplied rig."""
    return [
        Fisheye(size, yaw_deg=yaw, position_m=(0.0, ahead, EYE_M), fall_off=0.0)
        for yaw, ahead in ((0.0, PUPIL_M), (180.0, -PUPIL_M))
    ]


def drawn(lens: Fisheye, scene: RayScene, count: int) -> list[tuple[np.ndarray, ...]]:
    """Planes of the pictures of a lens, each with its number in the corner and on the board."""
    found: list[tuple[np.ndarray, ...]] = []
    still = still_view(lens, scene, fine=1)
    for number in range(count):
        luma, blue, red = planes(photograph(lens, scene, Moment(number / RATE, number), fine=1, still=still))
        write_number(luma, number)
        found.append((luma, blue, red))
    return found


def encode(path: Path, tracks: Sequence[Sequence[tuple[np.ndarray, ...]]], rate: int = RATE) -> Path:
    """A film with a picture track for each list of pictures, and a tone of as long."""
    words: list[str | Path] = []
    count = len(tracks[0])
    for number, pictures in enumerate(tracks):
        raw = path.with_name(f"{path.stem}-{number}.yuv")
        raw.write_bytes(b"".join(plane.tobytes() for picture in pictures for plane in picture))
        height, width = pictures[0][0].shape
        words += ["-f", "rawvideo", "-pix_fmt", "yuv420p", "-s", f"{width}x{height}", "-r", str(rate), "-i", raw]
    words += ["-f", "lavfi", "-i", f"sine=440:r=48000:d={count / rate}"]
    for number in range(len(tracks) + 1):
        words += ["-map", str(number)]
    tags = ["-color_primaries", "bt709", "-color_trc", "bt709", "-colorspace", "bt709", "-color_range", "tv"]
    ffmpeg(*words, "-c:v", "libx264", "-qp", "0", "-preset", "ultrafast", *tags, "-c:a", "pcm_s16le", path)
    return path


def beside(
    one: Sequence[tuple[np.ndarray, ...]], other: Sequence[tuple[np.ndarray, ...]]
) -> list[tuple[np.ndarray, ...]]:
    """Two lenses side by side in one picture."""
    return [
        tuple(np.concatenate(pair, axis=1) for pair in zip(left, right, strict=True))
        for left, right in zip(one, other, strict=True)
    ]


def truth(scene: RayScene, target: Equirectangular, moment: Moment) -> tuple[np.ndarray, np.ndarray]:
    """Luma as seen from the rig's middle, the mean of four rays a pixel, and how far away each pixel is in metres."""
    seen = [scene.see_moving(still, moment) for still in _stand_still(scene, target)]
    return planes(np.mean([light for light, _depth in seen], axis=0))[0], seen[-1][1]


def _stand_still(scene: RayScene, target: Equirectangular) -> list[StillView]:
    """What stands still is seen once for all moments; that of one scene and one target is kept."""
    if _SEEN[:1] != [(scene, target)]:
        views = []
        for across in (0.25, 0.75):
            for down in (0.25, 0.75):
                rays = target.rays(np.arange(target.width)[None, :] + across, np.arange(target.height)[:, None] + down)
                world = np.stack((rays[..., 0], rays[..., 2], -rays[..., 1]), axis=-1)
                views.append(scene.see_still(np.array([0.0, 0.0, EYE_M]), world, Moment(0.0)))
        _SEEN[:] = [(scene, target), views]
    found: list[StillView] = _SEEN[1]
    return found


def psnr(one: np.ndarray, other: np.ndarray) -> float:
    """In decibels, of code values of limited range."""
    return float(10 * np.log10(219**2 / np.mean((one.astype(float) - other) ** 2)))
