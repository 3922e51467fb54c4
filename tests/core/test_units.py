"""Units of H.264 and HEVC found in long pictures as in short ones, against a search byte by byte."""

from __future__ import annotations

import random

import pytest

from diadoche.core.identify.units import split_units, unit_bounds


def _byte_by_byte(data: bytes) -> list[bytes]:
    """What stands between start codes, zeros at the end taken off [H264, annex B.1.1]."""
    starts = [place for place in range(len(data) - 2) if data[place : place + 3] == b"\0\0\1"]
    ends = [*starts[1:], len(data)] if starts else []
    units = (data[start + 3 : end].rstrip(b"\0") for start, end in zip(starts, ends, strict=True))
    return [unit for unit in units if unit]


@pytest.mark.parametrize("size", [0, 3, 4, 5, 200, 4_095, 4_096, 4_097, 9_001])
@pytest.mark.parametrize("share", [0.01, 0.3, 0.9])
def test_units_between_start_codes(size: int, share: float) -> None:
    dice = random.Random(f"{size} {share}")
    for _turn in range(20):
        data = bytes(dice.choice((0, 0, 1)) if dice.random() < share else dice.randrange(256) for _ in range(size))
        assert list(split_units(data, 0)) == _byte_by_byte(data)
        assert [data[begin:end] for begin, end in unit_bounds(memoryview(data), 0)] == _byte_by_byte(data)


def test_units_behind_lengths() -> None:
    data = b"\0\0\0\3abc" + b"\0\0\0\0" + b"\0\0\0\4de\0\0" + b"\0\0\0\2\0\0" + b"\0\0\0\x09cut"
    assert list(split_units(data, 4)) == [b"abc", b"de", b"cut"]
