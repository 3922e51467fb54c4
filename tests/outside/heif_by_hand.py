"""A HEIF picture cut into tiles, put together by hand from single pictures [ISO 23008-12, 6.6.2.3; 14496-12, 8.11]."""

from __future__ import annotations

import io
import struct
from collections.abc import Sequence

import numpy as np
import pillow_heif

Colour = tuple[int, int, int]


def _box(kind: bytes, body: bytes) -> bytes:
    return struct.pack(">I4s", len(body) + 8, kind) + body


def _full(kind: bytes, body: bytes, version: int = 0, flags: int = 0) -> bytes:
    return _box(kind, struct.pack(">I", version << 24 | flags) + body)


def _tile(colour: Colour, side: int) -> tuple[bytes, bytes]:
    """The decoder's settings and the coded picture of one flat tile, out of a file that libheif's encoder wrote."""
    flat = np.full((side, side, 3), colour, np.uint8)
    out = io.BytesIO()
    pillow_heif.from_bytes("RGB", (side, side), flat.tobytes()).save(out, quality=100)
    data = out.getvalue()
    settings = data.index(b"hvcC") - 4
    picture = data.index(b"mdat") - 4
    ends = [at + struct.unpack_from(">I", data, at)[0] for at in (settings, picture)]
    return data[settings : ends[0]], data[picture + 8 : ends[1]]


def tiled_heif(colours: Sequence[Sequence[Colour]], side: int, width: int, height: int) -> bytes:
    """A grid of flat tiles, of which the picture shows the upper left `width` by `height` pixels."""
    rows, columns = len(colours), len(colours[0])
    tiles = [_tile(colour, side) for row in colours for colour in row]
    count, grid = len(tiles), len(tiles) + 1
    entries = [_full(b"infe", struct.pack(">HH4sB", number, 0, b"hvc1", 0), 2, 1) for number in range(1, grid)]
    entries.append(_full(b"infe", struct.pack(">HH4sB", grid, 0, b"grid", 0), 2))
    sizes = b"".join(_full(b"ispe", struct.pack(">II", *size)) for size in ((side, side), (width, height)))
    of_tile = b"".join(struct.pack(">HBBB", number, 2, 0x81, 2) for number in range(1, grid))
    places = _full(b"ipma", struct.pack(">I", grid) + of_tile + struct.pack(">HBB", grid, 1, 3))
    properties = _box(b"iprp", _box(b"ipco", tiles[0][0] + sizes) + places)
    refers = _full(b"iref", _box(b"dimg", struct.pack(f">HH{count}H", grid, count, *range(1, grid))))
    plan = struct.pack(">BBBBHH", 0, 0, rows - 1, columns - 1, width, height)
    head = _box(b"ftyp", b"heic" + bytes(4) + b"mif1heic")

    def meta(first: int) -> bytes:
        where, at = b"", first
        for number, (_, picture) in enumerate(tiles, start=1):
            where += struct.pack(">HHHHII", number, 0, 0, 1, at, len(picture))
            at += len(picture)
        where += struct.pack(">HHHHII", grid, 1, 0, 1, 0, len(plan))
        return _full(
            b"meta",
            _full(b"hdlr", struct.pack(">I4s12xB", 0, b"pict", 0))
            + _full(b"pitm", struct.pack(">H", grid))
            + _full(b"iinf", struct.pack(">H", grid) + b"".join(entries))
            + refers
            + properties
            + _full(b"iloc", struct.pack(">BBH", 0x44, 0, grid) + where, 1)
            + _box(b"idat", plan),
        )

    first = len(head) + len(meta(0)) + 8
    return head + meta(first) + _box(b"mdat", b"".join(picture for _, picture in tiles))
