"""A motion track beside the pictures: what a camera's sensors tell, as Camera Motion Metadata [CAMM].

Written behind a finished file: the samples as media data of their own, and a track in its head, which stands last.
"""

from __future__ import annotations

import struct
from collections.abc import Iterator
from pathlib import Path

import numpy as np
from numpy.typing import NDArray

Array = NDArray[np.float64]
_WEIGHT_M_S2 = 9.81
_RATE_HZ = 100
_TURNING, _ACCELERATION = 2, 3
_TICKS_S = 10_000
_UNITY = struct.pack(">9I", 0x10000, 0, 0, 0, 0x10000, 0, 0, 0, 0x40000000)


def leaning(roll_deg: float, pitch_deg: float) -> Array:
    """How a camera leans: rolled clockwise, then pitched up; its directions into east, north and up."""
    roll, pitch = np.radians([roll_deg, pitch_deg])
    rolled = np.array([[np.cos(roll), 0, np.sin(roll)], [0, 1, 0], [-np.sin(roll), 0, np.cos(roll)]])
    pitched = np.array([[1, 0, 0], [0, np.cos(pitch), -np.sin(pitch)], [0, np.sin(pitch), np.cos(pitch)]])
    found: Array = pitched @ rolled
    return found


def standing(lean: Array, seconds: float, seed: int) -> list[tuple[float, int, Array]]:
    """What the sensors of a camera tell that stands and leans: time, kind and values, with their noise.

    Args:
        lean: its directions into east, north and up.
        seconds: for how long.
        seed: of the noise.
    """
    dice = np.random.default_rng(seed)
    east, north, up = lean.T @ np.array((0.0, 0.0, 1.0))
    # Its own axes are to the right, down and ahead; the floor pushes upwards.
    push = np.array((east, -up, north)) * _WEIGHT_M_S2
    found = []
    for number in range(int(seconds * _RATE_HZ)):
        time_s = number / _RATE_HZ
        found.append((time_s, _ACCELERATION, push + dice.normal(0, 0.3, 3)))
        found.append((time_s, _TURNING, dice.normal(0, 0.005, 3)))
    return found


def add_motion_track(path: Path, samples: list[tuple[float, int, Array]]) -> None:
    """Adds a track with samples, in the order of their times, to an ISO file whose head stands last."""
    data = path.read_bytes()
    top = list(_boxes(data, 0, len(data)))
    kind, at, end = top[-1]
    assert kind == b"moov"
    packets = [struct.pack("<HH3f", 0, kind, *(float(value) for value in values)) for _, kind, values in samples]
    media = _box(b"mdat", b"".join(packets))
    ticks = [round(time_s * _TICKS_S) for time_s, _, _ in samples]
    ends = ticks[-1] + _TICKS_S // _RATE_HZ
    head = data[at:end]
    mvhd_at = next(place for name, place, _ in _boxes(head, 8, len(head)) if name == b"mvhd")
    scale, number_at = struct.unpack_from(">I", head, mvhd_at + 20)[0], mvhd_at + 104
    number = struct.unpack_from(">I", head, number_at)[0]
    track = _track(number, packets, ticks, ends, offset=at + 8, movie_ticks=ends * scale // _TICKS_S)
    head = head[:number_at] + struct.pack(">I", number + 1) + head[number_at + 4 :]
    path.write_bytes(data[:at] + media + _box(b"moov", head[8:] + track))


def _track(number: int, packets: list[bytes], ticks: list[int], ends: int, *, offset: int, movie_ticks: int) -> bytes:
    """A `trak` whose samples lie in one chunk."""
    steps = [after - before for before, after in zip(ticks, [*ticks[1:], ends], strict=True)]
    runs: list[list[int]] = []
    for step in steps:
        if runs and runs[-1][1] == step:
            runs[-1][0] += 1
        else:
            runs.append([1, step])
    entry = _box(b"camm", bytes(6) + struct.pack(">H", 1))
    table = b"".join(
        (
            _box(b"stsd", struct.pack(">II", 0, 1) + entry),
            _box(b"stts", struct.pack(">II", 0, len(runs)) + b"".join(struct.pack(">II", *run) for run in runs)),
            _box(b"stsc", struct.pack(">IIIII", 0, 1, 1, len(packets), 1)),
            _box(b"stsz", struct.pack(">III", 0, 0, len(packets)) + b"".join(_size(each) for each in packets)),
            _box(b"stco", struct.pack(">III", 0, 1, offset)),
        )
    )
    place = _box(b"dinf", _box(b"dref", struct.pack(">II", 0, 1) + _box(b"url ", struct.pack(">I", 1))))
    media = b"".join(
        (
            _box(b"mdhd", struct.pack(">IIIIIHH", 0, 0, 0, _TICKS_S, ends, 0x55C4, 0)),
            _box(b"hdlr", struct.pack(">II4s12x", 0, 0, b"meta") + b"Motion\0"),
            _box(b"minf", _box(b"nmhd", bytes(4)) + place + _box(b"stbl", table)),
        )
    )
    header = struct.pack(">IIIIII8xHHHH", 7, 0, 0, number, 0, movie_ticks, 0, 0, 0, 0) + _UNITY + bytes(8)
    return _box(b"trak", _box(b"tkhd", header) + _box(b"mdia", media))


def _size(packet: bytes) -> bytes:
    return struct.pack(">I", len(packet))


def _box(kind: bytes, payload: bytes) -> bytes:
    return struct.pack(">I4s", 8 + len(payload), kind) + payload


def _boxes(data: bytes, at: int, end: int) -> Iterator[tuple[bytes, int, int]]:
    while at + 8 <= end:
        size, kind = struct.unpack_from(">I4s", data, at)
        whole = struct.unpack_from(">Q", data, at + 8)[0] if size == 1 else size or end - at
        yield kind, at, at + whole
        at += whole
