"""Writes the shape of pixels into a finished Matroska file, whose muxer takes none from here.

The head grows by a few bytes. It takes them from the empty element that the muxer leaves behind its list of contents:
nothing behind the head moves. Sources: [RFC8794] EBML, 11.3.1 (CRC-32) and 11.3.2 (Void); [RFC9559] Matroska,
5.1.1 (SeekHead, positions from the beginning of the segment's body) and 5.1.4.1.28.12 to 15 (display size and unit).
"""

from __future__ import annotations

import zlib
from collections.abc import Iterator, Sequence
from fractions import Fraction
from pathlib import Path

from diadoche.core.ebml import (
    PICTURE_TRACK,
    SEGMENT,
    TRACK_ENTRY,
    TRACK_TYPE,
    TRACKS,
    VIDEO,
    Element,
    children,
    element_at,
    number_in,
)

_SEEK_HEAD, _SEEK, _SEEK_ID, _SEEK_POSITION = 0x114D9B74, 0x4DBB, 0x53AB, 0x53AC
_INFO, _VOID, _CRC = 0x1549A966, 0xEC, 0xBF
_WIDTH, _HEIGHT = 0xB0, 0xBA
_DISPLAY_WIDTH, _DISPLAY_HEIGHT, _DISPLAY_UNIT = 0x54B0, 0x54BA, 0x54B2
# Width and height of what is shown are in pixels, or no more than their ratio.
_RATIO = 3
_LARGEST_HEAD_BYTES = 1 << 20


def write_pixel_aspects(path: Path, aspects: Sequence[Fraction]) -> bool:
    """Writes how wide a pixel is for its height, for each picture track in order; a square one says nothing.

    Returns:
        Whether it could be; the file is as it was where not.

    Raises:
        OSError: it cannot be read or written.
    """
    if all(aspect == 1 for aspect in aspects):
        return True
    with path.open("r+b") as file:
        data = file.read(_LARGEST_HEAD_BYTES)
        segment = next((each for each in _elements(data, 0) if each.id == SEGMENT), None)
        if segment is None:
            return False
        head = _elements(data, segment.start)[:4]
        changed = _with_shapes(data, head, aspects)
        if changed is None:
            return False
        # The file is a temporary one, and is read again afterwards.
        file.seek(head[0].start)
        file.write(changed)
    return True


def _with_shapes(data: bytes, head: Sequence[Element], aspects: Sequence[Fraction]) -> bytes | None:
    """What stands from the list of contents to the end of the tracks, as long as before; None if there is no room."""
    # As the muxer lays them out; anything else is left alone.
    if [element.id for element in head] != [_SEEK_HEAD, _VOID, _INFO, TRACKS] or _end(head[-1]) > len(data):
        return None
    seeks, void, info, old_tracks = head
    tracks = _element(TRACKS, _with_aspects(_body(data, old_tracks), iter(aspects)))
    grown = len(tracks) - (_end(old_tracks) - _end(info))
    left = _end(void) - _end(seeks) - grown - len(_element(_VOID, b"", 8))
    if left < 0:
        return None
    contents = _moved(_body(data, seeks), grown)
    if len(contents) != seeks.size_bytes:
        return None
    return contents + _element(_VOID, bytes(left), 8) + data[_end(void) : _end(info)] + tracks


def _elements(data: bytes, place: int) -> list[Element]:
    """The elements from a place on, up to one whose length is not known, or that a segment is: its children follow."""
    found = []
    while (element := element_at(data[place : place + 12], place)) is not None:
        found.append(element)
        if element.size_bytes is None or element.id == SEGMENT:
            break
        place = _end(element)
    return found


def _end(element: Element) -> int:
    return element.start + (element.size_bytes or 0)


def _body(data: bytes, element: Element) -> bytes:
    return data[element.start : _end(element)]


def _element(kind: int, body: bytes, size_bytes: int = 0) -> bytes:
    """An element with the shortest size that holds it, or one of `size_bytes`."""
    size_bytes = size_bytes or next(count for count in range(1, 9) if len(body) < (1 << 7 * count) - 1)
    name = kind.to_bytes((kind.bit_length() + 7) // 8, "big")
    return name + (len(body) | 1 << 7 * size_bytes).to_bytes(size_bytes, "big") + body


def _number(kind: int, value: int) -> bytes:
    return _element(kind, value.to_bytes(max(1, (value.bit_length() + 7) // 8), "big"))


def _checked(body: bytes) -> bytes:
    """A body whose first element is the sum of the others, summed anew [RFC8794, 11.3.1]; another stays as it is."""
    first = next(children(body), None)
    if first is None or first[0] != _CRC:
        return body
    head = len(_element(_CRC, first[1]))
    return _element(_CRC, zlib.crc32(body[head:]).to_bytes(4, "little")) + body[head:]


def _with_aspects(tracks: bytes, aspects: Iterator[Fraction]) -> bytes:
    out = []
    for kind, body in children(tracks):
        if kind == TRACK_ENTRY and number_in(body, TRACK_TYPE) == PICTURE_TRACK:
            aspect = next(aspects, Fraction(1))
            body = b"".join(
                _element(each, _shaped(inner, aspect) if each == VIDEO else inner) for each, inner in children(body)
            )
        out.append(_element(kind, body))
    return _checked(b"".join(out))


def _shaped(video: bytes, aspect: Fraction) -> bytes:
    there = dict(children(video))
    if aspect == 1 or _DISPLAY_WIDTH in there or _DISPLAY_HEIGHT in there:
        return video
    # The muxer says that it knows no unit, where it knows no size.
    kept = b"".join(_element(kind, body) for kind, body in children(video) if kind != _DISPLAY_UNIT)
    width, height = number_in(video, _WIDTH), number_in(video, _HEIGHT)
    shown = width * aspect
    if shown.denominator == 1:
        return kept + _number(_DISPLAY_WIDTH, int(shown)) + _number(_DISPLAY_HEIGHT, height)
    ratio = Fraction(width) / height * aspect
    size = _number(_DISPLAY_WIDTH, ratio.numerator) + _number(_DISPLAY_HEIGHT, ratio.denominator)
    return kept + size + _number(_DISPLAY_UNIT, _RATIO)


def _moved(seeks: bytes, by: int) -> bytes:
    """The list of contents, where what stands before the pictures has moved towards the beginning."""
    out = []
    for kind, body in children(seeks):
        if kind == _SEEK:
            parts = dict(children(body))
            if int.from_bytes(parts.get(_SEEK_ID, b""), "big") in {_INFO, TRACKS} and _SEEK_POSITION in parts:
                old = parts[_SEEK_POSITION]
                new = (int.from_bytes(old, "big") - by).to_bytes(len(old), "big")
                body = b"".join(
                    _element(each, new if each == _SEEK_POSITION else inner) for each, inner in children(body)
                )
        out.append(_element(kind, body))
    return _checked(b"".join(out))
