"""The one door to the media library: opening files and joined spans, and its errors made ours."""

from __future__ import annotations

import ctypes
import io
import os
from collections.abc import Iterator, Sequence
from contextlib import contextmanager
from fractions import Fraction
from pathlib import Path
from typing import Any

import av
import av.error
import av.logging
import numpy as np
from av.audio.plane import AudioPlane
from av.container import InputContainer
from av.video.stream import VideoStream
from numpy.typing import NDArray

from diadoche.core.diskfiles import open_unseen, unseen_file
from diadoche.core.errors import MediaError
from diadoche.core.names import shown
from diadoche.core.sound_layouts import lists_channels, unnamed_layout

# The library's own log lines go nowhere useful; what matters comes as errors. They are silenced inside the
# library: its callback into Python waits for the interpreter's lock in decoder threads, and closing a
# file, which waits for those threads under that lock, then never ended.
av.logging.restore_default_callback()
av.logging.set_libav_level(av.logging.PANIC)
# The AV1 encoder writes lines of its own past the library, unless it is told to keep to errors.
os.environ.setdefault("SVT_LOG", "1")
# No group of pictures is much longer in what cameras write.
_PASSED_PACKETS = 64
# A frame has places for so many planes; a null stands behind those that are not used.
_PLANES_ENDED_BY_NULL = 8
_SAMPLE_KINDS = {"u8": np.uint8, "s16": np.int16, "s32": np.int32, "flt": np.float32, "dbl": np.float64}
# By so many pictures one is stored before it is shown, at most [H264, A.3.1, MaxDpbFrames].
_REORDERED = 16
# As the media library calls them.
_INDEXED = frozenset({"mov", "matroska", "avi"})


def layout_of(sound: av.AudioCodecContext | av.AudioFrame) -> tuple[str, int]:
    """How channels are laid out, by the media library's names, and how many they are.

    Where channels are listed one by one, the library's binding gives a layout that frees what is not its own when it
    is let go; so does its property `channels`. Such an object is kept for ever, or the process dies of it.
    """
    layout = sound.layout
    name: str = layout.name
    if lists_channels(name):
        ctypes.pythonapi.Py_IncRef(ctypes.py_object(layout))
    return name, layout.nb_channels


def sound_layouts(media: InputContainer) -> list[str]:
    """What an opened file says its sound tracks' channels are, by the media library's names."""
    return [layout_of(stream.codec_context)[0] for stream in media.streams.audio]


def sound_frame(frame: av.AudioFrame) -> av.AudioFrame:
    """Decoded sound as the library's binding can handle it: where its channels are listed, without the list."""
    name, _channels = layout_of(frame)
    if not lists_channels(name):
        return frame
    return frame_like(frame, samples_of(frame), unnamed_layout(name))


def samples_of(frame: av.AudioFrame) -> NDArray[Any]:
    """The samples of decoded sound: a row for each channel, or a single row where channels take turns.

    The library's binding counts planes up to the first null behind them. Of eight channels and more there is none: its
    own way reads memory that is nobody's, and the process dies of it.
    """
    count = layout_of(frame)[1]
    if not frame.format.is_planar or count < _PLANES_ENDED_BY_NULL:
        return frame.to_ndarray()
    planes: Any = AudioPlane
    kind = _SAMPLE_KINDS[frame.format.packed.name]
    return np.stack([np.frombuffer(planes(frame, number), kind, frame.samples) for number in range(count)])


def packet_of(data: bytes) -> av.Packet[Any]:
    """A packet of coded bytes, with the zeros behind them that decoders read.

    The library's binding makes one that ends where the bytes do: what lies behind, in memory that is another's, is
    then decoded, and whole pictures are told as damaged by chance.
    """
    packet: av.Packet[Any] = av.Packet(len(data))
    if data:
        packet.update(data)
    return packet


def frame_like(frame: av.AudioFrame, samples: NDArray[Any], layout: str) -> av.AudioFrame:
    """Other samples at the place of a frame, laid out in memory as its own; where that is not safe, taking turns."""
    kind = frame.format
    if kind.is_planar and samples.shape[0] >= _PLANES_ENDED_BY_NULL:
        # The binding fills as many planes as it counts; see `samples_of`.
        kind, samples = kind.packed, np.ascontiguousarray(samples.T.reshape(1, -1))
    made = av.AudioFrame.from_ndarray(samples, format=kind.name, layout=layout)
    made.sample_rate, made.pts = frame.sample_rate, frame.pts
    if frame.time_base is not None:
        made.time_base = frame.time_base
    return made


class SpanFile(io.RawIOBase):
    """Several files as one, byte after byte: what a camera cut is read as if it had not been."""

    def __init__(self, paths: Sequence[Path]) -> None:
        super().__init__()
        self._files = [unseen_file(path) for path in paths]
        sizes = [os.fstat(file.fileno()).st_size for file in self._files]
        self._starts = [sum(sizes[:place]) for place in range(len(sizes) + 1)]
        self._position = 0

    def readable(self) -> bool:
        """Always."""
        return True

    def seekable(self) -> bool:
        """Always."""
        return True

    def readinto(self, buffer: bytearray | memoryview) -> int:  # type: ignore[override]  # the stub's Buffer is too wide
        """Reads up to the end of the span in hand."""
        for place, file in enumerate(self._files):
            if self._starts[place] <= self._position < self._starts[place + 1]:
                file.seek(self._position - self._starts[place])
                count: int = file.readinto(buffer) or 0  # type: ignore[attr-defined]  # a raw file has it
                self._position += count
                return count
        return 0

    def seek(self, offset: int, whence: int = os.SEEK_SET) -> int:
        """Moves within the whole."""
        base = {os.SEEK_SET: 0, os.SEEK_CUR: self._position, os.SEEK_END: self._starts[-1]}[whence]
        self._position = max(0, base + offset)
        return self._position

    def tell(self) -> int:
        """The position within the whole."""
        return self._position

    def close(self) -> None:
        """Closes every span."""
        for file in self._files:
            file.close()
        super().close()


@contextmanager
def decoding(path: Path) -> Iterator[None]:
    """Turns the media library's errors into ours.

    Raises:
        MediaError: the file is no media file, is damaged, or cannot be decoded.
    """
    try:
        yield
    except (av.error.FFmpegError, EOFError) as error:
        reason = getattr(error, "strerror", None) or str(error)
        raise MediaError(
            f"{shown(path.name)} cannot be opened as video or sound: {reason}.",
            path=path,
            safe="The file itself is untouched.",
            do="Play it on the camera; if it plays there, copy the card again.",
        ) from error


@contextmanager
def opened(paths: Sequence[Path]) -> Iterator[InputContainer]:
    """Opens a file, or spans that follow each other byte by byte, for reading.

    Raises:
        MediaError: it is no media file.
        OSError: a file cannot be read.
    """
    # Opened by us and handed over as a descriptor: the library itself would leave access times behind.
    joined = SpanFile(paths) if len(paths) > 1 else None
    descriptor = open_unseen(paths[0]) if joined is None else -1
    try:
        with decoding(paths[0]):
            given, options = (joined, {}) if joined is not None else ("fd:", {"fd": str(descriptor)})
            container = av.open(given, "r", options=options, metadata_errors="replace")
        with container:
            yield container
    finally:
        if joined is not None:
            joined.close()
        else:
            os.close(descriptor)


def tells_key_pictures(media: InputContainer) -> bool:
    """Whether a file has an index that tells key pictures from others.

    Transport and program streams have none, and MXF may number its pictures in one that tells none of them from a key
    picture [ST377-1, 11.2.3].
    """
    return not _INDEXED.isdisjoint(media.format.name.split(","))


def pictures_near(media: InputContainer, stream: VideoStream, ticks: int) -> Iterator[av.VideoFrame]:
    """The pictures that decode from about a time on, whichever those are.

    Args:
        media: the file, open for reading.
        stream: its picture track.
        ticks: the time, in the track's own clock.

    Raises:
        av.error.FFmpegError: the file cannot be entered there, or a picture does not decode.
    """
    _seek_near(media, stream, ticks)
    passed: list[av.Packet[VideoStream]] = []
    is_entered = False
    for packet in media.demux(stream):
        if not is_entered:
            # Transport streams are entered in mid-group: decoders would work at pictures that they then do not give.
            if packet.size and not packet.is_keyframe and len(passed) < _PASSED_PACKETS:
                passed.append(packet)
                continue
            is_entered = True
            # A stream that is refreshed little by little has no key pictures.
            for each in passed if not packet.is_keyframe else ():
                yield from each.decode()
            passed.clear()
        yield from packet.decode()


def _seek_near(media: InputContainer, stream: VideoStream, ticks: int) -> None:
    if "mxf" in media.format.name:
        # Its index may lead between key pictures, and up to the end of a file none may follow.
        seek_to_key(media, stream, ticks)
    else:
        media.seek(ticks, stream=stream, backward=True)


def seek_to_key(media: InputContainer, stream: VideoStream, ticks: int) -> None:
    """Goes to a picture at or before a time from which decoding can begin.

    Where a file tells where its key pictures are, that is believed. Where it does not, the library enters wherever it
    is asked to, and no decoder can go on from there: it is gone back until a key picture comes before the time, or the
    file begins.

    Args:
        media: the file, open for reading.
        stream: its picture track.
        ticks: the time, in the track's own clock.

    Raises:
        av.error.FFmpegError: the file cannot be entered there.
    """
    begin, second = stream.start_time or 0, max(1, int(1 / (stream.time_base or Fraction(1, 25))))
    # The first picture is decoded that much sooner than it is shown, at most, and streams are entered by that time.
    sooner = int(_REORDERED * second / (stream.average_rate or 25))
    told = tells_key_pictures(media)
    back = 0
    while True:
        wanted = ticks - back
        _enter(media, stream, wanted)
        if told:
            return
        found = _key_comes_by(media, stream, ticks)
        # The packets that were looked at are read again.
        _enter(media, stream, wanted)
        if found or wanted <= begin - second - sooner:
            return
        back = max(second // 2, 2 * back)


def _enter(media: InputContainer, stream: VideoStream, ticks: int) -> None:
    try:
        media.seek(ticks, stream=stream, backward=True)
    except av.error.FFmpegError:
        # Some readers (AVI, FLV) take a time before the first picture for an error.
        begin = stream.start_time or 0
        if ticks >= begin:
            raise
        media.seek(begin, stream=stream, backward=True)


def _key_comes_by(media: InputContainer, stream: VideoStream, ticks: int) -> bool:
    """Whether a key picture is among the next packets, up to a time."""
    for packet in media.demux(stream):
        if not packet.size:
            break
        at = packet.pts if packet.pts is not None else packet.dts
        if at is not None and at > ticks:
            # One that is shown later may rest on pictures stored before it, never the other way round.
            return False
        if packet.is_keyframe:
            return True
        if "mxf" in media.format.name:
            # What it holds may be coded by decoders that fail where they are given no key picture first.
            return False
    return False
