"""Heads of TIFF and DNG pictures: size, depth, colour filter, date, rate and timecode.

Sources: [TIFF6] TIFF revision 6.0; [DNG] Digital Negative specification 1.6; [CDNG] CinemaDNG specification 1.1.0.0 for
the tags TimeCodes (51043) and FrameRate (51044).
"""

from __future__ import annotations

import os
import struct
from collections.abc import Iterator, Mapping
from dataclasses import dataclass
from datetime import UTC, datetime
from fractions import Fraction
from pathlib import Path

from diadoche.core.diskfiles import unseen_file
from diadoche.core.errors import MediaError
from diadoche.core.names import shown

_SIZES = {1: 1, 2: 1, 3: 2, 4: 4, 5: 8, 6: 1, 7: 1, 8: 2, 9: 4, 10: 8, 11: 4, 12: 8, 13: 4}
_FORMATS = {1: "B", 3: "H", 4: "I", 6: "b", 8: "h", 9: "i", 11: "f", 12: "d", 13: "I"}
_MOST_TAGS, _MOST_DIRECTORIES, _MOST_VALUES = 4096, 32, 1 << 20
_REDUCED, _CFA, _LINEAR_RAW = 1, 32803, 34892

Value = tuple[Fraction | int | float, ...] | bytes


@dataclass(frozen=True, slots=True)
class Directory:
    """One picture in the file: its tags, and the byte order of its samples ("<" or ">")."""

    tags: Mapping[int, Value]
    order: str

    def number(self, tag: int, otherwise: int = 0) -> int:
        """The first value of a tag as a whole number."""
        value = self.tags.get(tag)
        return int(value[0]) if value else otherwise

    def numbers(self, tag: int) -> tuple[Fraction, ...]:
        """All values of a tag, exactly."""
        value = self.tags.get(tag, ())
        return tuple(Fraction(each) for each in value)

    def text(self, tag: int) -> str:
        """The text of a tag."""
        value = self.tags.get(tag, b"")
        return value.split(b"\0")[0].decode("utf-8", "replace").strip() if isinstance(value, bytes) else ""

    @property
    def is_raw(self) -> bool:
        """Whether its samples are those of a sensor."""
        return self.number(262) in {_CFA, _LINEAR_RAW}


@dataclass(frozen=True, slots=True)
class TiffHead:
    """The picture that counts (the raw one where there is one), and what is written beside it."""

    main: Directory
    first: Directory

    @property
    def width(self) -> int:
        """Pixels across."""
        return self.main.number(256)

    @property
    def height(self) -> int:
        """Lines."""
        return self.main.number(257)

    @property
    def bit_depth(self) -> int:
        """Bits a sample."""
        return self.main.number(258, 1)

    @property
    def is_dng(self) -> bool:
        """Whether it says that it is a Digital Negative."""
        return 50706 in self.first.tags

    @property
    def camera(self) -> str:
        """Maker and model as written."""
        return self.first.text(50708) or " ".join(filter(None, (self.first.text(271), self.first.text(272))))

    @property
    def software(self) -> str:
        """The program that wrote it, if one says so."""
        return self.first.text(305)

    @property
    def start(self) -> datetime | None:
        """When it was taken, by the camera's clock; it names no zone."""
        for tag in (36867, 306):
            try:
                return datetime.strptime(self.first.text(tag), "%Y:%m:%d %H:%M:%S").replace(tzinfo=UTC)
            except ValueError:
                continue
        return None

    @property
    def frame_rate(self) -> Fraction | None:
        """Pictures a second [CDNG, FrameRate]."""
        rate = next(iter(self.first.numbers(51044) or self.main.numbers(51044)), Fraction(0))
        return rate if rate > 0 else None

    @property
    def timecode(self) -> str | None:
        """The label of this picture [CDNG, TimeCodes: SMPTE 331M binary groups]."""
        data = self.first.tags.get(51043) or self.main.tags.get(51043)
        packed = bytes(int(each) for each in data[:8]) if data else b""
        if len(packed) < 8:
            return None
        frames, seconds, minutes, hours = (
            (packed[place] >> 4 & mask) * 10 + (packed[place] & 15) for place, mask in enumerate((3, 7, 7, 3))
        )
        return f"{hours:02}:{minutes:02}:{seconds:02}{';' if packed[0] & 0x40 else ':'}{frames:02}"


def read_tiff(path: Path) -> TiffHead:
    """Reads the directories of a TIFF or DNG file.

    Raises:
        MediaError: it is none, or it is damaged.
        OSError: the file cannot be read.
    """
    with unseen_file(path) as file:
        size = os.fstat(file.fileno()).st_size
        try:
            directories = list(_Reader(file, size).directories())
        except (struct.error, ValueError, OverflowError) as error:
            raise _damaged(path) from error
    if not directories:
        raise _damaged(path)
    raw = [each for each in directories if each.is_raw and not each.number(254) & _REDUCED]
    largest = max(raw or directories, key=lambda each: each.number(256) * each.number(257))
    return TiffHead(largest, directories[0])


def _damaged(path: Path) -> MediaError:
    return MediaError(
        f"The picture {shown(path.name)} is damaged: its list of contents does not hold together.",
        path=path,
        safe="The file itself is untouched.",
        do="Look at it on the camera; if it shows there, copy the card again.",
    )


class _Reader:
    def __init__(self, file: object, size: int) -> None:
        self._file = file
        self._size = size
        head = self._bytes(0, 8)
        self._order = {b"II": "<", b"MM": ">"}.get(head[:2], "")
        if not self._order or struct.unpack(f"{self._order}H", head[2:4])[0] != 42:
            raise ValueError
        self._first = struct.unpack(f"{self._order}I", head[4:8])[0]

    def _bytes(self, place: int, count: int) -> bytes:
        if place < 0 or place + count > self._size:
            raise ValueError
        self._file.seek(place)  # type: ignore[attr-defined]  # a raw file
        data: bytes = self._file.read(count)  # type: ignore[attr-defined]  # a raw file
        if len(data) < count:
            raise ValueError
        return data

    def directories(self) -> Iterator[Directory]:
        waiting: list[int] = [self._first]
        seen: set[int] = set()
        while waiting and len(seen) < _MOST_DIRECTORIES:
            place = waiting.pop(0)
            if not place or place in seen:
                continue
            seen.add(place)
            tags, following = self._directory(place)
            yield Directory(tags, self._order)
            inner = tags.get(330, ())
            waiting += [int(each) for each in inner] + [following]
            if (exif := tags.get(34665)) and isinstance(exif, tuple):
                waiting.append(int(exif[0]))

    def _directory(self, place: int) -> tuple[dict[int, Value], int]:
        (count,) = struct.unpack(f"{self._order}H", self._bytes(place, 2))
        if count > _MOST_TAGS:
            raise ValueError
        table = self._bytes(place + 2, count * 12 + 4)
        tags = {}
        for number in range(count):
            tag, kind, length, data = struct.unpack_from(f"{self._order}HHI4s", table, number * 12)
            if kind in _SIZES and 0 < length <= _MOST_VALUES:
                tags[tag] = self._value(kind, length, data)
        return tags, struct.unpack_from(f"{self._order}I", table, count * 12)[0]

    def _value(self, kind: int, length: int, data: bytes) -> Value:
        size = _SIZES[kind] * length
        if size > 4:
            data = self._bytes(struct.unpack(f"{self._order}I", data)[0], size)
        data = data[:size]
        if kind in {2, 7}:
            return data
        if kind in {5, 10}:
            pairs = struct.unpack(f"{self._order}{2 * length}{'I' if kind == 5 else 'i'}", data)
            return tuple(
                Fraction(above, below) if below else Fraction(0)
                for above, below in zip(pairs[::2], pairs[1::2], strict=True)
            )
        return tuple(struct.unpack(f"{self._order}{length}{_FORMATS[kind]}", data))
