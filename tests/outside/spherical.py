"""Spatial boxes put into an MP4 by hand, by the Spherical Video V1 and V2 documents; no product code."""

from __future__ import annotations

import struct

_V1_UUID = bytes.fromhex("ffcc8263f8554a938814587a02521fdd")


def _box(kind: bytes, body: bytes) -> bytes:
    return struct.pack(">I4s", len(body) + 8, kind) + body


def v1_uuid(stereo: str = "", crop: dict[str, int] | None = None) -> bytes:
    """The V1 metadata of a video track; `stereo` is top-bottom, left-right or nothing, `crop` the document's elements."""
    mode = f"<GSpherical:StereoMode>{stereo}</GSpherical:StereoMode>" if stereo else ""
    mode += "".join(f"<GSpherical:{name}>{value}</GSpherical:{name}>" for name, value in (crop or {}).items())
    text = (
        '<?xml version="1.0"?><rdf:SphericalVideo xmlns:rdf="http://www.w3.org/1999/02/22-rdf-syntax-ns#" '
        'xmlns:GSpherical="http://ns.google.com/videos/1.0/spherical/"><GSpherical:Spherical>true</GSpherical:Spherical>'
        "<GSpherical:Stitched>true</GSpherical:Stitched>"
        "<GSpherical:StitchingSoftware>a test</GSpherical:StitchingSoftware>"
        "<GSpherical:ProjectionType>equirectangular</GSpherical:ProjectionType>"
        f"{mode}</rdf:SphericalVideo>"
    )
    return _box(b"uuid", _V1_UUID + text.encode())


def v2_boxes(
    projection: bytes = b"equi", stereo: int | None = None, bounds: tuple[int, int, int, int] = (0, 0, 0, 0)
) -> bytes:
    """`st3d` and `sv3d` of V2; stereo 1 is top-bottom, 2 left-right; bounds in parts of 2^32: top, bottom, left, right."""
    head = _box(b"svhd", bytes(4) + b"a test\0")
    angles = _box(b"prhd", bytes(4) + struct.pack(">iii", 0, 0, 0))
    body = bytes(4) + struct.pack(">IIII", *bounds) if projection == b"equi" else bytes(4) + struct.pack(">II", 0, 0)
    sphere = _box(b"sv3d", head + _box(b"proj", angles + _box(projection, body)))
    return (_box(b"st3d", bytes(4) + bytes([stereo])) if stereo is not None else b"") + sphere


def _children(data: bytes, start: int, end: int) -> list[tuple[bytes, int, int]]:
    found, place = [], start
    while place + 8 <= end:
        size, kind = struct.unpack_from(">I4s", data, place)
        found.append((kind, place, size))
        place += size
    return found


def with_boxes(movie: bytes, *, in_track: bytes = b"", in_entry: bytes = b"") -> bytes:
    """An MP4 whose `moov` comes last, with boxes added to its first track and to that track's sample entry."""
    data = bytearray(movie)

    def descend(path: tuple[bytes, ...]) -> list[tuple[int, int]]:
        places, start, end, skip = [], 0, len(data), 0
        for kind in path:
            place, size = next(
                (at, size) for each, at, size in _children(bytes(data), start + skip, end) if each == kind
            )
            places.append((place, size))
            start, end, skip = place + 8, place + size, 8 if kind == b"stsd" else 0
        return places

    entry_path = (b"moov", b"trak", b"mdia", b"minf", b"stbl", b"stsd", b"avc1")
    for added, path in ((in_entry, entry_path), (in_track, entry_path[:2])):
        if added:
            places = descend(path)
            end = places[-1][0] + places[-1][1]
            data[end:end] = added
            for place, size in places:
                data[place : place + 4] = struct.pack(">I", size + len(added))
    return bytes(data)
