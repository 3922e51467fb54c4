"""Matroska's elements, read by hand: what the media library does not tell of a track.

Sources: [RFC8794] EBML, 4 (variable-size integers) and 6.2 (unknown sizes); [RFC9559] Matroska, 5.1.4 (tracks).
"""

from __future__ import annotations

import os
import struct
from collections.abc import Iterator
from dataclasses import dataclass
from pathlib import Path
from typing import BinaryIO

from diadoche.core.diskfiles import unseen_file
from diadoche.core.orientation import AS_RECORDED, Orientation
from diadoche.core.spatial import SphereHead, equirectangular_bounds

SEGMENT, TRACKS = 0x18538067, 0x1654AE6B
TRACK_ENTRY, TRACK_TYPE, VIDEO = 0xAE, 0x83, 0xE0
_STEREO_MODE, _PROJECTION, _PROJECTION_TYPE, _PROJECTION_PRIVATE = 0x53B8, 0x7670, 0x7671, 0x7672
_POSE_YAW, _POSE_ROLL = 0x7673, 0x7675
PICTURE_TRACK = 1
# [RFC9559, 5.1.4.1.28.3]: which eye comes first does not change how they are packed.
_STEREO = {1: "side-by-side", 2: "top-bottom", 3: "top-bottom", 11: "side-by-side"}
_PROJECTIONS = {1: "equirectangular", 2: "cubemap", 3: "fisheye"}
_LARGEST_READ_BYTES = 16 * 1024 * 1024
_MOST_STEPS = 100_000


@dataclass(frozen=True, slots=True)
class Element:
    """One element: its identifier, where its body begins, and how long that is; None where that is not known."""

    id: int
    start: int
    size_bytes: int | None


@dataclass(frozen=True, slots=True)
class PictureTrackHead:
    """What a picture track says of a sphere, and of how it is to be shown."""

    sphere: SphereHead
    orientation: Orientation


def picture_heads(path: Path) -> list[PictureTrackHead]:
    """What the picture tracks of a Matroska file say, in order; nothing where no tracks are found."""
    with unseen_file(path) as file:
        data = _tracks(file)
    entries = (entry for entry in all_of(data, TRACK_ENTRY) if number_in(entry, TRACK_TYPE) == PICTURE_TRACK)
    return [PictureTrackHead(_sphere_head(entry), _orientation(entry)) for entry in entries]


def _tracks(file: BinaryIO) -> bytes:
    """The body of the first `Tracks` element; empty where there is none that can be reached."""
    end = os.fstat(file.fileno()).st_size
    place = 0
    for _ in range(_MOST_STEPS):
        file.seek(place)
        element = element_at(file.read(12), place)
        if element is None:
            return b""
        if element.id == SEGMENT:
            # Its children follow at once; how long it is may not be known while it is recorded.
            place = element.start
            continue
        if element.size_bytes is None or element.start + element.size_bytes > end:
            return b""
        if element.id == TRACKS:
            file.seek(element.start)
            return file.read(min(element.size_bytes, _LARGEST_READ_BYTES))
        place = element.start + element.size_bytes
    return b""


def element_at(data: bytes, place: int) -> Element | None:
    """The identifier and the size at the beginning of `data`, which lies at `place` in the file."""
    id_bytes = _length(data[:1])
    size_bytes = _length(data[id_bytes : id_bytes + 1])
    if not 1 <= id_bytes <= 4 or not size_bytes or len(data) < id_bytes + size_bytes:
        return None
    field = int.from_bytes(data[id_bytes : id_bytes + size_bytes], "big")
    size = field & ((1 << 7 * size_bytes) - 1)
    # All ones: not known.
    unknown = size == (1 << 7 * size_bytes) - 1
    return Element(int.from_bytes(data[:id_bytes], "big"), place + id_bytes + size_bytes, None if unknown else size)


def _length(first: bytes) -> int:
    """How many bytes a variable-size integer takes, by its first; 0 where that is none."""
    return 9 - first[0].bit_length() if first and first[0] else 0


def children(data: bytes) -> Iterator[tuple[int, bytes]]:
    """The identifiers and bodies of the elements in a body; the last one may be cut off."""
    place = 0
    while (element := element_at(data[place : place + 12], place)) is not None and element.size_bytes is not None:
        yield element.id, data[element.start : element.start + element.size_bytes]
        place = element.start + element.size_bytes


def all_of(data: bytes, wanted: int) -> Iterator[bytes]:
    """The bodies of all elements of one kind."""
    return (body for each, body in children(data) if each == wanted)


def number_in(data: bytes, wanted: int) -> int:
    """The whole number in the first element of a kind; nought where there is none."""
    return int.from_bytes(next(all_of(data, wanted), b"")[:8], "big")


def _float(data: bytes, wanted: int) -> float:
    """A number with a point [RFC8794, 7.3]; nought where it is of no length that there is."""
    body = next(all_of(data, wanted), b"")
    kind = {4: ">f", 8: ">d"}.get(len(body))
    return float(struct.unpack(kind, body)[0]) if kind else 0.0


def _orientation(entry: bytes) -> Orientation:
    projection = next(all_of(next(all_of(entry, VIDEO), b""), _PROJECTION), b"")
    if number_in(projection, _PROJECTION_TYPE):
        # A sphere is turned by its pose, not its pictures.
        return AS_RECORDED
    return Orientation.of_pose(_float(projection, _POSE_YAW), _float(projection, _POSE_ROLL))


def _sphere_head(entry: bytes) -> SphereHead:
    video = next(all_of(entry, VIDEO), b"")
    stereo = _STEREO.get(number_in(video, _STEREO_MODE), "mono")
    projection = next(all_of(video, _PROJECTION), None)
    kind = _PROJECTIONS.get(number_in(projection or b"", _PROJECTION_TYPE), "flat")
    if projection is None or kind == "flat":
        return SphereHead(stereo=stereo)
    private = next(all_of(projection, _PROJECTION_PRIVATE), b"")
    return SphereHead(kind, stereo, True, equirectangular_bounds(private) if kind == "equirectangular" else None)
