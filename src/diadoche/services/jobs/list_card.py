"""What is on a card: the use case behind `look` and the crossing board."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from pathlib import Path

from diadoche.core.cards.card import USUAL_LOOK, Card, LookChoice, look
from diadoche.core.cards.layout import load_layouts
from diadoche.core.identify.facts import Facts
from diadoche.core.watch import Watch
from diadoche.services.jobs.job_kind import JobKind
from diadoche.services.side_processes.parser import FactsMemory, Parser
from diadoche.services.side_processes.side_by_side import side_by_side


@dataclass(frozen=True, slots=True)
class ListCardRequest:
    """Which card, and where the person's own layouts are."""

    path: Path
    own_layouts: Path | None = None
    choice: LookChoice = USUAL_LOOK
    facts_memory: Path | None = None


def perform_list_card(request: ListCardRequest, watch: Watch) -> Card:
    """Recognises and lists a card; see `diadoche.core.cards.card.look` for what it raises."""
    memory = FactsMemory(request.facts_memory) if request.facts_memory else None

    def heads(parser: Parser, paths: Sequence[Path]) -> Facts:
        return parser.facts(paths, "headers", watch)

    return look(
        request.path,
        load_layouts(request.own_layouts),
        watch,
        lambda clips: side_by_side(lambda: Parser(memory), heads, clips),
        request.choice,
    )


def list_card_at(path: Path, own_layouts: Path | None, watch: Watch, choice: LookChoice = USUAL_LOOK) -> Card:
    """The same for whoever has no request at hand."""
    return perform_list_card(ListCardRequest(path, own_layouts, choice), watch)


KIND = JobKind("look", ListCardRequest, Card, perform_list_card, rank=0)
