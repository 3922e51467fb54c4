"""Recording date and timecode as camcorders put them into H.264: packs in user-data SEI.

There is no open document. Relied on, from memory: the published tag tables of general metadata
readers for "MDPM" (UUID, tag 0x13 time code, tags 0x18 and 0x19 date and time), whose pack bytes
follow IEC 61834-4 (time code pack). MediaInfo reads the same date, and the outside checks ask it.
"""

from __future__ import annotations

from datetime import datetime

_UUID = bytes.fromhex("17ee8c60f84d11d98cd60800200c9a66")
_SEI, _USER_DATA_UNREGISTERED = 6, 5


def _bcd(number: int) -> int:
    return number // 10 << 4 | number % 10


def sei(moment: datetime, timecode: tuple[int, int, int, int]) -> bytes:
    """A whole SEI unit with its start code.

    Args:
        moment: recording time, with its zone.
        timecode: hours, minutes, seconds, frames.
    """
    hours, minutes, seconds, frames = timecode
    offset = moment.utcoffset()
    half_hours = round(offset.total_seconds() / 1800) if offset else 0
    zone = (0x20 if half_hours < 0 else 0) | abs(half_hours) & 0x1F
    packs = [
        (0x13, bytes([_bcd(frames), _bcd(seconds), _bcd(minutes), _bcd(hours)])),
        (0x18, bytes([zone, _bcd(moment.year // 100), _bcd(moment.year % 100), _bcd(moment.month)])),
        (0x19, bytes([_bcd(moment.day), _bcd(moment.hour), _bcd(moment.minute), _bcd(moment.second)])),
    ]
    payload = _UUID + b"MDPM" + bytes([len(packs)]) + b"".join(bytes([tag]) + data for tag, data in packs)
    body = bytes([_SEI, _USER_DATA_UNREGISTERED, len(payload)]) + payload + b"\x80"
    return b"\x00\x00\x00\x01" + _protected(body)


def _protected(body: bytes) -> bytes:
    """Emulation prevention [H264, 7.4.1]: no start code can appear inside a unit."""
    out, zeros = bytearray(), 0
    for byte in body:
        if zeros >= 2 and byte <= 3:
            out.append(3)
            zeros = 0
        zeros = zeros + 1 if byte == 0 else 0
        out.append(byte)
    return bytes(out)


def insert(unit: bytes, message: bytes) -> bytes:
    """Puts an SEI unit into an access unit, before its first slice [H264, 7.4.1.2.3]."""
    place = 0
    while True:
        place = unit.find(b"\x00\x00\x01", place)
        if place < 0:
            return unit + message
        if 1 <= unit[place + 3] & 0x1F <= 5:
            start = place - 1 if place > 0 and unit[place - 1] == 0 else place
            return unit[:start] + message + unit[start:]
        place += 3
