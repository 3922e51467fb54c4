"""ISO base media boxes, read by hand: what the media library does not tell, or must be checked against.

Sources: [14496-12] ISO/IEC 14496-12:2022, clause 4.2 (boxes), 8.3.2 (track header matrix); the Spherical Video
V1 and V2 documents.
"""

from __future__ import annotations

import os
import struct
from collections.abc import Iterator
from dataclasses import dataclass, field, replace
from fractions import Fraction
from pathlib import Path
from typing import BinaryIO

from diadoche.core.diskfiles import unseen_file
from diadoche.core.orientation import AS_RECORDED, Orientation
from diadoche.core.spatial import SphereHead, equirectangular_bounds, from_v1

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
class Edit:
    """One entry of an edit list: how long it plays, and from where in the track; None is an empty stretch."""

    duration_s: Fraction
    from_s: Fraction | None


@dataclass(frozen=True, slots=True)
class TrackHead:
    """What a track's own boxes say. `handler` and `entry` are the four letters of each."""

    handler: str
    entry: str
    name: str
    # The types of its further sample entries, where it has several.
    more_entries: tuple[str, ...] = ()
    orientation: Orientation = AS_RECORDED
    sphere: SphereHead = field(default_factory=SphereHead)
    edits: tuple[Edit, ...] = ()
    # Labels a second of a timecode track, exact.
    timecode_rate: Fraction | None = None


def movie_payload(path: Path) -> bytes | None:
    """The payload of the movie box, or None where there is none that is whole."""
    with unseen_file(path) as file:
        for box in top_boxes(file):
            if box.kind == "moov" and not box.cut_off and box.size_bytes < _LARGEST_READ_BYTES:
                file.seek(box.start)
                return file.read(box.size_bytes)
    return None


def track_heads(movie: bytes) -> list[TrackHead]:
    """All tracks of a movie box, in order."""
    movie_scale = timescale_of(next(find(movie, "mvhd"), b""))
    return [_track_head(track, movie_scale) for track in find(movie, "trak")]


def video_tracks(movie: bytes) -> list[TrackHead]:
    """The video tracks of a movie box, in order."""
    return [head for head in track_heads(movie) if head.handler == "vide"]


def is_fragmented(movie: bytes) -> bool:
    """Whether samples lie in fragments that follow the movie box."""
    return next(find(movie, "mvex"), None) is not None


def _track_head(track: bytes, movie_scale: int) -> TrackHead:
    handler_box = next(find(track, "mdia", "hdlr"), b"")
    handler = handler_box[8:12].decode("latin-1")
    entries = next(find(track, "mdia", "minf", "stbl", "stsd"), b"")[8:]
    kinds = list(inner_boxes(entries))
    kind, body = kinds[0] if kinds else ("", b"")
    media_scale = timescale_of(next(find(track, "mdia", "mdhd"), b""))
    edits = edits_of(track, movie_scale, media_scale)
    more = tuple(each for each, _body in kinds[1:])
    head = TrackHead(handler, kind, _handler_name(handler_box), more, edits=edits)
    if kind == "tmcd":
        return replace(head, timecode_rate=_timecode_rate(body))
    if handler != "vide":
        return head
    entry = body[_VIDEO_ENTRY_HEAD_BYTES:]
    first = next((from_v1(data[16:]) for data in find(track, "uuid") if data[:16] == _SPHERICAL_V1), SphereHead())
    return replace(head, orientation=_orientation(next(find(track, "tkhd"), b"")), sphere=_sphere(entry, first))


def _timecode_rate(entry: bytes) -> Fraction | None:
    """The rate at which a timecode sample entry counts [QTFF, timecode sample description]."""
    if len(entry) < 24:
        return None
    scale, length = struct.unpack_from(">II", entry, 16)
    rate = Fraction(scale, length) if length else Fraction(0)
    return rate if 1 <= rate <= 1000 else None


def timescale_of(head: bytes) -> int:
    """Units a second, from a movie header or a media header [14496-12, 8.2.2 and 8.4.2]."""
    place = 20 if head[:1] == b"\x01" else 12
    return int.from_bytes(head[place : place + 4], "big")


def edits_of(track: bytes, movie_scale: int, media_scale: int) -> tuple[Edit, ...]:
    """The edit list of a track [14496-12, 8.6.6]; none shows all of it."""
    table = next(find(track, "edts", "elst"), b"")
    if len(table) < 8 or not movie_scale or not media_scale:
        return ()
    count = int.from_bytes(table[4:8], "big")
    layout, size = (">Qq", 20) if table[0] == 1 else (">Ii", 12)
    found = []
    for number in range(min(count, (len(table) - 8) // size)):
        duration, begin = struct.unpack_from(layout, table, 8 + number * size)
        found.append(Edit(Fraction(duration, movie_scale), None if begin < 0 else Fraction(begin, media_scale)))
    return tuple(found)


def _handler_name(box: bytes) -> str:
    """The name in a handler box: ended by zero, or with its length in front as QuickTime has it."""
    name = box[24:]
    if name[:1] and name[0] == len(name) - 1:
        name = name[1:]
    return name.split(b"\0")[0].decode("utf-8", "replace").strip()


def _orientation(header: bytes) -> Orientation:
    """From the matrix of a track header [14496-12, 8.3.2]."""
    start = 40 if header[:1] == b"\x00" else 52
    if len(header) < start + 20:
        return AS_RECORDED
    return Orientation.of_matrix(*struct.unpack_from(">ii4xii", header, start))


def _sphere(entry: bytes, first: SphereHead) -> SphereHead:
    """What the boxes of V2 in a sample entry say; where they say nothing, what those of V1 said."""
    projections = dict(each for payload in find(entry, "sv3d", "proj") for each in inner_boxes(payload))
    kind = next((name for box, name in _PROJECTIONS.items() if box in projections), first.projection)
    eyes = next(find(entry, "st3d"), b"")
    bounds = equirectangular_bounds(projections["equi"]) if "equi" in projections else first.bounds
    return SphereHead(
        kind,
        _STEREO_MODES.get(eyes[4], "mono") if len(eyes) > 4 else first.stereo,
        first.told or any(True for _ in find(entry, "sv3d")),
        bounds if kind == "equirectangular" else None,
    )


_PROJECTIONS = {"equi": "equirectangular", "cbmp": "cubemap", "mshp": "fisheye"}
_STEREO_MODES = {1: "top-bottom", 2: "side-by-side"}
