"""A simulated drone: still-and-video folders by the DCF rule, progressive H.264 in MP4.

Source: [DCF] CIPA DC-009-2010, sections 3.2 and 3.3 (folder and file names).
"""

from __future__ import annotations

import os
from dataclasses import replace
from datetime import datetime, timedelta
from pathlib import Path

from diadoche.demo.movies import H264, SmallCopy, write_movie
from diadoche.demo.recording import Recording
from diadoche.demo.stills import write_still

_FOLDER = Path("DCIM/100DRONE")
MODEL = "Petrel"
_MAKE = replace(H264, video_options={"preset": "ultrafast", "crf": "21", "g": "30"})


def write_card(root: Path, recordings: list[Recording]) -> None:
    """Writes the card of a drone: clips with companions, and one still."""
    folder = root / _FOLDER
    folder.mkdir(parents=True)
    (root / "MISC").mkdir()
    for number, recording in enumerate(recordings, start=1):
        stem = f"DRON{number:04}"
        _write_clip(folder / stem, recording)
        _write_telemetry(folder / f"{stem}.SRT", recording)
        _set_times(folder, stem, recording)
    last = recordings[-1]
    still = folder / f"DRON{len(recordings) + 1:04}.JPG"
    write_still(still, last.camera, last.scene_start_s)
    _set_time(still, last.start + timedelta(minutes=2))


def _write_clip(base: Path, recording: Recording) -> None:
    write_movie(base.with_suffix(".MP4"), [recording], _MAKE, MODEL, small=SmallCopy(base.with_suffix(".LRF")))


def _write_telemetry(path: Path, recording: Recording) -> None:
    """A subtitle a second with a place in mid-ocean, heights in metres above the start."""
    lines = []
    seconds = int(recording.pictures / recording.rate)
    for second in range(seconds):
        moment = recording.start + timedelta(seconds=second)
        lines.append(
            f"{second + 1}\n00:00:{second:02},000 --> 00:00:{second + 1:02},000\n"
            f"{moment:%Y-%m-%d %H:%M:%S}\n"
            f"[latitude: {48 + second * 1e-5:.6f}] [longitude: {-20 - second * 1e-5:.6f}] "
            f"[rel_alt: {recording.camera.up_m:.1f} abs_alt: {recording.camera.up_m:.1f}]\n"
        )
    path.write_text("\n".join(lines), "utf-8")


def _set_times(folder: Path, stem: str, recording: Recording) -> None:
    end = recording.start + timedelta(seconds=float(recording.pictures / recording.rate))
    for ending in (".MP4", ".LRF", ".SRT"):
        _set_time(folder / f"{stem}{ending}", end)


def _set_time(path: Path, moment: datetime) -> None:
    os.utime(path, (moment.timestamp(), moment.timestamp()))
