"""Heads of raw segments for which nothing open decodes the picture: size, rate and sound are measured all the same.

Source: from memory, the layout of the first atom as general-purpose media libraries read it: a length, the letters
RED1, two bytes of version, two unknown, the timescale, the number of the file, 32 bytes unknown, width, height, two
unknown, the rate as two 16-bit numbers, the count of sound channels. The first atom of a second kind, RED2, is known by
its letters alone.
"""

from __future__ import annotations

import struct
from dataclasses import dataclass
from fractions import Fraction
from pathlib import Path

from diadoche.core.diskfiles import unseen_file
from diadoche.core.errors import MediaError
from diadoche.core.names import shown

_HEAD = struct.Struct(">I4sBBHIIxxxxxxxxxxxxxxxxxxxxxxxxxxxxxxxxIIHHHB")
_ATOM = struct.Struct(">I4s")
_VIDEO, _SOUND = b"REDV", b"REDA"
_SOUND_HZ = 48_000
_MOST_FRAMES = 1 << 20


@dataclass(frozen=True, slots=True)
class RawHead:
    """What a segment's head says, and how many pictures it holds. Zero: it does not say."""

    kind: str
    width: int = 0
    height: int = 0
    rate: Fraction = Fraction(0)
    channels: int = 0
    frames: int = 0
    cut_off: bool = False


def is_raw_segment(head: bytes) -> bool:
    """Whether a file's first bytes are those of a raw segment."""
    return head[4:8] in {b"RED1", b"RED2"}


def read_raw_head(path: Path) -> RawHead:
    """Reads the head and walks over the atoms, without reading pictures.

    Raises:
        MediaError: the head is cut off.
        OSError: the file cannot be read.
    """
    with unseen_file(path) as file:
        head = file.read(_HEAD.size)
        if head[4:8] == b"RED2":
            return RawHead("RED2")
        if len(head) < _HEAD.size:
            raise MediaError(
                f"The raw segment {shown(path.name)} is cut off in its head.",
                path=path,
                safe="It is copied as it is.",
                do="Copy it again from the card if the card still has it whole.",
            )
        length, _, _, _, _, _, _, width, height, _, above, below, channels = _HEAD.unpack(head)
        end = file.seek(0, 2)
        place, frames = length, 0
        while place + _ATOM.size <= end and frames < _MOST_FRAMES:
            file.seek(place)
            size, kind = _ATOM.unpack(file.read(_ATOM.size))
            frames += kind == _VIDEO
            if size < _ATOM.size:
                break
            place += size
    rate = Fraction(above, below) if below else Fraction(0)
    return RawHead("RED1", width, height, rate, channels, frames, cut_off=place > end)
