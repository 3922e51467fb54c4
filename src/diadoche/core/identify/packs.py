"""Recording date and timecode that cameras write into the pictures: H.264 of camcorders, and DV.

H.264, user-data SEI: there is no open document. Relied on, from memory: the published tag tables of general
metadata readers for "MDPM": UUID 17ee8c60-f84d-11d9-8cd6-0800200c9a66, then packs of a tag and four bytes;
0x13 is the time code pack of IEC 61834-4 (frames with the drop-frame flag, seconds, minutes, hours),
0x18 and 0x19 hold zone, year, month, day, hour, minute, second, all but the zone in BCD.

DV, from memory, IEC 61834-2 and 61834-4: sequences of 150 blocks of 80 bytes; blocks 1 and 2 are subcode (six times
three bytes and a pack), 3 to 5 hold auxiliary video packs. 0x62 is the date (day, month, year of two digits), 0x63 the
time of day.
"""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass
from datetime import UTC, datetime, timedelta, timezone

from diadoche.core.identify.units import split_units

_MARK = bytes.fromhex("17ee8c60f84d11d98cd60800200c9a66") + b"MDPM"
_TIMECODE, _DATE, _TIME = 0x13, 0x18, 0x19
_SEI = 6
_DV_BLOCK, _DV_SEQUENCE = 80, 150 * 80
_DV_DATE, _DV_TIME = 0x62, 0x63
# Years of two digits: clocks that were never set begin in 1970 or later.
_DV_SINCE = 70


@dataclass(frozen=True, slots=True)
class RecordingPacks:
    """What the camera wrote into one picture; None for what it left out."""

    moment: datetime | None
    timecode: str | None


def recording_packs(access_unit: bytes) -> RecordingPacks | None:
    """Reads the packs of one picture, or None where there are none."""
    for unit in split_units(access_unit, 0):
        if unit[0] & 0x1F != _SEI:
            continue
        body = unit.replace(b"\x00\x00\x03", b"\x00\x00")
        place = body.find(_MARK)
        if place >= 0:
            return _parse(body[place + len(_MARK) :])
    return None


def dv_packs(picture: bytes) -> RecordingPacks | None:
    """Reads the packs of one coded DV picture, or None where its recorder wrote none.

    DV tells no zone: the moment is the recorder's own clock, taken as UTC.
    """
    packs: dict[int, bytes] = {}
    for start in range(0, len(picture) - _DV_SEQUENCE + 1, _DV_SEQUENCE):
        for pack in _dv_sequence(picture[start : start + 6 * _DV_BLOCK]):
            if pack[1:] != b"\xff\xff\xff\xff":
                packs.setdefault(pack[0], pack[1:])
    found = RecordingPacks(_dv_moment(packs.get(_DV_DATE), packs.get(_DV_TIME)), _label(packs.get(_TIMECODE)))
    return found if found.moment is not None or found.timecode is not None else None


def _dv_sequence(head: bytes) -> Iterator[bytes]:
    """All packs before the pictures' blocks of a sequence."""
    for block in (1, 2):
        for place in range(6):
            at = block * _DV_BLOCK + 6 + 8 * place
            yield head[at : at + 5]
    for block in (3, 4, 5):
        for place in range(15):
            at = block * _DV_BLOCK + 3 + 5 * place
            yield head[at : at + 5]


def _dv_moment(date: bytes | None, time: bytes | None) -> datetime | None:
    if date is None or time is None:
        return None
    day, month, year = _number(date[1] & 0x3F), _number(date[2] & 0x1F), _number(date[3])
    second, minute, hour = _number(time[1] & 0x7F), _number(time[2] & 0x7F), _number(time[3] & 0x3F)
    try:
        return datetime(1900 + year + 100 * (year < _DV_SINCE), month, day, hour, minute, second, tzinfo=UTC)
    except ValueError:
        return None


def _parse(data: bytes) -> RecordingPacks:
    packs = {}
    for number in range(data[0] if data else 0):
        pack = data[1 + 5 * number : 6 + 5 * number]
        if len(pack) == 5:
            packs[pack[0]] = pack[1:]
    return RecordingPacks(_moment(packs.get(_DATE), packs.get(_TIME)), _label(packs.get(_TIMECODE)))


def _number(bcd: int) -> int:
    return (bcd >> 4) * 10 + (bcd & 0x0F)


def _moment(date: bytes | None, time: bytes | None) -> datetime | None:
    if date is None or time is None:
        return None
    offset = timedelta(minutes=30 * (date[0] & 0x1F))
    zone = timezone(-offset if date[0] & 0x20 else offset)
    year, month = _number(date[1]) * 100 + _number(date[2]), _number(date[3])
    day, hour, minute, second = (_number(value) for value in time)
    try:
        return datetime(year, month, day, hour, minute, second, tzinfo=zone)
    except ValueError:
        return None


def _label(pack: bytes | None) -> str | None:
    if pack is None or pack == b"\xff\xff\xff\xff":
        return None
    frames, seconds, minutes, hours = (
        _number(pack[0] & 0x3F),
        _number(pack[1] & 0x7F),
        _number(pack[2] & 0x7F),
        _number(pack[3] & 0x3F),
    )
    if frames > 59 or seconds > 59 or minutes > 59 or hours > 23:
        return None
    return f"{hours:02}:{minutes:02}:{seconds:02}{';' if pack[0] & 0x40 else ':'}{frames:02}"
