"""Playlists and clip information of AVCHD trees.

Source: the structure as general-purpose disc libraries read it; names by [BDROM], the white paper on
the BD-ROM audio-visual format. Times are in ticks of 45 kHz.
"""

from __future__ import annotations

import struct
from dataclasses import dataclass

from diadoche.core.errors import MediaError

TICKS_A_SECOND = 45_000
_SEAMLESS = {5, 6}


@dataclass(frozen=True, slots=True)
class PlayItem:
    """One stream in a playlist. `continues` is true where it follows the one before without a seam."""

    clip: str
    continues: bool
    begin_45k: int
    end_45k: int

    @property
    def duration_s(self) -> float:
        """How long it plays."""
        return max(0, self.end_45k - self.begin_45k) / TICKS_A_SECOND


def read_playlist(data: bytes, name: str) -> tuple[PlayItem, ...]:
    """The play items of a playlist, in order.

    Raises:
        MediaError: it is no playlist, or it is cut off.
    """
    try:
        if data[:4] != b"MPLS":
            raise ValueError
        (start,) = struct.unpack_from(">I", data, 8)
        _, _, count = struct.unpack_from(">IHH", data, start)
        place, items = start + 10, []
        for _ in range(count):
            (length,) = struct.unpack_from(">H", data, place)
            items.append(_play_item(data, place + 2))
            place += 2 + length
    except (struct.error, ValueError, UnicodeDecodeError) as error:
        raise MediaError(
            f"The playlist {name} cannot be read.",
            path=name,
            safe="The streams it lists are copied all the same.",
            do="Recordings in several files are joined by their times instead.",
        ) from error
    return tuple(items)


def _play_item(data: bytes, place: int) -> PlayItem:
    clip = data[place : place + 5].decode("ascii")
    (condition,) = struct.unpack_from(">H", data, place + 9)
    begin, end = struct.unpack_from(">II", data, place + 12)
    return PlayItem(clip, condition & 0x0F in _SEAMLESS, begin, end)


def is_clip_information(data: bytes) -> bool:
    """Whether it is whole enough to list its sections."""
    if data[:4] != b"HDMV" or len(data) < 40:
        return False
    starts = struct.unpack_from(">IIII", data, 8)
    return all(40 <= start < len(data) for start in starts[:3])
