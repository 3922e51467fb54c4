"""Frozen values as JSON text and back: for worker processes and for the ledger.

File names that are no UTF-8 pass as lone surrogates in ASCII escapes.
"""

from __future__ import annotations

import json
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
