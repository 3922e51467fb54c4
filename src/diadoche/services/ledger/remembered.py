"""Choices that are remembered: names of cards, settings of cameras, sources that were used. The nearest wins.

A key says what a choice belongs to: `card:…` by what is on the card, `camera:…/shoot` for a camera in one
shoot, `camera:…` for a camera anywhere.
"""

from __future__ import annotations

from collections.abc import Sequence
from typing import TypeVar

from pydantic import ValidationError
from sqlalchemy import delete, select

from diadoche.core.names import storable
from diadoche.services.ledger.ledger import Ledger
from diadoche.services.ledger.models import RememberedRow
from diadoche.services.wire import from_text, to_text

T = TypeVar("T")


def remember(ledger: Ledger, scope: str, key: str, value: object) -> None:
    """Keeps a value under a key, in place of an earlier one."""
    key = storable(key)
    with ledger.session() as session:
        session.execute(delete(RememberedRow).where(RememberedRow.scope == scope, RememberedRow.key == key))
        session.add(RememberedRow(scope=scope, key=key, value=to_text(value)))


def forget(ledger: Ledger, scope: str, key: str) -> None:
    """Takes a value away again."""
    with ledger.session() as session:
        session.execute(delete(RememberedRow).where(RememberedRow.scope == scope, RememberedRow.key == storable(key)))


def recall(ledger: Ledger, scope: str, keys: Sequence[str], kind: type[T]) -> T | None:
    """The value of the first key that has one; what makes no sense is passed over."""
    return next(iter(recall_each(ledger, scope, keys, kind)), None)


def recall_each(ledger: Ledger, scope: str, keys: Sequence[str], kind: type[T]) -> list[T]:
    """The values of those keys that have one, in the order of the keys; what makes no sense is passed over."""
    keys = [storable(key) for key in keys]
    with ledger.session() as session:
        rows = session.scalars(
            select(RememberedRow).where(RememberedRow.scope == scope, RememberedRow.key.in_(keys))
        ).all()
        by_key = {row.key: row.value for row in rows}
    found = (_value(kind, by_key[key]) for key in keys if key in by_key)
    return [value for value in found if value is not None]


def recall_all(ledger: Ledger, scope: str, kind: type[T]) -> list[tuple[str, T]]:
    """Every key of a scope with its value, the newest first; what makes no sense is passed over."""
    with ledger.session() as session:
        rows = session.scalars(
            select(RememberedRow).where(RememberedRow.scope == scope).order_by(RememberedRow.id.desc())
        ).all()
        found = [(row.key, _value(kind, row.value)) for row in rows]
    return [(key, value) for key, value in found if value is not None]


def _value(kind: type[T], text: str) -> T | None:
    try:
        return from_text(kind, text)
    except (ValidationError, ValueError):
        return None
