"""In which order H.264 pictures are shown, where their container only numbers them as they are coded (AVI).

Source: [H264] ITU-T H.264 (08/2021), 8.2.1.1 (the order of showing, coded as a number in each slice).
"""

from __future__ import annotations

from collections.abc import Sequence
from pathlib import Path
from typing import Any, cast

from diadoche.core.identify.container import container_of
from diadoche.core.identify.h264_heads import SliceHead, SliceHeads
from diadoche.core.identify.tracks import picture_streams
from diadoche.core.media import opened


def shown_instead(part: Sequence[Path]) -> dict[int, int]:
    """When pictures of an AVI are shown, by the time at which its own numbers would show them; in ticks of its track.

    Args:
        part: the file.

    Returns:
        Nothing where that is the same, or where the pictures do not tell.

    Raises:
        MediaError: it cannot be opened.
    """
    if container_of(part[0]) != "AVI":
        return {}
    with opened(part) as media:
        stream = picture_streams(media)[0]
        context = cast(Any, stream.codec_context)
        if context is None or context.codec.canonical_name != "h264":
            return {}
        heads = SliceHeads(context.extradata)
        found: dict[int, int] = {}
        group: list[tuple[int, int]] = []
        orders = _Orders()
        for packet in media.demux(stream):
            if not packet.size or packet.dts is None:
                continue
            head = heads.of(memoryview(packet))
            sequence = heads.sequence
            if head is None or sequence is None or sequence.order_kind != 0 or head.is_field:
                return {}
            if head.begins_anew:
                found |= _in_order(group)
                group = []
            group.append((packet.dts, orders.next(head, sequence.order_bits)))
        found |= _in_order(group)
    return found


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
