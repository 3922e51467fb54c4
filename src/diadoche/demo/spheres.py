"""Simulated 360-degree cameras: two lenses in one file, two lenses in two files, and a rig with a card a lens.

Here they record round pictures through the plain lens of the scene; their true optics come with the sphere.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import replace
from pathlib import Path

from diadoche.demo.movies import H264, write_movie
from diadoche.demo.recording import Recording

LENSES = 6


def _through(recording: Recording, lens: int, lenses: int) -> Recording:
    camera = replace(recording.camera, yaw_deg=recording.camera.yaw_deg + 360 * lens / lenses)
    return replace(recording, camera=camera)


def write_one_file(root: Path, recordings: Sequence[Recording], model: str) -> None:
    """A two-lens camera that keeps both pictures as tracks of one file."""
    folder = root / "DCIM" / "100LAMPR"
    folder.mkdir(parents=True)
    for number, recording in enumerate(recordings, start=1):
        lenses = [_through(recording, lens, 2) for lens in range(2)]
        write_movie(folder / f"LAMP{number:04}.MP4", lenses, H264, model, masked=True)


def write_two_files(root: Path, recordings: Sequence[Recording], model: str) -> None:
    """A two-lens camera that keeps a file a lens."""
    folder = root / "DCIM" / "CAMERA01"
    folder.mkdir(parents=True)
    for number, recording in enumerate(recordings, start=1):
        stem = f"ROOM_{recording.start:%Y%m%d_%H%M%S}"
        for lens in range(2):
            path = folder / f"{stem}_{lens}0_{number:03}.MP4"
            write_movie(path, [_through(recording, lens, 2)], H264, model, masked=True)


def write_rig_card(root: Path, lens: int, recordings: Sequence[Recording], model: str) -> None:
    """One card of a rig: that of a lens (1 to 6), or with 0 the one that holds the rig's own stitched files."""
    folder = root / "RIG" / (f"LENS{lens}" if lens else "STITCHED")
    folder.mkdir(parents=True)
    for number, recording in enumerate(recordings, start=1):
        name = f"GALLERY_{number:04}_L{lens}.MP4" if lens else f"GALLERY_{number:04}_LOW.MP4"
        seen = _through(recording, lens - 1, LENSES) if lens else recording
        write_movie(folder / name, [seen], H264, model, masked=bool(lens))
