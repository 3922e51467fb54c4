"""What all simulated cameras share: a recording into a file, and a small copy beside it, without a library's name."""

from __future__ import annotations

import os
from collections.abc import Callable, Iterator, Sequence
from contextlib import ExitStack
from dataclasses import dataclass, field, replace
from datetime import timedelta
from fractions import Fraction
from pathlib import Path
from typing import Any

import av
from av.audio.stream import AudioStream
from av.video.stream import VideoStream

from diadoche.demo.recording import SAMPLE_RATE_HZ, Recording, picture_frames, prepare_video, sound_frames

# What the encoder library writes about itself into the first picture: no camera does.
_LIBRARY_NOTE = bytes.fromhex("dc45e9bde6d948b7962cd820d923eeef")
MAKER = "Ternhold"


@dataclass(frozen=True, slots=True)
class Make:
    """How a camera records: container, codecs and their options."""

    container: str
    video: str
    audio: str = "aac"
    pixels: str = "yuv420p"
    video_options: dict[str, str] = field(default_factory=dict)
    container_options: dict[str, str] = field(default_factory=dict)
    channels: int = 2
    audio_samples: int = 1024
    audio_format: str = "fltp"
    pixel_aspect: Fraction = Fraction(1)
    bit_rate: int = 0
    # What the camera writes into a coded picture, given that and its number.
    stamp: Callable[[bytes, int, Recording], bytes] | None = None


H264 = Make(
    "mp4",
    "libx264",
    video_options={"preset": "ultrafast", "crf": "22", "g": "30"},
    container_options={"movflags": "+use_metadata_tags"},
)


@dataclass(frozen=True, slots=True)
class SmallCopy:
    """Where a camera's low-resolution copy goes, and its size."""

    path: Path
    width_px: int = 640
    height_px: int = 360


def write_movie(
    path: Path,
    recordings: Sequence[Recording],
    make: Make,
    model: str = "",
    serial: str = "",
    *,
    pictures: Sequence[Iterator[av.VideoFrame]] = (),
    small: SmallCopy | None = None,
) -> None:
    """Writes a file with one picture track for each recording, all of the same length, and the first one's sound.

    Args:
        path: where to.
        recordings: what each lens saw.
        make: how it is recorded.
        model: what the camera calls itself; nothing where it says nothing.
        serial: of its body.
        pictures: of each track, where they are not drawn from the recordings.
        small: a copy of the first track in low resolution, without sound.
    """
    first = recordings[0]
    options = {"fflags": "+bitexact", **make.container_options}
    with ExitStack() as files:
        target = files.enter_context(av.open(str(path), "w", format=make.container, options=options))
        shrunk = files.enter_context(_Shrunk(small, first, model)) if small is not None else None
        _tag(target, first, model, serial)
        tracks = [_video(target, recording, make) for recording in recordings]
        sound = _Sound(target, first, make) if make.audio else None
        drawn = pictures or [picture_frames(each) for each in recordings]
        for number, frames in enumerate(zip(*drawn, strict=True)):
            for stream, frame in zip(tracks, frames, strict=True):
                packets = stream.encode(_as(frame, make.pixels))
                _mux(target, stream, packets if make.stamp is None else _stamped(packets, first, make.stamp))
            if shrunk is not None:
                shrunk.add(frames[0])
            if sound is not None:
                sound.until((number + 1) / first.rate)
        for stream in tracks:
            _mux(target, stream, stream.encode(None))
        if sound is not None:
            sound.finish()
    set_time(path, first)
    if small is not None:
        set_time(small.path, first)


class _Shrunk:
    """The low-resolution copy, written picture by picture beside the whole one."""

    def __init__(self, small: SmallCopy, recording: Recording, model: str) -> None:
        camera = replace(recording.camera, width_px=small.width_px, height_px=small.height_px)
        self._size = (small.width_px, small.height_px)
        options = {"fflags": "+bitexact", **H264.container_options}
        self._target = av.open(str(small.path), "w", format="mp4", options=options)
        _tag(self._target, recording, model)
        self._stream = _video(self._target, replace(recording, camera=camera), H264)

    def __enter__(self) -> _Shrunk:
        return self

    def add(self, frame: av.VideoFrame) -> None:
        little = frame.reformat(width=self._size[0], height=self._size[1], format="yuv420p")
        little.pts, little.time_base = frame.pts, frame.time_base
        _mux(self._target, self._stream, self._stream.encode(little))

    def __exit__(self, *_error: object) -> None:
        _mux(self._target, self._stream, self._stream.encode(None))
        self._target.close()


def set_time(path: Path, recording: Recording) -> None:
    """A file's own time is when its recording ended."""
    end = (recording.start + timedelta(seconds=float(recording.pictures / recording.rate))).timestamp()
    os.utime(path, (end, end))


def _tag(target: av.container.OutputContainer, first: Recording, model: str, serial: str = "") -> None:
    target.metadata["creation_time"] = first.start.isoformat()
    target.metadata["company_name"] = MAKER
    if model:
        target.metadata["make"], target.metadata["model"] = MAKER, model
        target.metadata["product_name"] = model
    if serial:
        target.metadata["serial_number"] = serial


def _video(target: av.container.OutputContainer, recording: Recording, make: Make) -> VideoStream:
    stream = target.add_stream(make.video, rate=recording.rate)
    assert isinstance(stream, VideoStream)
    options = {"flags": "+bitexact", **make.video_options}
    prepare_video(stream, recording, options)
    stream.codec_context.pix_fmt = make.pixels
    if make.bit_rate:
        stream.codec_context.bit_rate = make.bit_rate
    if make.pixel_aspect != 1:
        stream.codec_context.sample_aspect_ratio = make.pixel_aspect
    if recording.timecode:
        stream.metadata["timecode"] = recording.timecode
    return stream


def _as(frame: av.VideoFrame, pixels: str) -> av.VideoFrame:
    if frame.format.name == pixels:
        return frame
    changed = frame.reformat(format=pixels)
    changed.pts, changed.time_base = frame.pts, frame.time_base
    return changed


def _mux(target: av.container.OutputContainer, stream: VideoStream, packets: Sequence[av.Packet[Any]]) -> None:
    for packet in packets:
        target.mux(_without_note(packet) if stream.codec_context.name == "libx264" else packet)


def _without_note(packet: av.Packet[Any]) -> av.Packet[Any]:
    data = bytes(packet)
    note = data.find(_LIBRARY_NOTE)
    if note < 0:
        return packet
    begin = data.rfind(b"\x00\x00\x01", 0, note)
    end = data.find(b"\x00\x00\x01", note)
    begin -= begin > 0 and data[begin - 1] == 0
    end -= data[end - 1] == 0
    return _changed(packet, data[:begin] + data[end:])


def _stamped(
    packets: Sequence[av.Packet[Any]], recording: Recording, stamp: Callable[[bytes, int, Recording], bytes]
) -> list[av.Packet[Any]]:
    changed = []
    for packet in packets:
        assert packet.pts is not None
        number = round(packet.pts * packet.time_base * recording.rate)
        changed.append(_changed(packet, stamp(bytes(packet), number, recording)))
    return changed


def _changed(packet: av.Packet[Any], data: bytes) -> av.Packet[Any]:
    """A packet that stands in another's place with other bytes."""
    changed = av.Packet(data)
    changed.pts, changed.dts, changed.time_base = packet.pts, packet.dts, packet.time_base
    changed.stream, changed.is_keyframe, changed.duration = packet.stream, packet.is_keyframe, packet.duration
    return changed


class _Sound:
    """The sound track of a file, written as far as the picture has come."""

    def __init__(self, target: av.container.OutputContainer, recording: Recording, make: Make) -> None:
        self._target = target
        self._samples = make.audio_samples
        self._heard = 0
        self._frames = sound_frames(recording, make.audio_samples)
        stream = target.add_stream(make.audio, rate=SAMPLE_RATE_HZ)
        assert isinstance(stream, AudioStream)
        self._stream = stream
        self._stream.layout = "mono" if make.channels == 1 else "stereo"
        self._resampler = av.AudioResampler(format=make.audio_format, layout=self._stream.layout, rate=SAMPLE_RATE_HZ)

    def until(self, time_s: Fraction) -> None:
        while Fraction(self._heard, SAMPLE_RATE_HZ) < time_s:
            frame = next(self._frames, None)
            if frame is None:
                return
            for changed in self._resampler.resample(frame):
                self._target.mux(self._stream.encode(changed))
            self._heard += self._samples

    def finish(self) -> None:
        self._target.mux(self._stream.encode(None))


def write_sound(path: Path, recording: Recording, container: str) -> None:
    """Writes the sound of a recording alone, one channel, as 16-bit PCM."""
    with av.open(str(path), "w", format=container, options={"fflags": "+bitexact"}) as target:
        target.metadata["company_name"] = MAKER
        sound = _Sound(target, recording, replace(H264, audio="pcm_s16le", channels=1, audio_format="s16"))
        sound.until(recording.pictures / recording.rate)
        sound.finish()
    set_time(path, recording)
