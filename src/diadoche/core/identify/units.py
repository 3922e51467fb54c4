"""The units that H.264 and HEVC pictures consist of [H264, annex B; 14496-15]."""

from __future__ import annotations

from collections.abc import Iterator


def split_units(data: bytes, length_bytes: int) -> Iterator[bytes]:
    """The units of an access unit, without start codes, lengths and trailing zeros."""
    if length_bytes:
        place = 0
        while place + length_bytes <= len(data):
            size = int.from_bytes(data[place : place + length_bytes], "big")
            place += length_bytes
            unit = data[place : place + size].rstrip(b"\0")
            place += size
            if unit:
                yield unit
        return
    start = data.find(b"\x00\x00\x01")
    while start >= 0:
        following = data.find(b"\x00\x00\x01", start + 3)
        unit = data[start + 3 : following if following >= 0 else len(data)].rstrip(b"\0")
        if unit:
            yield unit
        start = following
