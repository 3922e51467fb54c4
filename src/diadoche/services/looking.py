"""What is on a card: the use case behind `look` and the crossing board."""

from __future__ import annotations

from dataclasses import dataclass
from pathlib import Path

from diadoche.core.cards.card import USUAL_LOOK, Card, LookChoice, look
from diadoche.core.cards.layout import load_layouts
from diadoche.core.watch import Watch
from diadoche.services.parsing import FactsMemory, Parser
from diadoche.services.queue.kinds import JobKind


@dataclass(frozen=True, slots=True)
class LookRequest:
    """Which card, and where the person's own layouts are."""

    path: Path
    own_layouts: Path | None = None
    choice: LookChoice = USUAL_LOOK
    facts_memory: Path | None = None


def perform_look(request: LookRequest, watch: Watch) -> Card:
    """Recognises and lists a card; see `diadoche.core.cards.card.look` for what it raises."""
    with Parser(FactsMemory(request.facts_memory) if request.facts_memory else None) as parser:
        return look(
            request.path,
            load_layouts(request.own_layouts),
            watch,
            lambda paths: parser.facts(paths, "headers", watch),
            request.choice,
        )


def look_at(path: Path, own_layouts: Path | None, watch: Watch, choice: LookChoice = USUAL_LOOK) -> Card:
    """The same for whoever has no request at hand."""
    return perform_look(LookRequest(path, own_layouts, choice), watch)


KIND = JobKind("look", LookRequest, Card, perform_look, rank=0)
