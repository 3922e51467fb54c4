"""The units that H.264 and HEVC pictures consist of [H264, annex B; 14496-15]."""

from __future__ import annotations

from collections.abc import Iterator

import numpy as np

START_CODE = b"\x00\x00\x01"
# From so many bytes on, to look at two at a time is quicker than to search for three.
_SEARCHED_BYTES = 4096
_FEW = 64


def split_units(data: bytes, length_bytes: int) -> Iterator[bytes]:
    """The units of an access unit, without start codes, lengths and trailing zeros."""
    for begin, end in unit_bounds(data, length_bytes):
        yield data[begin:end]


def unit_bounds(data: bytes | memoryview, length_bytes: int) -> Iterator[tuple[int, int]]:
    """Where each unit of an access unit begins and ends, without start codes, lengths and trailing zeros.

    Args:
        data: the access unit.
        length_bytes: of the length before each unit; 0 where start codes are.
    """
    if length_bytes:
        place, size = 0, len(data)
        while place + length_bytes <= size:
            begin = place + length_bytes
            place = begin + int.from_bytes(data[place:begin], "big")
            end = _without_zeros(data, begin, min(place, size))
            if end > begin:
                yield begin, end
        return
    begin = -1
    for start in _start_codes(data):
        if begin >= 0 and (end := _without_zeros(data, begin, start)) > begin:
            yield begin, end
        begin = start + len(START_CODE)
    if begin >= 0 and (end := _without_zeros(data, begin, len(data))) > begin:
        yield begin, end


def _without_zeros(data: bytes | memoryview, begin: int, end: int) -> int:
    if end <= begin or data[end - 1]:
        return end
    return begin + len(bytes(data[begin:end]).rstrip(b"\0"))


def _start_codes(data: bytes | memoryview) -> Iterator[int]:
    """Where start codes stand, in their order."""
    if len(data) >= _SEARCHED_BYTES:
        yield from _start_codes_of_many(data)
        return
    data = bytes(data)
    start = data.find(START_CODE)
    while start >= 0:
        yield start
        start = data.find(START_CODE, start + len(START_CODE))


def _start_codes_of_many(data: bytes | memoryview) -> list[int]:
    """The same for a long access unit, by its pairs of bytes: whole pictures are mostly one unit."""
    values = np.frombuffer(data, np.uint8)
    # Of the three bytes 0, 0, 1 two are a pair: 0, 0 in front of a 1, or else 0, 1 behind a 0.
    pairs = np.flatnonzero((values[: len(values) // 2 * 2].view("<u2") & 0xFEFF) == 0) * 2
    if len(pairs) > _FEW:
        zeros = values[pairs + 1] == 0
        even, odd = pairs[zeros], pairs[~zeros] - 1
        even = even[even + 2 < len(values)]
        odd = odd[odd >= 0]
        found: list[int] = np.sort(np.concatenate([even[values[even + 2] == 1], odd[values[odd] == 0]])).tolist()
        return found
    found = []
    for pair in pairs.tolist():
        if data[pair + 1] == 0:
            if pair + 2 < len(data) and data[pair + 2] == 1:
                found.append(pair)
        elif pair and data[pair - 1] == 0:
            found.append(pair - 1)
    return found


def unit_length_bytes(codec: str, extradata: bytes | None) -> int:
    """How many bytes of length stand before each unit; 0 where start codes do [14496-15, 5.3.3 and 8.3.3]."""
    if not extradata or extradata[0] != 1:
        return 0
    if codec == "h264" and len(extradata) > 4:
        return (extradata[4] & 3) + 1
    if codec == "hevc" and len(extradata) > 21:
        return (extradata[21] & 3) + 1
    return 0
