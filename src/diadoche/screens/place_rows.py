"""How a place for copies stands, in words: one row of the board."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from pathlib import Path

from diadoche.core.sizes import count_text, size_text
from diadoche.services.ledger.waybills import WaybillEntry
from diadoche.services.station.station import Station


@dataclass(frozen=True, slots=True)
class PlaceRow:
    """A destination as the board shows it."""

    path: Path
    name: str
    where: str
    free: str
    used_share: float
    coming_share: float
    kept: str
    there: bool


def place_row(station: Station, kept_waybills: Sequence[WaybillEntry], path: Path, coming_bytes: int) -> PlaceRow:
    """A destination in words.

    Args:
        station: what is known of disks.
        kept_waybills: those of all shoots.
        path: the destination.
        coming_bytes: what is to go there still.
    """
    here = [copy for waybill in kept_waybills for copy in waybill.copies if copy.destination == str(path)]
    proven = sum(copy.status == "proven" for copy in here)
    kept = f"kept here: {count_text(proven, 'card')}" if proven else "nothing kept here yet"
    room = station.room(path)
    if room is None or not room.here:
        silent = "does not answer" if station.is_silent(path) else "being looked at"
        words = silent if room is None else "not here now"
        return PlaceRow(path, path.name, str(path), words, 0, 0, kept, False)
    after = max(0, room.free - coming_bytes)
    free = f"{size_text(after)} free after this" if coming_bytes else f"{size_text(room.free)} free"
    return PlaceRow(
        path,
        path.name or str(path),
        str(path.parent),
        free,
        1 - room.free / max(1, room.total),
        coming_bytes / max(1, room.total),
        kept,
        True,
    )
