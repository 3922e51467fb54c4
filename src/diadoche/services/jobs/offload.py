"""From a card to proven copies and a waybill: the use case behind `offload`."""

from __future__ import annotations

from contextlib import suppress
from dataclasses import dataclass, field, replace
from datetime import UTC, date, datetime
from pathlib import Path

from diadoche.core.answering import NoAnswer, answered
from diadoche.core.cards.card import USUAL_LOOK, Card, LookChoice, chosen_files
from diadoche.core.cards.layout import load_layouts
from diadoche.core.diskfiles import write_whole
from diadoche.core.disks import Disk, disk_of
from diadoche.core.errors import DiadocheError, Problem, RequestError, writing
from diadoche.core.names import safe_name
from diadoche.core.offload.copies import CopyState
from diadoche.core.offload.engine import PATIENCE_S
from diadoche.core.offload.naming import USUAL_NAMING, Naming, NamingValues
from diadoche.core.offload.offload import OffloadResult, offload
from diadoche.core.offload.plan import OffloadPlan, PlanOptions, plan_offload
from diadoche.core.offload.waybill import WaybillPage, waybill_html, waybill_place
from diadoche.core.offload.waybill_files import waybill_csv, waybill_json
from diadoche.core.sizes import count_text
from diadoche.core.watch import Cancelled, Progress, Watch
from diadoche.services.jobs.job_kind import JobKind
from diadoche.services.jobs.list_card import list_card_at
from diadoche.services.side_processes.clip_trial import ClipTrials
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
    naming: Naming = USUAL_NAMING
    person: str = ""
    read_twice: bool = False
    try_copy: bool = True
    stills_left_out: bool = False
    # Which disk each place is on, where the one who asks knows better than the machine; and what else comes there.
    disks: tuple[Disk | None, ...] = ()
    coming_bytes: int = 0
    # What outputs may come to; they lie in the first place.
    outputs_bytes: int = 0
    # Clips that belong to another shoot: by name, with that shoot's number.
    sent: tuple[tuple[str, int], ...] = ()
    # The disk that each place was on when something was last kept there, by its key.
    last_disks: dict[str, str] = field(default_factory=dict)
    # What the person says that the card is.
    look: LookChoice = USUAL_LOOK
    # Whether a place that was too slow for the card to wait is filled before the job ends.
    fill_slow: bool = True
    # Of the card as it was listed when this was asked for; a job that goes on later makes sure of it.
    fingerprint: str = ""


@dataclass(frozen=True, slots=True)
class OffloadOutcome:
    """What an offload did, with the card as it was listed."""

    card: Card
    name: str
    fingerprint: str
    result: OffloadResult
    waybill: str
    tried: int | None = None
    remarks: tuple[Problem, ...] = ()
    advice: tuple[Problem, ...] = ()


def card_name(card: Card, given: str = "") -> str:
    """The person's own name for a card, or the name of its folder, or that of its kind."""
    folder = card.root.name
    return given or (folder if folder.upper() not in _NAMELESS else card.camera or "Card")


def plan_for(request: OffloadRequest, card: Card) -> OffloadPlan:
    """The plan of a request, fit to be shown before the start.

    Raises:
        RequestError: the request makes no sense for this card.
    """
    chosen, left_out = _chosen(request, card)
    day = card.first_day or _changed_day(card) or datetime.now(UTC).date()
    name = card_name(card, request.camera)
    first = card.clips[0] if card.clips else None
    taking = NamingValues(
        request.shoot,
        day,
        name,
        request.person,
        name,
        card.root.name,
        first.name if first else "",
        card.times[0] if card.times else None,
    )
    disks = dict(zip(request.places, request.disks, strict=False))
    return plan_offload(
        card.tree,
        taking,
        request.places,
        PlanOptions(
            request.digests,
            request.naming,
            chosen,
            left_out,
            request.read_twice,
            lambda place: disks.get(place) or disk_of(place),
            {
                place.expanduser().resolve(): request.coming_bytes + (0 if number else request.outputs_bytes)
                for number, place in enumerate(request.places)
            },
            {Path(place): disk for place, disk in request.last_disks.items()},
        ),
    )


def _chosen(request: OffloadRequest, card: Card) -> tuple[frozenset[str] | None, tuple[Problem, ...]]:
    """The files that were asked for, None for the whole card; and words for the waybill about what stays behind."""
    chosen = None
    if request.clips:
        chosen = chosen_files(card, load_layouts(request.own_layouts), request.clips)
    everything = frozenset(file.path for file in card.tree.files)
    left_out: tuple[Problem, ...] = ()
    if request.leave_out:
        chosen = (chosen if chosen is not None else everything) - request.leave_out
        left_out += (_left(len(request.leave_out), "file", "stood in a proven copy already"),)
    if request.stills_left_out and card.stills:
        chosen = (chosen if chosen is not None else everything) - frozenset(card.stills)
        left_out += (_left(len(card.stills), "still", "the person asked for that"),)
    return chosen, left_out


def _left(count: int, kind: str, why: str) -> Problem:
    return Problem(
        f"{count_text(count, kind)}: {why}.", "", "They are on the card as they were.", "Offload the whole card again."
    )


def _changed_day(card: Card) -> date | None:
    """The day of the oldest file, for cards whose recordings tell no date."""
    times = [file.changed_ns for file in card.tree.files]
    try:
        return datetime.fromtimestamp(min(times) / 1e9, UTC).date() if times else None
    except (OverflowError, ValueError, OSError):
        # A time that no calendar reaches.
        return None


def perform_offload(request: OffloadRequest, watch: Watch) -> OffloadOutcome:
    """Looks, plans, copies, proves, and writes the waybill.

    Raises:
        RequestError: the request makes no sense; nothing was started.
        TargetError: no destination can take anything; the card is unchanged.
        SourceError: the card cannot be listed.
    """
    card = list_card_at(request.source, request.own_layouts, watch, request.look)
    if request.fingerprint and request.fingerprint != card.tree.fingerprint():
        raise RequestError(
            f"What is at {request.source} is not the card that was listed there.",
            path=request.source,
            safe="Nothing was written, and nothing of it was copied.",
            do="Put the right card in, or offload this one by itself.",
        )
    plan = plan_for(request, card)
    name = card_name(card, request.camera)
    taken = frozenset(file.path for file in plan.files)
    tried = None
    with ClipTrials([clip for clip in card.clips if request.try_copy and taken.issuperset(clip.spans)]) as trials:
        result = offload(
            plan,
            watch,
            version=VERSION,
            now=lambda: datetime.now(UTC),
            patience_s=request.patience_s,
            pace_bytes_s=request.pace_bytes_s,
            fill_slow=request.fill_slow,
            arrived=trials.arrived,
        )
        card = _as_read(card, request, result, watch)
        root = trials.best_of([Path(copy.root) for copy in result.copies if copy.status is CopyState.PROVEN])
        if request.try_copy and root is not None:
            tried = trials.finish(root, Settled(watch))
    page = WaybillPage(
        request.shoot,
        name,
        card.title,
        card.clips,
        len(card.stills),
        [problem.what for problem in (*card.problems, *(tried.problems if tried else ()))]
        + (tried.remarks if tried else []),
        result,
        plan.digests,
        VERSION,
        card.tree.files,
        tried.thumbnails if tried else {},
        tried.clips if tried else None,
    )
    waybill = _write_waybills(page)
    clips_tried, remarks = (tried.clips, tuple(tried.problems)) if tried else (None, ())
    advice = (*plan.advice, *result.remarks)
    return OffloadOutcome(card, name, result.fingerprint, result, waybill, clips_tried, remarks, advice)


def _as_read(card: Card, request: OffloadRequest, result: OffloadResult, watch: Watch) -> Card:
    """The card as it was listed after its last reading: it may hold more by then than when it was listed first."""
    if result.tree is None or result.tree.fingerprint() == card.tree.fingerprint():
        return card
    with suppress(DiadocheError, OSError):
        card = list_card_at(request.source, request.own_layouts, Settled(watch), request.look)
    # Clips that have come since then are not those that were copied.
    return replace(card, tree=result.tree)


class Settled(Watch):
    """A watch for what comes after the last proof: its progress is told in words, and it is not stopped any more."""

    def __init__(self, watch: Watch) -> None:
        super().__init__(lambda progress: self._tell(watch, progress))

    @staticmethod
    def _tell(watch: Watch, progress: Progress) -> None:
        with suppress(Cancelled):
            watch.step(Progress(1, 1, progress.note))


def _write_waybills(page: WaybillPage) -> str:
    """Waybills beside every copy that got a manifest; gives the first page's path."""
    # Loaded only here: it takes a while, and most processes never print.
    from diadoche.core.offload.waybill_pdf import waybill_pdf

    pages = {
        ".html": waybill_html(page).encode("utf-8", "backslashreplace"),
        ".csv": waybill_csv(page),
        ".json": waybill_json(page),
        ".pdf": waybill_pdf(page),
    }
    written = []
    for copy in page.result.copies:
        if not copy.manifest:
            continue
        base = waybill_place(Path(copy.destination), safe_name(page.shoot, "Shoot"), Path(copy.root))
        # The copy and its manifest stand whatever becomes of the pages; the ledger keeps the same record.
        with suppress(DiadocheError, NoAnswer), writing(base):
            answered(lambda at=base: _write_pages(at, pages), "waybill")  # type: ignore[misc]  # bound now
            written.append(f"{base}.html")
    return written[0] if written else ""


def _write_pages(base: Path, pages: dict[str, bytes]) -> None:
    base.parent.mkdir(parents=True, exist_ok=True)
    for ending, data in pages.items():
        write_whole(base.with_name(base.name + ending), data)


KIND = JobKind(
    "offload",
    OffloadRequest,
    OffloadOutcome,
    perform_offload,
    rank=0,
    was_stopped=lambda outcome: outcome.result.stopped,
)
