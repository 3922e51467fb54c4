"""How the simulated cameras turn the scene into encoded pictures and sound."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from dataclasses import dataclass
from datetime import datetime
from fractions import Fraction

import av
import av.filter
import numpy as np
from av.video.codeccontext import VideoCodecContext
from av.video.stream import VideoStream

from diadoche.demo.scene import Camera, Plane, View, sound

SAMPLE_RATE_HZ = 48_000
_BT709 = 1


@dataclass(frozen=True, slots=True)
class Recording:
    """One press of the button. `first_number` is written into its first picture (or field)."""

    camera: Camera
    rate: Fraction
    pictures: int
    interlaced: bool
    start: datetime
    timecode: str
    first_number: int
    scene_start_s: Fraction = Fraction(0)
    bottom_first: bool = False


def picture_frames(recording: Recording) -> Iterator[av.VideoFrame]:
    """Draws every picture; interlaced ones are woven from two moments."""
    drawn = _drawn_frames(recording)
    return _flagged(drawn, recording) if recording.interlaced else drawn


def _flagged(frames: Iterator[av.VideoFrame], recording: Recording) -> Iterator[av.VideoFrame]:
    """Frames marked with the field that comes first; only a filter can set that mark."""
    graph = av.filter.Graph()
    source = graph.add_buffer(
        width=recording.camera.width_px,
        height=recording.camera.height_px,
        format=av.VideoFormat("yuv420p"),
        time_base=1 / recording.rate,
    )
    mark, sink = graph.add("setfield", "bff" if recording.bottom_first else "tff"), graph.add("buffersink")
    source.link_to(mark)
    mark.link_to(sink)
    graph.configure()
    for frame in frames:
        graph.push(frame)
        marked = graph.pull()
        assert isinstance(marked, av.VideoFrame)
        yield marked


def _drawn_frames(recording: Recording) -> Iterator[av.VideoFrame]:
    fields = (1, 0) if recording.bottom_first else (0, 1)
    views = [View(recording.camera, field) for field in (fields if recording.interlaced else (None,))]
    moments = recording.rate * len(views)
    for index in range(recording.pictures):
        drawn = [
            view.at(
                recording.scene_start_s + (index * len(views) + place) / moments,
                (recording.first_number + index * len(views) + place) & 0xFFFF,
            )
            for place, view in enumerate(views)
        ]
        frame = av.VideoFrame(recording.camera.width_px, recording.camera.height_px, "yuv420p")
        for plane_index in range(3):
            in_order = [planes[plane_index] for planes in drawn]
            _fill(frame, plane_index, in_order[::-1] if recording.bottom_first else in_order)
        frame.pts = index
        frame.time_base = 1 / recording.rate
        yield frame


def _fill(frame: av.VideoFrame, plane_index: int, lines: list[Plane]) -> None:
    plane = frame.planes[plane_index]
    target = np.frombuffer(plane, np.uint8).reshape(-1, plane.line_size)  # type: ignore[call-overload]  # a buffer
    for place, source in enumerate(lines):
        target[place :: len(lines)][: source.shape[0], : source.shape[1]] = source


def planar_frame(planes: Sequence[Plane], index: int, rate: Fraction) -> av.VideoFrame:
    """Planes that were drawn, 4:2:0 at 8 bits, as a frame with its place in the recording."""
    height, width = planes[0].shape
    frame = av.VideoFrame(width, height, "yuv420p")
    for number, plane in enumerate(planes):
        _fill(frame, number, [plane])
    frame.pts, frame.time_base = index, 1 / rate
    return frame


def sound_frames(recording: Recording, samples_a_frame: int) -> Iterator[av.AudioFrame]:
    """The sound of a recording, in frames of the encoder's size, at least as long as the picture."""
    total = int(recording.pictures / recording.rate * SAMPLE_RATE_HZ)
    begin = int(recording.scene_start_s * SAMPLE_RATE_HZ)
    for first in range(0, total, samples_a_frame):
        frame = av.AudioFrame.from_ndarray(
            np.ascontiguousarray(sound(begin + first, samples_a_frame, SAMPLE_RATE_HZ)), format="fltp", layout="stereo"
        )
        frame.sample_rate = SAMPLE_RATE_HZ
        frame.pts = first
        frame.time_base = Fraction(1, SAMPLE_RATE_HZ)
        yield frame


def prepare_video(stream: VideoStream, recording: Recording, options: dict[str, str]) -> None:
    """Sets size, rate and BT.709 tags of an encoder."""
    context: VideoCodecContext = stream.codec_context
    context.width, context.height = recording.camera.width_px, recording.camera.height_px
    context.pix_fmt = "yuv420p"
    context.time_base = 1 / recording.rate
    context.framerate = recording.rate
    context.color_primaries = context.color_trc = context.colorspace = _BT709
    context.color_range = 1
    context.options = options
