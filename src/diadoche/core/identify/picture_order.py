"""When pictures are shown whose container only numbers them as they are coded: AVI.

Source: [H264] ITU-T H.264 (08/2021), 8.2.1.1 (the order of showing, coded as a number in each slice).
"""

from __future__ import annotations

import itertools
from collections.abc import Iterator, Sequence
from contextlib import suppress
from dataclasses import dataclass, field
from pathlib import Path
from typing import Any, cast

import av
import av.error
from av.container import InputContainer

from diadoche.core.identify.container import container_of
from diadoche.core.identify.h264_heads import SliceHead, SliceHeads
from diadoche.core.identify.tracks import picture_streams
from diadoche.core.media import opened

# After so many pictures without another order, in a stream that announces none, the rest is not read.
_SEEN = 300
_BY_NUMBER = {"h264", "hevc"}


@dataclass(frozen=True, slots=True)
class AviTimes:
    """When the pictures of an AVI are shown, which its own numbers do not tell. In ticks of its picture track.

    The media library adds the time that a decoder takes, `ahead`, which nobody sees. Of H.264 and HEVC it takes the
    number of the next packet for that, however far behind a hole that lies: there a picture is shown at its own number,
    or, by that, at the time in `instead`, where it is shown in another order than it is coded. Each is decoded so much
    sooner, `lead`, that none is shown before.
    """

    ahead: int = 0
    by_number: bool = False
    instead: dict[int, int] = field(default_factory=dict)
    lead: int = 0

    def correct(self, packet: av.Packet[Any]) -> None:
        """Sets when the picture of a packet is shown, and when it is to be decoded."""
        if self.by_number and packet.dts is not None:
            packet.pts = self.instead.get(packet.dts, packet.dts)
            packet.dts -= self.lead
        elif packet.pts is not None:
            packet.pts -= self.ahead


def avi_times(part: Sequence[Path]) -> AviTimes | None:
    """The times of a part's pictures; None where its container is another: those tell.

    Args:
        part: the file.

    Raises:
        MediaError: it cannot be opened.
    """
    if container_of(part[0]) != "AVI":
        return None
    with opened(part) as media:
        if not picture_streams(media):
            return None
        context = cast(Any, picture_streams(media)[0].codec_context)
        codec = context.codec.canonical_name if context is not None else ""
        first = next(_packets(media), None)
    ahead = first.pts - first.dts if first is not None and first.pts is not None and first.dts is not None else 0
    instead = _shown_instead(part)
    lead = max((number - time for number, time in instead.items()), default=0)
    return AviTimes(ahead, codec in _BY_NUMBER, instead, lead)


def _shown_instead(part: Sequence[Path]) -> dict[int, int]:
    """The times of pictures between others; nothing where there are none, or where they do not tell."""
    with opened(part) as media:
        context = cast(Any, picture_streams(media)[0].codec_context)
        codec = context.codec.canonical_name if context is not None else ""
        if codec == "hevc" and context.has_b_frames:
            return _by_decoding(media)
        if codec != "h264":
            return {}
        heads = SliceHeads(context.extradata)
        found: dict[int, int] = {}
        group: list[tuple[int, int]] = []
        orders, seen = _Orders(), 0
        for packet in _packets(media):
            if packet.dts is None:
                continue
            head = heads.of(memoryview(packet))
            sequence = heads.sequence
            if head is None or sequence is None or sequence.order_kind != 0 or head.is_field:
                return {}
            if head.begins_anew:
                found |= _in_order(group)
                group = []
            group.append((packet.dts, orders.next(head, sequence.order_bits)))
            seen += 1
            if seen == _SEEN and not context.has_b_frames and not found and not _in_order(group):
                return {}
        found |= _in_order(group)
    return found


def _packets(media: InputContainer) -> Iterator[av.Packet[Any]]:
    """The packets of the pictures, as far as they can be read: whoever reads them for their own sake meets the rest."""
    try:
        for packet in media.demux(picture_streams(media)[0]):
            if packet.size:
                yield packet
    except av.error.FFmpegError:
        return


def _by_decoding(media: InputContainer) -> dict[int, int]:
    """The same for pictures whose heads are not read here: decoders give them in the order of showing."""
    stream = picture_streams(media)[0]
    stream.thread_type = "AUTO"
    coded: list[int] = []
    shown: list[int] = []
    for packet in itertools.chain(_packets(media), [None]):
        if packet is not None:
            if packet.dts is None:
                continue
            packet.pts = packet.dts
            coded.append(packet.dts)
        with suppress(av.error.FFmpegError):
            shown += [frame.pts for frame in stream.codec_context.decode(packet) if frame.pts is not None]
    times = sorted(coded)
    for ticks in sorted(set(coded) - set(shown)):
        # One that does not decode stands about where it is coded.
        shown.insert(times.index(ticks), ticks)
    return {ticks: time for ticks, time in zip(shown, times, strict=False) if ticks != time}


class _Orders:
    """Whole numbers for the order of showing, out of their low bits."""

    def __init__(self) -> None:
        self._high, self._low = 0, 0

    def next(self, head: SliceHead, bits: int) -> int:
        """That of the next picture in the order of coding."""
        if head.begins_anew:
            self._high = self._low = 0
        size, high = 1 << bits, self._high
        if head.order_low < self._low and self._low - head.order_low >= size // 2:
            high += size
        elif head.order_low > self._low and head.order_low - self._low > size // 2:
            high -= size
        if head.is_reference:
            self._high, self._low = high, head.order_low
        return high + head.order_low


def _in_order(group: Sequence[tuple[int, int]]) -> dict[int, int]:
    """For pictures that follow each other without a new beginning: the one shown next takes the next time."""
    times = sorted(ticks for ticks, _order in group)
    shown = sorted(range(len(group)), key=lambda place: group[place][1])
    return {group[place][0]: times[number] for number, place in enumerate(shown) if group[place][0] != times[number]}
