"""How a file begins: its first coded picture, and the date and timecode that cameras write into the first few."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from datetime import datetime
from pathlib import Path

import av
from av.container import InputContainer
from av.video.stream import VideoStream

from diadoche.core.identify.container import TRANSPORT
from diadoche.core.identify.packs import RecordingPacks, dv_packs, recording_packs
from diadoche.core.identify.tracks import decoder_of, picture_streams
from diadoche.core.media import opened

_PACKS_WITHIN = 30


@dataclass(frozen=True, slots=True)
class Beginning:
    """The first packet of the picture, and the camera's packs from the first few."""

    data: bytes = b""
    packs: RecordingPacks | None = None

    @property
    def moment(self) -> datetime | None:
        """When the camera says that it recorded; one whose clock was never set says nothing."""
        moment = self.packs.moment if self.packs is not None else None
        return moment if moment is not None and moment.year > 1970 else None


def beginning_of(container: str, paths: Sequence[Path], media: InputContainer, *, untouched: bool) -> Beginning:
    """The beginning, in an opening of its own where all of it is read afterwards, not only places in it.

    No going back is sure to find all that was read: times may begin below zero, and streams have no index.
    """
    pictures, searched = picture_streams(media), container in TRANSPORT
    if untouched or not pictures:
        return _read(media, pictures, searched=searched)
    with opened(paths) as again:
        return _read(again, picture_streams(again), searched=searched)


def _read(media: InputContainer, pictures: Sequence[VideoStream], *, searched: bool) -> Beginning:
    if not pictures:
        return Beginning()
    # There is none for codecs that the media library does not know.
    context = decoder_of(pictures[0])
    data, packs = bytes((context.extradata if context is not None else None) or b""), None
    is_dv = context is not None and context.name == "dvvideo"
    try:
        for number, packet in enumerate(media.demux(pictures[0])):
            content = bytes(packet) if packet.size else b""
            data = data + content if number == 0 else data
            if content and is_dv:
                packs = dv_packs(content)
            elif content and searched:
                packs = recording_packs(content)
            if packs is not None or not searched or number > _PACKS_WITHIN:
                break
        media.seek(0)
    except av.error.FFmpegError:
        # What cannot be read or gone back in is named when it is looked at.
        pass
    return Beginning(data, packs)
