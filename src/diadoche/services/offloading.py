"""From a card to proven copies and a waybill: the use case behind `offload`."""

from __future__ import annotations

from dataclasses import dataclass
from datetime import UTC, date, datetime
from pathlib import Path

from diadoche.core.cards.card import Card, chosen_files, look
from diadoche.core.cards.layout import load_layouts
from diadoche.core.diskfiles import write_whole
from diadoche.core.errors import DiadocheError, writing
from diadoche.core.names import safe_name
from diadoche.core.offload.engine import PATIENCE_S
from diadoche.core.offload.offload import OffloadResult, offload
from diadoche.core.offload.plan import OffloadPlan, Taking, plan_offload
from diadoche.core.offload.waybill import WaybillPage, waybill_html, waybill_place
from diadoche.core.watch import Watch
from diadoche.services.ledger.ledger import Ledger
from diadoche.services.ledger.waybills import record_offload
from diadoche.services.queue.kinds import JobKind
from diadoche.services.version import VERSION

_NAMELESS = {"", "PRIVATE", "AVCHD", "BDMV", "DCIM"}


@dataclass(frozen=True, slots=True)
class OffloadRequest:
    """What is offloaded, where to, and under which names. No `clips`: the whole card."""

    source: Path
    places: tuple[Path, ...]
    shoot_id: int
    shoot: str
    camera: str = ""
    digests: tuple[str, ...] = ()
    clips: tuple[str, ...] = ()
    leave_out: frozenset[str] = frozenset()
    own_layouts: Path | None = None
    patience_s: float = PATIENCE_S
    pace_bytes_s: int = 0


@dataclass(frozen=True, slots=True)
class OffloadOutcome:
    """What an offload did, with the card as it was listed."""

    card: Card
    name: str
    fingerprint: str
    result: OffloadResult
    waybill: str


def card_name(card: Card, given: str = "") -> str:
    """The person's own name for a card, or the name of its folder, or that of its kind."""
    folder = card.root.name
    return given or (folder if folder.upper() not in _NAMELESS else card.camera or "Card")


def plan_for(request: OffloadRequest, card: Card) -> OffloadPlan:
    """The plan of a request, fit to be shown before the start.

    Raises:
        RequestError: the request makes no sense for this card.
    """
    chosen = None
    if request.clips:
        chosen = chosen_files(card, load_layouts(request.own_layouts), request.clips)
    if request.leave_out:
        everything = frozenset(file.path for file in card.tree.files)
        chosen = (chosen if chosen is not None else everything) - request.leave_out
    day = card.first_day or _changed_day(card) or datetime.now(UTC).date()
    taking = Taking(request.shoot, day, card_name(card, request.camera))
    return plan_offload(card.tree, taking, request.places, digests=request.digests, chosen=chosen)


def _changed_day(card: Card) -> date | None:
    """The day of the oldest file, for cards whose recordings tell no date."""
    times = [file.changed_ns for file in card.tree.files]
    return datetime.fromtimestamp(min(times) / 1e9, UTC).date() if times else None


def perform_offload(request: OffloadRequest, watch: Watch) -> OffloadOutcome:
    """Looks, plans, copies, proves, and writes the waybill.

    Raises:
        RequestError: the request makes no sense; nothing was started.
        TargetError: no destination can take anything; the card is unchanged.
        SourceError: the card cannot be listed.
    """
    card = look(request.source, load_layouts(request.own_layouts), watch)
    plan = plan_for(request, card)
    name = card_name(card, request.camera)
    result = offload(
        plan,
        watch,
        version=VERSION,
        now=lambda: datetime.now(UTC),
        patience_s=request.patience_s,
        pace_bytes_s=request.pace_bytes_s,
    )
    return OffloadOutcome(card, name, plan.fingerprint, result, _write_waybills(request, card, name, plan, result))


def _write_waybills(request: OffloadRequest, card: Card, name: str, plan: OffloadPlan, result: OffloadResult) -> str:
    """A waybill beside every copy that got a manifest; gives the first one's path."""
    page = WaybillPage(
        request.shoot,
        name,
        card.title,
        card.clips,
        len(card.stills),
        [problem.what for problem in card.problems],
        result,
        plan.digests,
        VERSION,
    )
    html = waybill_html(page).encode("utf-8", "backslashreplace")
    written = []
    for copy in result.copies:
        if not copy.manifest:
            continue
        path = waybill_place(Path(copy.destination), Path(safe_name(request.shoot, "Shoot")), Path(copy.root))
        try:
            with writing(path):
                path.parent.mkdir(parents=True, exist_ok=True)
                write_whole(path, html)
        except DiadocheError:
            # The copy and its manifest stand; the ledger keeps the same record.
            continue
        written.append(str(path))
    return written[0] if written else ""


def record(ledger: Ledger, request: OffloadRequest, outcome: OffloadOutcome) -> int:
    """Writes a finished offload into the ledger."""
    return record_offload(
        ledger,
        request.shoot_id,
        outcome.name,
        outcome.card.layout,
        outcome.fingerprint,
        outcome.card.tree.files,
        outcome.card.clips,
        outcome.result,
        outcome.waybill,
    )


KIND = JobKind("offload", OffloadRequest, OffloadOutcome, perform_offload, rank=0)
