"""Films with two sample entries in one track, the second for its second half, built box by box [ISO14496-12, 8.5.2, 8.7.4]."""

from __future__ import annotations

import struct
from collections.abc import Sequence
from pathlib import Path

from diadoche.core.boxes import find, inner_boxes, movie_payload
from diadoche.core.sampletable import sample_places


def box(kind: str, payload: bytes) -> bytes:
    return struct.pack(">I4s", len(payload) + 8, kind.encode()) + payload


def joined(first: Path, second: Path, path: Path) -> Path:
    """The pictures of two films in one track, each with the entry of its own; both without pictures between others."""
    movies = [movie_payload(each) or b"" for each in (first, second)]
    tracks = [next(find(movie, "trak")) for movie in movies]
    tables = [next(find(track, "mdia", "minf", "stbl")) for track in tracks]
    samples: list[bytes] = []
    counts = []
    for each, track in zip((first, second), tracks, strict=True):
        places = sample_places(track)
        assert places is not None
        data = each.read_bytes()
        samples += [
            data[at : at + size] for at, size in zip(places.offsets.tolist(), places.sizes.tolist(), strict=True)
        ]
        counts.append(len(places.sizes))
    head = box("ftyp", b"qt  \0\0\2\0qt  ")
    sizes = [len(sample) for sample in samples]
    offsets = (len(head) + 8, len(head) + 8 + sum(sizes[: counts[0]]))
    table = b"".join(
        (
            box("stsd", struct.pack(">II", 0, 2) + b"".join(_rows(each, "stsd") for each in tables)),
            box("stts", struct.pack(">II", 0, 2) + b"".join(_rows(each, "stts") for each in tables)),
            box("stss", struct.pack(f">II{len(keys)}I", 0, len(keys), *keys))
            if (keys := _keys(tables, counts))
            else b"",
            # One chunk of each, in its own entry.
            box("stsc", struct.pack(">8I", 0, 2, 1, counts[0], 1, 2, counts[1], 2)),
            box("stsz", struct.pack(f">III{len(sizes)}I", 0, 0, len(sizes), *sizes)),
            box("co64", struct.pack(">IIQQ", 0, 2, *offsets)),
        )
    )
    track = _replaced(tracks[0], ("mdia", "minf", "stbl"), table)
    track = _replaced(track, ("mdia", "mdhd"), _twice_as_long(next(find(track, "mdia", "mdhd")), 16))
    track = _replaced(track, ("tkhd",), _twice_as_long(next(find(track, "tkhd")), 20))
    movie = box("mvhd", _twice_as_long(next(find(movies[0], "mvhd")), 16)) + box("trak", track)
    path.write_bytes(head + box("mdat", b"".join(samples)) + box("moov", movie))
    return path


def _rows(table: bytes, kind: str) -> bytes:
    return next(find(table, kind))[8:]


def _keys(tables: Sequence[bytes], counts: Sequence[int]) -> list[int]:
    found: list[int] = []
    for number, table in enumerate(tables):
        for rows in find(table, "stss"):
            found += [key + number * counts[0] for key in struct.unpack(f">{len(rows[8:]) // 4}I", rows[8:])]
    return found


def _twice_as_long(head: bytes, place: int) -> bytes:
    return head[:place] + struct.pack(">I", 2 * struct.unpack_from(">I", head, place)[0]) + head[place + 4 :]


def _replaced(payload: bytes, path: tuple[str, ...], new: bytes) -> bytes:
    out = b""
    for kind, inner in inner_boxes(payload):
        if kind == "edts":
            continue
        if kind == path[0]:
            inner = new if len(path) == 1 else _replaced(inner, path[1:], new)
        out += box(kind, inner)
    return out
