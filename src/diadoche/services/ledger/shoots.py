"""Shoots and their settings."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass
from datetime import UTC, date, datetime
from pathlib import Path

from sqlalchemy import select

from diadoche.core.convert.recipes import USUAL_RECIPE, Recipe
from diadoche.core.offload.naming import USUAL_NAMING, Naming
from diadoche.services.ledger.ledger import Ledger
from diadoche.services.ledger.models import ShootRow
from diadoche.services.wire import from_text, to_text

COPIES_WANTED = 2


@dataclass(frozen=True, slots=True)
class ShootSettings:
    """What a shoot decides once for all its cards."""

    places: tuple[Path, ...] = ()
    outputs: Path | None = None
    digests: tuple[str, ...] = ("xxh128",)
    copies_wanted: int = COPIES_WANTED
    profile: str = "general"
    recipe: str = USUAL_RECIPE
    container: str = "mov"
    naming: Naming = USUAL_NAMING
    person: str = ""
    unattended: bool = False
    read_twice: bool = False
    check_every_days: int = 0


@dataclass(frozen=True, slots=True)
class Shoot:
    """A shoot as the screens know it."""

    id: int
    name: str
    settings: ShootSettings


def proposed_name(today: date) -> str:
    """A name for a shoot that has none yet."""
    return f"Shoot of {today.day} {today:%B %Y}"


def open_shoot(ledger: Ledger, name: str, settings: ShootSettings | None = None) -> Shoot:
    """The shoot of that name; it is begun where it is new."""
    with ledger.session() as session:
        row = session.scalar(select(ShootRow).where(ShootRow.name == name))
        if row is None:
            row = ShootRow(name=name, created=datetime.now(UTC), settings=to_text(settings or ShootSettings()))
            session.add(row)
            session.flush()
        return _shoot(row)


def latest_shoot(ledger: Ledger) -> Shoot | None:
    """The shoot that was begun last."""
    with ledger.session() as session:
        row = session.scalar(select(ShootRow).order_by(ShootRow.created.desc(), ShootRow.id.desc()))
        return _shoot(row) if row else None


def all_shoots(ledger: Ledger) -> list[Shoot]:
    """Every shoot, the newest first."""
    with ledger.session() as session:
        rows = session.scalars(select(ShootRow).order_by(ShootRow.created.desc(), ShootRow.id.desc())).all()
        return [_shoot(row) for row in rows]


def change_shoot(
    ledger: Ledger, shoot: Shoot, *, name: str | None = None, settings: ShootSettings | None = None
) -> Shoot:
    """The shoot with another name or other settings."""
    with ledger.session() as session:
        row = session.get_one(ShootRow, shoot.id)
        if name is not None:
            row.name = name
        if settings is not None:
            row.settings = to_text(settings)
        return _shoot(row)


def recipe_or_usual(name: str, known: Mapping[str, Recipe]) -> Recipe:
    """The recipe of that name, or the usual one where it has gone."""
    return known.get(name) or known[USUAL_RECIPE]


def _shoot(row: ShootRow) -> Shoot:
    return Shoot(row.id, row.name, from_text(ShootSettings, row.settings))
