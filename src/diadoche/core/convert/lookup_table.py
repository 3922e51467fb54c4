"""Look-up tables in the common .cube form: read before they are used, for a table with nonsense in it spoils a day.

The form is common practice, no source: `LUT_3D_SIZE n` or `LUT_1D_SIZE n`, optionally `TITLE`, `DOMAIN_MIN`,
`DOMAIN_MAX`, then three numbers a line, red running fastest.
"""

from __future__ import annotations

import math
from dataclasses import dataclass
from pathlib import Path

from diadoche.core.errors import RequestError

_LARGEST_BYTES = 64_000_000
_LARGEST_CUBE, _LARGEST_CURVE = 129, 65_536
# Far outside of what any table gives; a number like that is a mistake in writing.
_FARTHEST = 100.0


@dataclass(frozen=True, slots=True)
class LookUpTable:
    """A table that was found to be sound: how many entries along each side; `is_cube` or a curve for each channel."""

    path: Path
    size: int
    is_cube: bool


def read_table(path: Path) -> LookUpTable:
    """Reads a look-up table to its end.

    Raises:
        RequestError: it is none, or holds nonsense; the line is named.
    """
    try:
        if path.stat().st_size > _LARGEST_BYTES:
            raise _nonsense(path, "it is far too large for one")
        lines = path.read_text("utf-8", "replace").splitlines()
    except OSError as error:
        raise RequestError(f"{path.name} cannot be read: {error.strerror}.", path=path, do="Choose another.") from error
    size, is_cube, entries = 0, False, 0
    for number, line in enumerate(lines, start=1):
        words = line.split()
        if not words or words[0].startswith("#") or words[0] == "TITLE":
            continue
        if words[0] in {"LUT_3D_SIZE", "LUT_1D_SIZE"}:
            is_cube = words[0] == "LUT_3D_SIZE"
            size = _size(path, number, words, _LARGEST_CUBE if is_cube else _LARGEST_CURVE)
        elif words[0] in {"DOMAIN_MIN", "DOMAIN_MAX", "LUT_3D_INPUT_RANGE", "LUT_1D_INPUT_RANGE"}:
            _numbers(path, number, words[1:])
        elif size and len(_numbers(path, number, words)) == 3:
            entries += 1
        else:
            raise _nonsense(path, f"line {number} has no place in one")
    wanted = size**3 if is_cube else size
    if not size or entries != wanted:
        raise _nonsense(path, f"it holds {entries} of {wanted} entries" if size else "it tells no size")
    return LookUpTable(path, size, is_cube)


def unread_table(path: Path) -> LookUpTable:
    """One that is only named, for whoever tells what would be made: it may lie on a disk that does not answer."""
    return LookUpTable(path, 0, is_cube=True)


def _size(path: Path, number: int, words: list[str], largest: int) -> int:
    if len(words) != 2 or not words[1].isdigit() or not 2 <= int(words[1]) <= largest:
        raise _nonsense(path, f"line {number} tells no size from 2 to {largest}")
    return int(words[1])


def _numbers(path: Path, number: int, words: list[str]) -> list[float]:
    try:
        values = [float(word) for word in words]
    except ValueError as error:
        raise _nonsense(path, f"line {number} holds no numbers") from error
    if not all(math.isfinite(value) and abs(value) <= _FARTHEST for value in values):
        raise _nonsense(path, f"line {number} holds a number that no table gives")
    return values


def _nonsense(path: Path, why: str) -> RequestError:
    return RequestError(
        f"{path.name} is no look-up table: {why}.",
        path=path,
        safe="Nothing was written.",
        do="Choose another, or write it out again.",
    )
