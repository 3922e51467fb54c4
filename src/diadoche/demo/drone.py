"""A simulated drone: still-and-video folders by the DCF rule, progressive H.264 in MP4.

Source: [DCF] CIPA DC-009-2010, sections 3.2 and 3.3 (folder and file names).
"""

from __future__ import annotations

import os
from datetime import datetime, timedelta
from fractions import Fraction
from pathlib import Path

import av

from diadoche.demo.recording import SAMPLE_RATE_HZ, Recording, picture_frames, prepare_video, sound_frames
from diadoche.demo.scene import Camera, View

_FOLDER = Path("DCIM/100DRONE")
_SMALL_WIDTH_PX, _SMALL_HEIGHT_PX = 640, 360


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
    _write_still(still, last.camera, last.scene_start_s)
    _set_time(still, last.start + timedelta(minutes=2))


def _write_clip(base: Path, recording: Recording) -> None:
    small = av.open(str(base.with_suffix(".LRF")), "w", format="mp4")
    with av.open(str(base.with_suffix(".MP4")), "w", options={"write_tmcd": "1"}) as main, small:
        main.metadata["creation_time"] = small.metadata["creation_time"] = _utc(recording.start)
        video = main.add_stream("libx264", rate=recording.rate)
        prepare_video(video, recording, {"preset": "ultrafast", "crf": "21", "g": "30"})
        video.metadata["timecode"] = recording.timecode
        audio = main.add_stream("aac", rate=SAMPLE_RATE_HZ)
        small_video = small.add_stream("libx264", rate=recording.rate)
        prepare_video(small_video, recording, {"preset": "ultrafast", "crf": "26"})
        small_video.width, small_video.height = _SMALL_WIDTH_PX, _SMALL_HEIGHT_PX
        for frame in picture_frames(recording):
            main.mux(video.encode(frame))
            little = frame.reformat(width=_SMALL_WIDTH_PX, height=_SMALL_HEIGHT_PX)
            little.pts, little.time_base = frame.pts, frame.time_base
            small.mux(small_video.encode(little))
        main.mux(video.encode(None))
        small.mux(small_video.encode(None))
        for sound in sound_frames(recording, 1024):
            main.mux(audio.encode(sound))
        main.mux(audio.encode(None))


def _utc(moment: datetime) -> str:
    return moment.astimezone(tz=None).isoformat() if moment.tzinfo is None else moment.isoformat()


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


def _write_still(path: Path, camera: Camera, time_s: Fraction) -> None:
    luma, blue, red = View(camera).at(time_s, 0)
    frame = av.VideoFrame(camera.width_px, camera.height_px, "yuvj420p")
    for plane, data in zip(frame.planes, (luma, blue, red), strict=True):
        rows = bytearray(plane.buffer_size)
        for line in range(data.shape[0]):
            rows[line * plane.line_size : line * plane.line_size + data.shape[1]] = data[line].tobytes()
        plane.update(bytes(rows))
    with av.open(str(path), "w", format="image2", options={"update": "1"}) as still:
        stream = still.add_stream("mjpeg", rate=1)
        stream.width, stream.height, stream.pix_fmt = camera.width_px, camera.height_px, "yuvj420p"
        stream.codec_context.qmin = stream.codec_context.qmax = 3
        still.mux(stream.encode(frame))
        still.mux(stream.encode(None))


def _set_times(folder: Path, stem: str, recording: Recording) -> None:
    end = recording.start + timedelta(seconds=float(recording.pictures / recording.rate))
    for ending in (".MP4", ".LRF", ".SRT"):
        _set_time(folder / f"{stem}{ending}", end)


def _set_time(path: Path, moment: datetime) -> None:
    os.utime(path, (moment.timestamp(), moment.timestamp()))
