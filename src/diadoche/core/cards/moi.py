"""When a recording began, from the small file that programme-stream camcorders write beside it.

Source: from memory, the descriptions that their owners published: the letters V6, the file's size in four bytes, the
year in two, month, day, hour and minute in one each, milliseconds of the minute in two; all with the high byte first.
"""

from __future__ import annotations

import struct
from datetime import UTC, datetime, timedelta

_HEAD = struct.Struct(">2sIHBBBBH")


def recording_moment(data: bytes) -> datetime | None:
    """The moment by the camera's clock, which names no zone; None where the file does not say."""
    if len(data) < _HEAD.size:
        return None
    letters, _, year, month, day, hour, minute, milliseconds = _HEAD.unpack_from(data)
    if letters != b"V6":
        return None
    try:
        return datetime(year, month, day, hour, minute, tzinfo=UTC) + timedelta(milliseconds=milliseconds)
    except ValueError:
        return None
