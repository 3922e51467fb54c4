"""What happened, in order, and what of it has not been read yet."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from datetime import UTC, datetime
from typing import Literal

from sqlalchemy import select, update

from diadoche.core.names import storable
from diadoche.services.ledger.ledger import Ledger
from diadoche.services.ledger.models import HappeningRow

HappeningKind = Literal["put in", "pulled", "begun", "proven", "problem", "check", "note"]
_MOST = 500


@dataclass(frozen=True, slots=True)
class Happening:
    """One line of what happened."""

    at: datetime
    kind: str
    words: str
    seen: bool
    # Its place in the order in which things were written down: a clock may be set back meanwhile.
    number: int


def note_happening(ledger: Ledger, kind: HappeningKind, words: str, at: datetime | None = None) -> None:
    """Writes down what happened, now or at a moment that has passed."""
    with ledger.session() as session:
        session.add(HappeningRow(at=at or datetime.now(UTC), kind=kind, words=storable(words), seen=False))


def note_soon(ledger: Ledger, kind: HappeningKind, words: str, noted: Callable[[], None]) -> None:
    """Has written down what happens now, as soon as the ledger takes it; nobody waits for that.

    Args:
        ledger: where it is written.
        kind, words: what happened.
        noted: called when it is written, on another thread.
    """
    at = datetime.now(UTC)

    def write() -> None:
        note_happening(ledger, kind, words, at)
        noted()

    ledger.writer.do(write)


def happenings(ledger: Ledger) -> list[Happening]:
    """The newest ones, the last first."""
    with ledger.session() as session:
        rows = session.scalars(select(HappeningRow).order_by(HappeningRow.id.desc()).limit(_MOST))
        return [Happening(row.at.replace(tzinfo=UTC), row.kind, row.words, row.seen, row.id) for row in rows]


def seen_until(ledger: Ledger, number: int) -> None:
    """The person has read what was written down up to a number."""
    with ledger.session() as session:
        session.execute(update(HappeningRow).where(HappeningRow.id <= number).values(seen=True))
