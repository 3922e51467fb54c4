"""The container of a file by its content, never by its ending.

Sources: [14496-12, 4.3] file type box; [13818-1, 2.4.3.2] sync byte 0x47 every 188 bytes, or every
192 with a time stamp in front (BDAV); [RFC8794] EBML; [ST377-1, 6.5] MXF partition key; [RIFF]; [TIFF6];
[ISO 23008-12] for brands of still pictures.
"""

from __future__ import annotations

from pathlib import Path

from diadoche.core.diskfiles import unseen_file
from diadoche.core.identify.rawreels import is_raw_segment

HEAD_BYTES = 4096
_SYNC = 0x47
_STILLS = {"JPEG", "PNG", "TIFF", "DNG", "HEIF", "BMP", "WebP", "OpenEXR", "DPX"}
# Containers that are a stream of packets: what a camera cut runs on from file to file.
TRANSPORT = {"M2TS", "MPEG-TS"}
_HEIF_BRANDS = {b"heic", b"heix", b"mif1", b"avif", b"heim", b"heis"}
_MAGIC = (
    (b"\xff\xd8\xff", "JPEG"),
    (b"\x89PNG", "PNG"),
    (b"II*\0", "TIFF"),
    (b"MM\0*", "TIFF"),
    (b"v/1\x01", "OpenEXR"),
    (b"SDPX", "DPX"),
    (b"XPDS", "DPX"),
    (b"\x00\x00\x01\xba", "MPEG-PS"),
)
# DNGVersion, a tag that every DNG has, as each byte order writes its number and kind [DNG].
_DNG_VERSION = {b"II": b"\x12\xc6\x01\x00\x04\x00\x00\x00", b"MM": b"\xc6\x12\x00\x01\x00\x00\x00\x04"}
# What may hold a recording.
RECORDINGS = {"MP4", "MOV", "Matroska", "WebM", "AVI", "MXF", "MPEG-PS", "MPEG-TS", "M2TS", "R3D"}
_MXF_KEY = bytes.fromhex("060e2b34020501010d010201")


def container_of(path: Path) -> str:
    """The container's published name, "text", "empty" or "unknown".

    Raises:
        OSError: the file cannot be read.
    """
    with unseen_file(path) as file:
        return container_of_head(file.read(HEAD_BYTES))


def container_of_head(head: bytes) -> str:
    """The same from the first bytes of a file."""
    if not head:
        return "empty"
    if head[4:8] == b"ftyp":
        return "HEIF" if head[8:12] in _HEIF_BRANDS else "MOV" if head[8:12] == b"qt  " else "MP4"
    if head[4:8] in {b"moov", b"mdat", b"wide", b"free", b"skip", b"pnot"}:
        return "MOV"
    if is_raw_segment(head):
        return "R3D"
    if head[:4] == b"\x1a\x45\xdf\xa3":
        return "WebM" if b"webm" in head[:64] else "Matroska"
    if head[:4] == b"RIFF":
        return {b"AVI ": "AVI", b"WAVE": "WAV", b"WEBP": "WebP"}.get(head[8:12], "RIFF")
    if _MXF_KEY in head:
        return "MXF"
    name = next((name for magic, name in _MAGIC if head.startswith(magic)), "")
    if name == "TIFF" and _DNG_VERSION[head[:2]] in head:
        return "DNG"
    if name or (head[:2] == b"BM" and head[6:10] == bytes(4)):
        return name or "BMP"
    return _transport(head) or _text(head) or "unknown"


def is_still(container: str) -> bool:
    """Whether it holds a single picture."""
    return container in _STILLS


def _transport(head: bytes) -> str:
    for step, first, name in ((188, 0, "MPEG-TS"), (192, 4, "M2TS")):
        for shift in range(step):
            places = range(first + shift, len(head), step)
            if len(places) >= 4 and all(head[place] == _SYNC for place in places):
                return name
            if shift == 0 and len(places) < 4 and places and all(head[place] == _SYNC for place in places):
                return name
    return ""


def _text(head: bytes) -> str:
    try:
        text = head.decode("utf-8")
    except UnicodeDecodeError as error:
        # The last character may be cut by the end of what was read.
        if error.start < len(head) - 4:
            return ""
        text = head[: error.start].decode("utf-8")
    if all(character.isprintable() or character in "\r\n\t\ufeff" for character in text):
        return "SubRip" if "-->" in text[:200] else "text"
    return ""
