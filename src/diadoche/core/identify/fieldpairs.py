"""Field-coded H.264: which packets are the second field of a picture whose first came just before.

Camcorders write each field as an access unit of its own; decoders give one picture for two of them. Source: [H264]
ITU-T H.264 (08/2021), 7.4.1.2.4 (which slices are one picture).
"""

from __future__ import annotations

from diadoche.core.identify.h264_heads import SliceHead, SliceHeads


class FieldPairs:
    """Takes the packets of one H.264 track in the order of the file, and tells second fields."""

    def __init__(self, extradata: bytes | None) -> None:
        """`extradata`: the track's own head; parameter sets among the packets count too."""
        self._heads = SliceHeads(extradata)
        self._open: SliceHead | None = None

    def is_second(self, packet: bytes | memoryview) -> bool:
        """Whether the packet belongs to the picture that the packet before began."""
        head = self._heads.of(packet)
        if self.never:
            return False
        before, self._open = self._open, head if head is not None and head.is_field else None
        second = (
            before is not None
            and self._open is not None
            and self._open.frame_number == before.frame_number
            and self._open.is_bottom != before.is_bottom
        )
        if second:
            self._open = None
        return second

    @property
    def never(self) -> bool:
        """Whether the stream says that it holds no fields of their own: nobody needs to ask."""
        return self._heads.sequence is not None and self._heads.sequence.only_frames
