"""Stamps of pictures by the heads of a transport stream's packets, against `ffprobe`; what they do not tell is not told.

Where packets' fields lie: ISO/IEC 13818-1, 2.4.3.2.
"""

from __future__ import annotations

import subprocess
from collections.abc import Callable
from fractions import Fraction
from pathlib import Path

import numpy as np
import pytest

from diadoche.core.convert.source_index import InstantsBeside, source_instants
from diadoche.core.convert.stream_stamps import stream_stamps
from tests.outside.public_tools import ffprobe

_PICTURES = 150


def _stream(path: Path, *words: str, codec: str = "libx264") -> Path:
    source = ["-f", "lavfi", "-i", "testsrc2=s=640x360:r=25", "-f", "lavfi", "-i", "sine=r=48000"]
    subprocess.run(
        ["ffmpeg", "-v", "error", *source, "-frames:v", str(_PICTURES), "-t", str(_PICTURES / 25), "-c:v", codec, "-c:a", "ac3", *words,
         "-f", "mpegts", path],
        check=True,
    )  # fmt: skip
    return path


def _told(path: Path) -> list[tuple[int, int]]:
    """Stamps of pictures, shown and decoded, as 33 bits [13818-1, 2.4.3.7]."""
    packets = ffprobe(path, "-select_streams", "v:0", "-show_entries", "packet=pts,dts")["packets"]
    return [(int(each["pts"]) % 2**33, int(each["dts"]) % 2**33) for each in packets]


@pytest.mark.parametrize(
    ("codec", "words"),
    [
        ("libx264", ["-bf", "2"]),
        ("libx264", ["-bf", "2", "-mpegts_m2ts_mode", "1"]),
        ("libx265", ["-x265-params", "log-level=none"]),
        ("mpeg2video", ["-bf", "2", "-g", "12"]),
        # The clock starts again: 2 to the power of 33 ticks are 95443.7 s.
        ("libx264", ["-bf", "2", "-output_ts_offset", "95440.9"]),
    ],
)
def test_heads_tell_what_the_public_tool_reads(tmp_path: Path, codec: str, words: list[str]) -> None:
    path = _stream(tmp_path / "in.ts", *words, codec=codec)
    found = stream_stamps([path])
    assert found is not None
    assert list(zip(found.shown.tolist(), found.decoded.tolist(), strict=True)) == _told(path)
    by_heads = source_instants([path], Fraction(25), by_heads=True)
    assert by_heads is not None
    assert by_heads == pytest.approx(np.arange(_PICTURES) / 25, abs=1e-9)


def test_spans_are_cut_anywhere(tmp_path: Path) -> None:
    path = _stream(tmp_path / "in.ts")
    data, spans = path.read_bytes(), []
    for number, (begin, end) in enumerate([(0, 100_001), (100_001, 100_050), (100_050, len(data) - 77)]):
        spans.append(tmp_path / f"{number}.mts")
        spans[-1].write_bytes(data[begin:end])
    one, joined = stream_stamps([path]), stream_stamps(spans)
    assert one is not None
    assert joined is not None
    assert joined.shown.tolist() == one.shown.tolist()


def _a_packet_is_lost(data: bytearray, pictures: list[int]) -> None:
    del data[pictures[20] : pictures[20] + 188]


def _a_packet_is_damaged(data: bytearray, pictures: list[int]) -> None:
    data[pictures[20] + 1] |= 0x80


def _a_packet_is_scrambled(data: bytearray, pictures: list[int]) -> None:
    data[pictures[20] + 3] |= 0x80


def _a_mark_is_gone(data: bytearray, pictures: list[int]) -> None:
    data[pictures[20]] = 0


def _a_byte_is_gone(data: bytearray, pictures: list[int]) -> None:
    del data[pictures[20] + 50]


def _a_picture_has_no_stamp(data: bytearray, pictures: list[int]) -> None:
    # The flags of the head, behind the adaptation field [13818-1, 2.4.3.6].
    begin = next(each for each in pictures[1:] if data[each + 1] & 0x40)
    data[begin + (5 + data[begin + 4] if data[begin + 3] & 0x20 else 4) + 7] &= 0x3F


@pytest.mark.parametrize(
    "spoil",
    [
        _a_packet_is_lost,
        _a_packet_is_damaged,
        _a_packet_is_scrambled,
        _a_mark_is_gone,
        _a_byte_is_gone,
        _a_picture_has_no_stamp,
    ],
)
def test_what_is_not_told_without_doubt_is_not_told(
    tmp_path: Path, spoil: Callable[[bytearray, list[int]], None]
) -> None:
    path = _stream(tmp_path / "in.ts")
    data = bytearray(path.read_bytes())
    # The muxer numbers its first elementary stream 0x100.
    pictures = [each for each in range(0, len(data), 188) if (data[each + 1] & 0x1F) << 8 | data[each + 2] == 0x100]
    assert stream_stamps([path]) is not None
    spoil(data, pictures)
    path.write_bytes(data)
    assert stream_stamps([path]) is None


def test_pictures_behind_others_are_found_all_the_same(tmp_path: Path) -> None:
    """A head for every second picture: as many as the source has are asked for, and the packets are read one by one."""
    path = _stream(tmp_path / "in.ts")
    with InstantsBeside([path], Fraction(25)) as beside:
        found = beside.result(_PICTURES)
        assert found is not None
        assert len(found) == _PICTURES
    data = bytearray(path.read_bytes())
    begins = [
        each for each in range(0, len(data), 188)
        if (data[each + 1] & 0x1F) << 8 | data[each + 2] == 0x100 and data[each + 1] & 0x40
    ]  # fmt: skip
    for each in begins[1::2]:
        # What looks like a head is only more of the picture before.
        data[each + 1] &= ~0x40
    path.write_bytes(data)
    told = stream_stamps([path])
    assert told is not None
    assert len(told.shown) == _PICTURES // 2
    with InstantsBeside([path], Fraction(25)) as beside:
        found = beside.result(_PICTURES)
        assert found is None or len(found) != _PICTURES // 2


def test_other_files_have_no_such_heads(tmp_path: Path) -> None:
    noise = tmp_path / "noise.mts"
    noise.write_bytes(np.random.default_rng(5).bytes(500_000))
    assert stream_stamps([noise]) is None
    noise.write_bytes(b"")
    assert stream_stamps([noise]) is None
    # Marks alone make no stream.
    noise.write_bytes((b"\x47" + bytes(187)) * 5000)
    assert stream_stamps([noise]) is None
