"""Frozen values as JSON text and back: for worker processes and for the ledger.

File names that are no UTF-8 pass as lone surrogates in ASCII escapes.
"""

from __future__ import annotations

import json
from hashlib import blake2b
from typing import Any, TypeVar, cast

from pydantic import TypeAdapter, ValidationError

T = TypeVar("T")


# Building an adapter takes milliseconds; there are a few dozen kinds in all.
_adapters: dict[Any, TypeAdapter[Any]] = {}


def _adapter(kind: Any) -> TypeAdapter[Any]:
    if kind not in _adapters:
        _adapters[kind] = TypeAdapter(kind)
    return _adapters[kind]


def to_text(value: object, kind: Any = None) -> str:
    """A frozen dataclass, or anything of a given type, as ASCII JSON."""
    plain = _adapter(kind or type(value)).dump_python(value, mode="python")
    return json.dumps(plain, ensure_ascii=True, default=_plain)


def _plain(value: object) -> object:
    return sorted(value) if isinstance(value, set | frozenset) else str(value)


def from_text(kind: type[T], text: str) -> T:
    """The value that `to_text` wrote.

    Raises:
        pydantic.ValidationError: the text is of another shape.
    """
    try:
        return cast(T, _adapter(kind).validate_json(text))
    except ValidationError:
        # Lone surrogates are no JSON to the quick reader.
        return cast(T, _adapter(kind).validate_python(json.loads(text)))


class ValuesByText:
    """Frozen values by the texts that they were read from: what is read again and again is parsed once.

    The same text gives the very same value, so that who knows it sees at once that nothing changed. Any thread may ask.
    """

    def __init__(self, most: int) -> None:
        """`most` values are kept; when there are more, none is, and all are parsed once more."""
        self._most = most
        # By the digest of a text: the texts of ten thousand clips take more room than their values.
        self._values: dict[tuple[Any, bytes], Any] = {}

    def value(self, kind: type[T], text: str) -> T:
        """What `from_text` gives.

        Raises:
            pydantic.ValidationError: the text is of another shape.
        """
        key = kind, blake2b(text.encode("utf-8", "surrogatepass"), digest_size=16).digest()
        found = self._values.get(key)
        if found is None:
            if len(self._values) >= self._most:
                self._values.clear()
            found = self._values[key] = from_text(kind, text)
        return cast(T, found)
