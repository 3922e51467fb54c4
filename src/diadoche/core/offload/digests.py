"""The digests that can be made, the quickest first. A new one is a line here.

A manifest carries those of MANIFEST_DIGESTS; SHA-256 goes into a plain list beside it.

Sources: [RFC1321] MD5; [FIPS180-4] SHA-1 and SHA-512; [XXHASH] the xxHash specification 0.8;
[ST2114] C4: SHA-512 in base 58, 90 characters.
"""

from __future__ import annotations

import hashlib
from collections.abc import Callable
from typing import Protocol

import xxhash
from typing_extensions import Buffer

from diadoche.core.errors import RequestError

_C4_ALPHABET = "123456789ABCDEFGHJKLMNPQRSTUVWXYZabcdefghijkmnopqrstuvwxyz"
_C4_LENGTH = 90


class Digest(Protocol):
    """Takes bytes in order and gives its text form."""

    def update(self, data: Buffer, /) -> None:
        """Takes the next bytes."""

    def hexdigest(self) -> str:
        """The digest as a manifest writes it."""


class C4:
    """SHA-512 written in base 58 [ST2114]."""

    def __init__(self, data: Buffer = b"") -> None:
        self._sha512 = hashlib.sha512(data)

    def update(self, data: Buffer, /) -> None:
        """Takes the next bytes."""
        self._sha512.update(data)

    def hexdigest(self) -> str:
        """ "c4" and 88 characters."""
        number, text = int.from_bytes(self._sha512.digest(), "big"), ""
        while number:
            number, place = divmod(number, 58)
            text = _C4_ALPHABET[place] + text
        return "c4" + text.rjust(_C4_LENGTH - 2, _C4_ALPHABET[0])


MANIFEST_DIGESTS: dict[str, Callable[[], Digest]] = {
    "xxh128": xxhash.xxh3_128,
    "xxh3": xxhash.xxh3_64,
    "xxh64": xxhash.xxh64,
    "md5": hashlib.md5,
    "sha1": hashlib.sha1,
    "c4": C4,
}
DIGESTS: dict[str, Callable[[], Digest]] = {**MANIFEST_DIGESTS, "sha256": hashlib.sha256}
DEFAULT_DIGEST = "xxh128"


def checked_digests(names: tuple[str, ...]) -> tuple[str, ...]:
    """The names without doubles, with the usual one where none was given that a manifest can carry.

    Raises:
        RequestError: an unknown name, or more than two at once.
    """
    chosen = tuple(dict.fromkeys(name.lower() for name in names))
    if all(name in DIGESTS and name not in MANIFEST_DIGESTS for name in chosen):
        chosen = (DEFAULT_DIGEST, *chosen)
    unknown = [name for name in chosen if name not in DIGESTS]
    if unknown:
        raise RequestError(f"There is no digest called {unknown[0]}.", do=f"Choose from {', '.join(DIGESTS)}.")
    if len(chosen) > 2:
        raise RequestError("At most two digests can be made at once.", do="Name one or two.")
    return chosen


def digest_bytes(text: str, name: str) -> bytes:
    """The raw bytes of a digest's text form."""
    if name != "c4":
        return bytes.fromhex(text)
    number = 0
    for character in text[2:]:
        number = number * 58 + _C4_ALPHABET.index(character)
    return number.to_bytes(64, "big")
