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


def unit_length_bytes(codec: str, extradata: bytes | None) -> int:
    """How many bytes of length stand before each unit; 0 where start codes do [14496-15, 5.3.3 and 8.3.3]."""
    if not extradata or extradata[0] != 1:
        return 0
    if codec == "h264" and len(extradata) > 4:
        return (extradata[4] & 3) + 1
    if codec == "hevc" and len(extradata) > 21:
        return (extradata[21] & 3) + 1
    return 0
