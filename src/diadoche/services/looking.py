"""What is on a card: the use case behind `look` and the crossing board."""

from __future__ import annotations

from dataclasses import dataclass
from pathlib import Path

from diadoche.core.cards.card import Card, look
from diadoche.core.cards.layout import load_layouts
from diadoche.core.watch import Watch
from diadoche.services.ledger.ledger import Ledger
from diadoche.services.ledger.waybills import proven_paths
from diadoche.services.queue.kinds import JobKind


@dataclass(frozen=True, slots=True)
class LookRequest:
    """Which card, and where the person's own layouts are."""

    path: Path
    own_layouts: Path | None = None


def perform_look(request: LookRequest, watch: Watch) -> Card:
    """Recognises and lists a card; see `diadoche.core.cards.card.look` for what it raises."""
    return look(request.path, load_layouts(request.own_layouts), watch)


KIND = JobKind("look", LookRequest, Card, perform_look, rank=0)


@dataclass(frozen=True, slots=True)
class Familiar:
    """What of a card stands in proven copies already, by a quick recognition."""

    clips: int
    files: int
    paths: frozenset[str]


def familiar(ledger: Ledger, card: Card) -> Familiar:
    """How much of a card was here before."""
    paths = proven_paths(ledger, card.tree.files)
    return Familiar(sum(all(span in paths for span in clip.spans) for clip in card.clips), len(paths), paths)
