"""Trying a clip: does it open, and does a picture decode at its beginning and near its end? The first one that does
becomes a thumbnail."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from fractions import Fraction
from pathlib import Path
from typing import Any, cast

import av
import numpy as np
from av.codec.context import ThreadType
from av.container import InputContainer
from av.video.reformatter import ColorRange, Colorspace
from av.video.stream import VideoStream

from diadoche.core.errors import DiadocheError, Problem, SourceUnreadable
from diadoche.core.footage.display import as_rgb, seen_size, upright
from diadoche.core.footage.still import still_frame
from diadoche.core.identify.container import container_of, is_still
from diadoche.core.identify.facts import unreadable as bare_facts
from diadoche.core.identify.pictures import raw_segment_facts
from diadoche.core.identify.tracks import decoder_of
from diadoche.core.media import decoding, opened, pictures_near
from diadoche.core.orientation import AS_RECORDED, Orientation

_THUMBNAIL_PX = 192
_LAST_S = (2, 12, 60)


@dataclass(frozen=True, slots=True)
class Trial:
    """What trying a clip showed.

    Attributes:
        problem: why it does not open, or decodes nowhere near its beginning or its end.
        remark: set where it opens, and nothing here can decode its pictures.
        thumbnail: a small JPEG, or empty.
    """

    problem: Problem | None = None
    remark: str = ""
    thumbnail: bytes = b""

    @property
    def decoded(self) -> bool:
        """Whether a picture was decoded at both ends. A clip that merely opens was not."""
        return self.problem is None and not self.remark


def try_clip(paths: Sequence[Path]) -> Trial:
    """Opens the first and the last span of a clip, and decodes one picture at the beginning and one at the end."""
    try:
        kind = container_of(paths[0])
        if kind == "R3D":
            raw = raw_segment_facts(bare_facts(paths[0], Problem("")), paths)
            return Trial(raw.problems[0] if raw.problems else None, "no picture that can be decoded here; it opens")
        if is_still(kind):
            return _try_stills(paths)
        with opened(paths[:1]) as media:
            stream = _video(media)
            if stream is None:
                return Trial(remark="no picture that can be decoded here; it opens")
            with decoding(paths[0]):
                first = next(media.decode(stream), None)
                aspect = stream.sample_aspect_ratio or Fraction(1)
                # Opening a file costs more than all the rest: a clip of one is opened once.
                last = _last_decodes(media, stream) if first is not None and len(paths) == 1 else None
        if first is None:
            return Trial(_no_picture(paths[0], "at the beginning"))
        if last is None:
            with opened(paths[-1:]) as media, decoding(paths[-1]):
                stream = _video(media)
                last = stream is not None and _last_decodes(media, stream)
        return Trial(None if last else _no_picture(paths[-1], "near the end"), thumbnail=thumbnail(first, aspect))
    except DiadocheError as error:
        return Trial(error.problem)
    except OSError as error:
        unreadable = SourceUnreadable(f"{paths[0].name} cannot be read: {error.strerror}.", path=paths[0])
        return Trial(unreadable.problem)


def _try_stills(paths: Sequence[Path]) -> Trial:
    first = still_frame(paths[0])
    still_frame(paths[-1])
    return Trial(thumbnail=thumbnail(first))


def first_picture(path: Path) -> bytes:
    """The first picture of a file as a small JPEG, or nothing where none decodes."""
    try:
        if is_still(container_of(path)):
            return thumbnail(still_frame(path))
        with opened([path]) as media:
            stream = _video(media)
            if stream is None:
                return b""
            with decoding(path):
                frame = next(media.decode(stream), None)
            return thumbnail(frame, stream.sample_aspect_ratio or Fraction(1)) if frame is not None else b""
    except (DiadocheError, OSError):
        return b""


def _video(media: InputContainer) -> VideoStream | None:
    if not media.streams.video:
        return None
    stream = media.streams.video[0]
    if decoder_of(stream) is None:
        return None
    stream.thread_type = ThreadType.SLICE
    return stream


def _last_decodes(media: InputContainer, stream: VideoStream) -> bool:
    """Whether anything decodes up to the end, going back further where the last key picture is far away."""
    base = stream.time_base or Fraction(1, 90_000)
    begin = stream.start_time or 0
    length = stream.duration or (int(media.duration / av.time_base / base) if media.duration else 0)
    for back_s in _LAST_S:
        wanted = max(begin, begin + length - int(back_s / base))
        if any(True for _frame in pictures_near(media, stream, wanted)):
            return True
        if wanted == begin:
            return False
    return False


def _no_picture(path: Path, where: str) -> Problem:
    return Problem(
        f"No picture {where} of {path.name} decodes from the copy.",
        str(path),
        "The copy is, byte for byte, what came off the card.",
        "Play the clip on the camera before the card is formatted.",
    )


def _orientation(frame: av.VideoFrame) -> Orientation:
    """As the file asks for with each of its pictures."""
    told = frame.side_data.get("DISPLAYMATRIX")
    if told is None or len(numbers := np.frombuffer(cast(Any, told), np.int32)) < 5:
        return AS_RECORDED
    a, b, _, c, d = numbers[:5].tolist()
    return Orientation.of_matrix(a, b, c, d)


def thumbnail(frame: av.VideoFrame, pixel_aspect: Fraction = Fraction(1)) -> bytes:
    """A small JPEG of a picture as it is to be seen, its longer side 192 pixels.

    Raises:
        MediaError: the picture cannot be scaled.
    """
    wide, high = seen_size(frame.width, frame.height, pixel_aspect, 0)
    scale = min(1.0, _THUMBNAIL_PX / max(wide, high))
    width, height = (max(2, round(side * scale / 2) * 2) for side in (wide, high))
    with decoding(Path("thumbnail")):
        rgb = upright(as_rgb(frame, width, height), _orientation(frame))
        # JPEG is read by BT.601 and full range, whatever the film was [JFIF 1.02].
        small = av.VideoFrame.from_ndarray(rgb, format="rgb24").reformat(
            format="yuvj420p", dst_colorspace=Colorspace.ITU601, dst_color_range=ColorRange.JPEG
        )
        encoder = av.CodecContext.create("mjpeg", "w")
        encoder.width, encoder.height, encoder.pix_fmt = small.width, small.height, "yuvj420p"
        encoder.time_base = Fraction(1, 25)
        small.pts, small.time_base = 0, Fraction(1, 25)
        return b"".join(bytes(packet) for packet in (*encoder.encode(small), *encoder.encode(None)))
