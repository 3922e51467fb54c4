"""Date and timecode of a recording, written into an output's head."""

from __future__ import annotations

from av.container import OutputContainer
from av.stream import Stream

from diadoche.core.identify.facts import Facts
from diadoche.core.timecode import Timecode, may_drop


def write_dates(target: OutputContainer, video: Stream, facts: Facts, *, with_timecode: bool = True) -> None:
    """Date and timecode of the recording, where the container can hold them."""
    if facts.start is not None:
        target.metadata["creation_time"] = facts.start.isoformat()
    label, rate = facts.video[0].timecode, facts.video[0].frame_rate
    if label is None or not with_timecode:
        return
    try:
        video.metadata["timecode"] = str(Timecode.parse(label, rate))
    except ValueError:
        # A camera's label may be nonsense at this rate, such as drop-frame at 25; it stays in the stream.
        if not may_drop(rate):
            video.metadata["timecode"] = label.replace(";", ":")
