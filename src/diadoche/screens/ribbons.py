"""What goes from each card to each place."""

from __future__ import annotations

from dataclasses import dataclass
from pathlib import Path

from diadoche.core.watch import Progress
from diadoche.screens.marks import Mark
from diadoche.services.station.card_in import CardIn, Stage


@dataclass(frozen=True, slots=True)
class Ribbon:
    """What goes from a card to a place: shares of the card copied and read back, 0 to 1."""

    key: str
    place: Path
    copied: float
    proven: float
    mark: Mark
    weight_bytes: int


def ribbon(card: CardIn, place: Path, progress: Progress | None) -> Ribbon:
    """How far a card has come to a place."""
    size = card.card.tree.size_bytes if card.card else 0
    key = card.medium.key
    if card.outcome is not None and card.stage is not Stage.WAITING:
        copy = next((each for each in card.outcome.result.copies if each.destination == str(place)), None)
        proven = copy is not None and copy.status == "proven"
        mark = Mark.PROVEN if proven else Mark.PROBLEM
        share = 1.0 if proven else 0.0
        return Ribbon(key, place, share, share, mark, size)
    if progress is not None and card.stage is Stage.CROSSING:
        part = next((each for each in progress.parts if each.name == str(place)), None)
        if part is not None and part.total:
            mark = Mark.PROBLEM if part.state == "dropped" else Mark.UNDER_WAY
            return Ribbon(
                key, place, min(1.0, part.copied / part.total), min(1.0, part.proven / part.total), mark, size
            )
    return Ribbon(key, place, 0.0, 0.0, Mark.EXPECTED, size)
