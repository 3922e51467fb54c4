"""Simulated cinema cameras: one writes CinemaDNG, a picture a frame; one writes raw reels that nothing here decodes.

Sources: [TIFF6], [DNG] and [CDNG] for the tags; the atoms of a raw segment from memory.
"""

from __future__ import annotations

import os
import struct
from collections.abc import Sequence
from dataclasses import replace
from datetime import timedelta
from fractions import Fraction
from pathlib import Path

import numpy as np
from numpy.typing import NDArray

from diadoche.demo.movies import MAKER, set_time, write_sound
from diadoche.demo.recording import Recording
from diadoche.demo.scene import Plane, View

BLACK, WHITE = 256, 4095
# How the sensor sees grey: green collects most.
NEUTRAL = (0.5, 1.0, 0.625)
_ASCII, _BYTE, _SHORT, _LONG, _RATIONAL, _SIGNED = 2, 1, 3, 4, 5, 10
_UNDECODED_BYTES = 60_000


def write_dng_card(root: Path, recordings: Sequence[Recording], model: str, *, missing: int | None = None) -> None:
    """Writes a folder a recording, a DNG a frame and the sound beside them; one frame may have been lost."""
    for number, recording in enumerate(recordings, start=1):
        name = f"LAMP_{number:03}"
        folder = root / name
        folder.mkdir()
        view = View(recording.camera)
        for index in range(recording.pictures):
            if index == missing and number == len(recordings):
                continue
            planes = view.at(recording.scene_start_s + index / recording.rate, recording.first_number + index)
            path = folder / f"{name}_{index:06}.DNG"
            path.write_bytes(dng(sensor_values(*planes), recording, index, model))
            moment = (recording.start + timedelta(seconds=float(index / recording.rate))).timestamp()
            os.utime(path, (moment, moment))
        write_sound(folder / f"{name}.WAV", recording, "wav")


def sensor_values(luma: Plane, blue: Plane, red: Plane) -> NDArray[np.uint16]:
    """A drawn picture as the values behind a red, green, green, blue filter: linear light, 12 bits, black at 256."""
    wide = [plane.repeat(2, axis=0).repeat(2, axis=1)[: luma.shape[0], : luma.shape[1]] for plane in (blue, red)]
    bright = (luma.astype(np.float32) - 16) / 219
    difference = [(plane.astype(np.float32) - 128) / 224 for plane in wide]
    colours = [
        bright + 1.5748 * difference[1],
        bright - 0.1873 * difference[0] - 0.4681 * difference[1],
        bright + 1.8556 * difference[0],
    ]
    values = np.empty(luma.shape, np.float32)
    for row, column, colour in ((0, 0, 0), (0, 1, 1), (1, 0, 1), (1, 1, 2)):
        part = np.clip(colours[colour][row::2, column::2], 0, 1)
        # The display curve undone [BT709-6, item 1.2 read backwards].
        linear = np.where(part < 0.081, part / 4.5, ((part + 0.099) / 1.099) ** (1 / 0.45))
        values[row::2, column::2] = linear * NEUTRAL[colour]
    return np.round(BLACK + values * (WHITE - BLACK)).astype("<u2")


def dng(values: NDArray[np.uint16], recording: Recording, index: int, model: str) -> bytes:
    """One picture as an uncompressed DNG with its moment, rate and timecode."""
    height, width = values.shape
    moment = recording.start + timedelta(seconds=float(index / recording.rate))
    rate = recording.rate.limit_denominator(1001)
    data = values.tobytes()
    entries = [
        _entry(254, _LONG, [0]),
        _entry(256, _LONG, [width]),
        _entry(257, _LONG, [height]),
        _entry(258, _SHORT, [16]),
        _entry(259, _SHORT, [1]),
        _entry(262, _SHORT, [32803]),
        _entry(271, _ASCII, MAKER),
        _entry(272, _ASCII, model),
        _entry(273, _LONG, [0]),
        _entry(274, _SHORT, [1]),
        _entry(277, _SHORT, [1]),
        _entry(278, _LONG, [height]),
        _entry(279, _LONG, [len(data)]),
        _entry(306, _ASCII, f"{moment:%Y:%m:%d %H:%M:%S}"),
        _entry(33421, _SHORT, [2, 2]),
        _entry(33422, _BYTE, [0, 1, 1, 2]),
        _entry(50706, _BYTE, [1, 4, 0, 0]),
        _entry(50708, _ASCII, f"{MAKER} {model}"),
        _entry(50714, _SHORT, [BLACK]),
        _entry(50717, _SHORT, [WHITE]),
        # Source: IEC 61966-2-1, XYZ to linear RGB; the simulated sensor sees the scene's own primaries.
        _entry(50721, _SIGNED, _fractions(_XYZ_TO_RGB)),
        _entry(50728, _RATIONAL, _fractions(NEUTRAL)),
        _entry(50778, _SHORT, [21]),
        _entry(51043, _BYTE, list(_timecode(recording.timecode, index, round(recording.rate)))),
        _entry(51044, _SIGNED, [(rate.numerator, rate.denominator)]),
    ]
    return _file(entries, data)


_XYZ_TO_RGB = (3.2406, -1.5372, -0.4986, -0.9689, 1.8758, 0.0415, 0.0557, -0.2040, 1.0570)
_Entry = tuple[int, int, int, bytes]


def _fractions(values: Sequence[float]) -> list[tuple[int, int]]:
    return [(round(value * 10_000), 10_000) for value in values]


def _entry(tag: int, kind: int, values: str | Sequence[int] | Sequence[tuple[int, int]]) -> _Entry:
    if isinstance(values, str):
        text = values.encode("ascii") + b"\0"
        return tag, kind, len(text), text
    letter = {_BYTE: "B", _SHORT: "H", _LONG: "I", _RATIONAL: "2I", _SIGNED: "2i"}[kind]
    packed = b"".join(struct.pack(f"<{letter}", *(each if isinstance(each, tuple) else (each,))) for each in values)
    return tag, kind, len(values), packed


def _file(entries: Sequence[_Entry], data: bytes) -> bytes:
    """A little-endian TIFF: head, directory, long values, samples [TIFF6, section 2]."""
    directory_bytes = 2 + 12 * len(entries) + 4
    place = 8 + directory_bytes
    long_values, placed = b"", []
    for tag, kind, count, value in entries:
        placed.append((tag, kind, count, value if len(value) <= 4 else struct.pack("<I", place + len(long_values))))
        if len(value) > 4:
            long_values += value + b"\0" * (len(value) % 2)
    samples_at = place + len(long_values)
    table = b"".join(
        struct.pack("<HHI", tag, kind, count) + (struct.pack("<I", samples_at) if tag == 273 else value.ljust(4, b"\0"))
        for tag, kind, count, value in placed
    )
    head = b"II*\0" + struct.pack("<I", 8)
    return head + struct.pack("<H", len(entries)) + table + bytes(4) + long_values + data


def _timecode(start: str, index: int, base: int) -> bytes:
    """The label of a frame in packed binary-coded decimals [CDNG, TimeCodes]."""
    hours, minutes, seconds, frames = (int(part) for part in start.split(":"))
    total = ((hours * 60 + minutes) * 60 + seconds) * base + frames + index
    seconds, frames = divmod(total, base)
    fields = frames, seconds % 60, seconds // 60 % 60, seconds // 3600 % 24
    return bytes(each // 10 << 4 | each % 10 for each in fields) + bytes(4)


def write_raw_card(root: Path, recordings: Sequence[tuple[Recording, int]]) -> None:
    """Writes a reel: a folder a clip, in it numbered segments, each with a head that says what it holds."""
    reel = root / "A001_0614TR.RDM"
    for number, (recording, segments) in enumerate(recordings, start=1):
        name = f"A001_C{number:03}_0614TR"
        folder = reel / f"{name}.RDC"
        folder.mkdir(parents=True)
        length = recording.pictures // segments
        for segment in range(segments):
            count = recording.pictures - length * segment if segment == segments - 1 else length
            path = folder / f"{name}_{segment + 1:03}.R3D"
            path.write_bytes(_segment(recording, segment, count))
            set_time(path, replace(recording, pictures=length * segment + count))


def _segment(recording: Recording, segment: int, count: int) -> bytes:
    rate: Fraction = recording.rate
    camera = recording.camera
    body = struct.pack(">BBHII", 1, 0, 0, 240_000, segment) + bytes(32)
    body += struct.pack(">IIHHHB", camera.width_px, camera.height_px, 0, rate.numerator, rate.denominator, 0)
    body = body.ljust(512 - 8, b"\0")
    noise = np.random.default_rng(segment).bytes(_UNDECODED_BYTES)
    frames = b"".join(_atom(b"REDV", struct.pack(">I", index) + noise) for index in range(count))
    return _atom(b"RED1", body) + frames + _atom(b"REOB", bytes(24))


def _atom(kind: bytes, body: bytes) -> bytes:
    return struct.pack(">I4s", len(body) + 8, kind) + body
