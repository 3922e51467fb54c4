"""Boxes of sound entries, put into files by hand [14496-12, 12.2.3]."""

from __future__ import annotations

import struct
from pathlib import Path

_PLAIN = (b"sowt", b"lpcm", b"in24")


def with_sound_box(path: Path, kind: str, payload: bytes) -> Path:
    """The same film whose plain sound has another box in its entry: it is put there by hand, boxes around grow.

    Args:
        path: a film in MOV whose movie box stands at its end.
        kind: of the box; one of this kind that was there becomes free space.
        payload: of the box.
    """
    raw = path.read_bytes()
    place = raw.rindex(b"moov") - 4
    movie = raw[place:].replace(kind.encode(), b"free")
    box = struct.pack(">I4s", 8 + len(payload), kind.encode()) + payload

    def grown(data: bytes) -> bytes:
        out, at = b"", 0
        while at < len(data):
            size, kind = struct.unpack(">I4s", data[at : at + 8])
            inner = data[at + 8 : at + size]
            if kind in {b"moov", b"mdia", b"minf", b"stbl"} or (kind == b"trak" and b"soun" in inner):
                inner = grown(inner)
            elif kind == b"stsd" and b"vide" not in inner and any(name in inner for name in _PLAIN):
                entry_size = struct.unpack(">I", inner[8:12])[0]
                entry = struct.pack(">I", entry_size + len(box)) + inner[12 : 8 + entry_size]
                inner = inner[:8] + entry + box + inner[8 + entry_size :]
            out += struct.pack(">I4s", 8 + len(inner), kind) + inner
            at += size
        return out

    found = path.with_name(f"with-{kind}.mov")
    found.write_bytes(raw[:place] + grown(movie))
    return found
