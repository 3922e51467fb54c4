"""Packets that are written on a thread of their own: in their order, all of them, and an error stops nobody."""

from __future__ import annotations

import threading
from collections.abc import Iterator
from fractions import Fraction
from pathlib import Path
from typing import Any

import av
import pytest

from diadoche.core.convert.mux_thread import muxing_beside

_PACKETS, _BYTES = 400, 10_000


def _packets(stream: av.VideoStream) -> Iterator[av.Packet[Any]]:
    for number in range(_PACKETS):
        packet: av.Packet[Any] = av.Packet(number.to_bytes(4, "big") * (_BYTES // 4))
        packet.pts = packet.dts = number
        packet.time_base, packet.is_keyframe, packet.stream = Fraction(1, 25), True, stream
        yield packet


def _write(path: str, *, fails: bool = False) -> None:
    with av.open(path, "w", format="matroska") as target:
        stream = target.add_stream("rawvideo", rate=25)
        stream.width, stream.height, stream.pix_fmt = 50, 200, "gray"
        with muxing_beside(target) as muxer:
            for packet in _packets(stream):
                muxer.mux(packet)
            if fails:
                raise ValueError("stop here")


def test_every_packet_is_written_in_its_order(tmp_path: Path) -> None:
    path = str(tmp_path / "out.mkv")
    _write(path)
    with av.open(path) as media:
        numbers = [int.from_bytes(bytes(packet)[:4], "big") for packet in media.demux() if packet.size]
    assert numbers == list(range(_PACKETS))


def test_a_full_disk_is_told_and_nobody_waits_for_the_thread() -> None:
    before = threading.active_count()
    with pytest.raises(OSError, match="space"):
        _write("/dev/full")
    assert threading.active_count() == before


def test_work_that_fails_ends_the_thread_too(tmp_path: Path) -> None:
    before = threading.active_count()
    with pytest.raises(ValueError, match="stop here"):
        _write(str(tmp_path / "out.mkv"), fails=True)
    assert threading.active_count() == before
