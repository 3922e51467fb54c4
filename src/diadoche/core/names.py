"""File and folder names: made safe, made unique, and shown when they cannot be."""

from __future__ import annotations

import re
import unicodedata
from collections.abc import Callable

# Forbidden by exFAT and FAT32 [EXFAT, section 7.7.3]; a copy may be carried on to such a disk later.
# Half characters that stand for no byte are forbidden too: no filesystem could have given them.
_FORBIDDEN = re.compile('[\\x00-\\x1f"*/:<>?\\\\|\\ud800-\\udc7f\\udd00-\\udfff]')
LONGEST_NAME_BYTES = 255


def safe_name(text: str, otherwise: str = "unnamed") -> str:
    """A single name that every common filesystem takes: no separators, no leading or trailing dots."""
    cleaned = _FORBIDDEN.sub("-", unicodedata.normalize("NFC", text)).strip(" .")
    while len(cleaned.encode("utf-8", "surrogateescape")) > LONGEST_NAME_BYTES:
        cleaned = cleaned[:-1]
    return cleaned or otherwise


def unique_name(name: str, taken: Callable[[str], bool]) -> str:
    """`name`, or "name (2).ext", "name (3).ext" …, whichever is the first not taken."""
    if not taken(name):
        return name
    stem, dot, ending = name.rpartition(".")
    if not stem:
        stem, dot, ending = name, "", ""
    number = 2
    while taken(f"{stem} ({number}){dot}{ending}"):
        number += 1
    return f"{stem} ({number}){dot}{ending}"


def is_inside(path: str) -> bool:
    """Whether a relative path, written by somebody else, stays in the folder that it is relative to."""
    parts = path.split("/")
    return "\0" not in path and all(part not in {"", ".", ".."} for part in parts)


def shown(name: str) -> str:
    """A name as it can be printed: bytes that are no UTF-8 and control characters are escaped."""
    return "".join(_escaped(character) for character in name)


def storable(text: str) -> str:
    """A text as any store of UTF-8 takes it: bytes that are none are escaped, all else stays."""
    return text.encode("utf-8", "backslashreplace").decode("utf-8")


def _escaped(character: str) -> str:
    if 0xDC80 <= ord(character) <= 0xDCFF:
        return f"\\x{ord(character) - 0xDC00:02x}"
    return character if character.isprintable() else character.encode("unicode_escape").decode()


def fits_xml(name: str) -> bool:
    """Whether XML 1.0 can hold the name: no control characters, no stray bytes [XML, production 2]."""
    return all(
        character in "\t\n\r"
        or 0x20 <= ord(character) <= 0xD7FF
        or 0xE000 <= ord(character) <= 0xFFFD
        or ord(character) >= 0x10000
        for character in name
    )
