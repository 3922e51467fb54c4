"""What is on a card: the use case behind `look` and the crossing board."""

from __future__ import annotations

from dataclasses import dataclass, field
from pathlib import Path

from diadoche.core.cards.card import USUAL_LOOK, Card, LookChoice, look
from diadoche.core.cards.layout import load_layouts
from diadoche.core.watch import Watch
from diadoche.services.ledger.ledger import Ledger
from diadoche.services.ledger.waybills import proven_files, waybills
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


@dataclass(frozen=True, slots=True)
class Familiar:
    """What of a card stands in proven copies already, by a quick recognition.

    `places` say where, `card` is the name it had then, and `disks` counts the different disks of its copies.
    """

    clips: int
    files: int
    paths: frozenset[str]
    digests: dict[str, dict[str, str]] = field(default_factory=dict)
    places: tuple[str, ...] = ()
    card: str = ""
    disks: int = 0


def familiar(ledger: Ledger, card: Card) -> Familiar:
    """How much of a card was here before."""
    found = proven_files(ledger, card.tree.files)
    holders = {file.waybill_id for file in found.values()}
    entries = [entry for entry in waybills(ledger) if entry.id in holders] if holders else []
    copies = [copy for entry in entries for copy in entry.copies if copy.proven]
    return Familiar(
        sum(all(span in found for span in clip.spans) for clip in card.clips),
        len(found),
        frozenset(found),
        {path: file.digests for path, file in found.items()},
        tuple(dict.fromkeys(copy.destination for copy in copies)),
        entries[0].card if entries else "",
        min((entry.proven_disks for entry in entries), default=0),
    )
