"""ISO base media boxes, read by hand: what the media library does not tell, or must be checked against.

Source: [14496-12] ISO/IEC 14496-12:2022, clause 4.2 (boxes), 8.3.2 (track header matrix).
"""

from __future__ import annotations

import os
import struct
from collections.abc import Iterator
from dataclasses import dataclass
from pathlib import Path
from typing import BinaryIO

from diadoche.core.diskfiles import unseen_file

_CONTAINERS = {"moov", "trak", "mdia", "minf", "stbl", "edts", "udta", "moof", "traf", "sv3d", "proj"}
_VIDEO_ENTRY_HEAD_BYTES = 78
_SPHERICAL_V1 = bytes.fromhex("ffcc8263f8554a938814587a02521fdd")
_LARGEST_READ_BYTES = 64 * 1024 * 1024


@dataclass(frozen=True, slots=True)
class Box:
    """A box: its type, where its payload lies, and whether the file ends before it does."""

    kind: str
    start: int
    size_bytes: int
    cut_off: bool


def top_boxes(file: BinaryIO) -> Iterator[Box]:
    """The boxes at the top of a file; stops where what follows is no box."""
    end = os.fstat(file.fileno()).st_size
    place = 0
    while place + 8 <= end:
        file.seek(place)
        head = file.read(16)
        size, kind = struct.unpack(">I4s", head[:8])
        head_bytes = 8
        if size == 1 and len(head) == 16:
            size, head_bytes = struct.unpack(">Q", head[8:])[0], 16
        elif size == 0:
            size = end - place
        if size < head_bytes or not kind.isascii():
            return
        yield Box(kind.decode(), place + head_bytes, size - head_bytes, place + size > end)
        place += size


def inner_boxes(data: bytes) -> Iterator[tuple[str, bytes]]:
    """The boxes inside a payload, as type and payload."""
    place = 0
    while place + 8 <= len(data):
        size, kind = struct.unpack(">I4s", data[place : place + 8])
        if size < 8:
            return
        yield kind.decode("latin-1"), data[place + 8 : place + size]
        place += size


def find(data: bytes, *path: str) -> Iterator[bytes]:
    """Payloads of all boxes reached by a path of types."""
    for kind, payload in inner_boxes(data):
        if kind == path[0]:
            if len(path) == 1:
                yield payload
            else:
                yield from find(payload, *path[1:])


@dataclass(frozen=True, slots=True)
class TrackHead:
    """What a video track's own boxes say."""

    rotation_deg: int
    projection: str
    stereo: str


def movie_payload(path: Path) -> bytes | None:
    """The payload of the movie box, or None where there is none that is whole."""
    with unseen_file(path) as file:
        for box in top_boxes(file):
            if box.kind == "moov" and not box.cut_off and box.size_bytes < _LARGEST_READ_BYTES:
                file.seek(box.start)
                return file.read(box.size_bytes)
    return None


def video_tracks(movie: bytes) -> list[TrackHead]:
    """The video tracks of a movie box, in order."""
    heads = []
    for track in find(movie, "trak"):
        handler = next(find(track, "mdia", "hdlr"), b"")
        if handler[8:12] != b"vide":
            continue
        header = next(find(track, "tkhd"), b"")
        spherical_v1 = any(payload[:16] == _SPHERICAL_V1 for payload in find(track, "uuid"))
        entries = next(find(track, "mdia", "minf", "stbl", "stsd"), b"")[8:]
        entry = next(inner_boxes(entries), ("", b""))[1][_VIDEO_ENTRY_HEAD_BYTES:]
        heads.append(TrackHead(_rotation(header), _projection(entry, spherical_v1), _stereo(entry)))
    return heads


def _rotation(header: bytes) -> int:
    """Clockwise turn for showing, from the matrix of a track header."""
    start = 40 if header[:1] == b"\x00" else 52
    if len(header) < start + 20:
        return 0
    a, b = struct.unpack(">ii", header[start : start + 8])
    turns = {(1, 0): 0, (0, 1): 90, (-1, 0): 180, (0, -1): 270}
    return turns.get((_sign(a), _sign(b)), 0)


def _sign(value: int) -> int:
    return (value > 0) - (value < 0)


def _projection(entry: bytes, spherical_v1: bool) -> str:
    kinds = {kind for payload in find(entry, "sv3d", "proj") for kind, _ in inner_boxes(payload)}
    if "equi" in kinds or (spherical_v1 and not kinds):
        return "equirectangular"
    return "cubemap" if "cbmp" in kinds else "flat"


def _stereo(entry: bytes) -> str:
    modes = {1: "top-bottom", 2: "side-by-side"}
    payload = next(find(entry, "st3d"), b"")
    return modes.get(payload[4], "mono") if len(payload) > 4 else "mono"
