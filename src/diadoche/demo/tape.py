"""What a tape recorder writes into every DV picture beside picture and sound: timecode, date and time of day.

Source: from memory, IEC 61834-2 and 61834-4: a picture is a run of sequences of 150 blocks of 80 bytes; the second and
third block hold subcode, six packs each at every eighth byte; the next three hold auxiliary video packs of five bytes.
"""

from __future__ import annotations

from datetime import datetime, timedelta
from fractions import Fraction

from diadoche.core.timecode import Timecode
from diadoche.demo.recording import Recording

_BLOCK, _SEQUENCE = 80, 150 * 80
_TIMECODE, _DATE, _TIME = 0x13, 0x62, 0x63


def stamped(picture: bytes, number: int, recording: Recording) -> bytes:
    """A coded DV picture with the packs of a recorder that knows the time.

    Args:
        picture: as the encoder left it.
        number: of the picture within its recording, from 0.
        recording: when it began, and its first timecode.
    """
    data = bytearray(picture)
    now = recording.start + timedelta(seconds=float(Fraction(number) / recording.rate))
    packs = [_date(now), _time(now)]
    if recording.timecode:
        packs.insert(0, _timecode(str(Timecode.parse(recording.timecode, recording.rate).plus(number))))
    for sequence in range(0, len(data), _SEQUENCE):
        for block in (1, 2):
            for place in range(6):
                at = sequence + block * _BLOCK + 3 + 8 * place + 3
                data[at : at + 5] = packs[place % len(packs)]
        for place, pack in enumerate(packs[-2:], start=2):
            at = sequence + 3 * _BLOCK + 3 + 5 * place
            data[at : at + 5] = pack
    return bytes(data)


def _bcd(value: int) -> int:
    return value // 10 << 4 | value % 10


def _date(now: datetime) -> bytes:
    # Its zone is not told: all ones.
    return bytes([_DATE, 0xFF, 0xC0 | _bcd(now.day), 0xE0 | _bcd(now.month), _bcd(now.year % 100)])


def _time(now: datetime) -> bytes:
    return bytes([_TIME, 0xFF, 0x80 | _bcd(now.second), 0x80 | _bcd(now.minute), 0xC0 | _bcd(now.hour)])


def _timecode(label: str) -> bytes:
    hours, minutes, seconds, frames = (int(part) for part in label.replace(";", ":").split(":"))
    drop = 0x40 if ";" in label else 0
    return bytes([_TIMECODE, drop | _bcd(frames), _bcd(seconds), _bcd(minutes), _bcd(hours)])
