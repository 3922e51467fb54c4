"""A simulated action camera: it cuts a recording into numbered chapters, each with a thumbnail and a small copy."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import replace
from fractions import Fraction
from pathlib import Path

from diadoche.demo.movies import H264, SmallCopy, set_time, write_movie
from diadoche.demo.recording import Recording
from diadoche.demo.stills import write_still

_THUMBNAIL_PX = (480, 270)


def write_card(root: Path, recordings: Sequence[tuple[Recording, int]], model: str, serial: str) -> None:
    """Writes the card of an action camera.

    Args:
        root: an empty folder.
        recordings: each with the number of chapters it was cut into.
        model: what the camera calls itself.
        serial: of its body, by which two alike are told apart.
    """
    folder = root / "DCIM" / "100BOATC"
    folder.mkdir(parents=True)
    for number, (recording, chapters) in enumerate(recordings, start=1):
        for chapter in range(chapters):
            part = _chapter(recording, chapter, chapters)
            stem = f"BT{chapter + 1:02}{number:04}"
            small = SmallCopy(folder / f"BL{chapter + 1:02}{number:04}.LRV")
            write_movie(folder / f"{stem}.MP4", [part], H264, model, serial, small=small)
            thumbnail = replace(part.camera, width_px=_THUMBNAIL_PX[0], height_px=_THUMBNAIL_PX[1])
            write_still(folder / f"{stem}.THM", thumbnail, part.scene_start_s)
            set_time(folder / f"{stem}.THM", part)


def _chapter(recording: Recording, chapter: int, chapters: int) -> Recording:
    """One chapter of a recording; its clock is the whole recording's, as such cameras write it."""
    length = recording.pictures // chapters
    begin = length * chapter
    count = recording.pictures - begin if chapter == chapters - 1 else length
    return replace(
        recording,
        pictures=count,
        first_number=recording.first_number + begin,
        scene_start_s=recording.scene_start_s + Fraction(begin) / recording.rate,
        timecode="",
    )
