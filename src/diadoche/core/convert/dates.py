"""Date and timecode of a recording, written into an output's head."""

from __future__ import annotations

from datetime import datetime

from av.container import OutputContainer
from av.stream import Stream

from diadoche.core.convert.formats import PictureFormat
from diadoche.core.timecode import Timecode, frames_a_day, may_drop


def write_dates(
    target: OutputContainer,
    video: Stream,
    start: datetime | None,
    picture: PictureFormat,
    *,
    first: int = 0,
    with_timecode: bool = True,
) -> None:
    """Date and timecode of the recording, where the container can hold them.

    Args:
        target: the output.
        video: its picture track.
        start: when the recording began.
        picture: what the output's pictures are like.
        first: which of them, counted from the beginning of the recording, becomes the output's first.
        with_timecode: whether a label is written; it counts pictures, whatever the recording's own counts.
    """
    if start is not None:
        target.metadata["creation_time"] = start.isoformat()
    if picture.timecode is None or not with_timecode:
        return
    rate, labels = picture.rate, picture.labels
    if labels is not None:
        drop = labels.first.drop and may_drop(rate)
        label = Timecode((labels.midnight + first) % frames_a_day(rate, drop), rate, drop)
        video.metadata["timecode"] = str(label)
    elif not may_drop(rate):
        # A camera's label may be nonsense at this rate, such as drop-frame at 25; it stays in the stream.
        video.metadata["timecode"] = picture.timecode.replace(";", ":")
