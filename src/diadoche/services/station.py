"""The one owner of what is in the readers, and of what happens to it.

All methods are called on one thread. The truth that the watch line shows is changed here before the
work that makes it true is started, and changed back only after that work has ended.
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, replace
from enum import Enum
from pathlib import Path

from diadoche.core.cards.card import Card
from diadoche.core.errors import DiadocheError, Problem
from diadoche.core.watch import Progress
from diadoche.services.devices.disk_watch import Medium
from diadoche.services.identifying import ClipToIdentify, IdentifyRequest
from diadoche.services.ledger.ledger import Ledger
from diadoche.services.ledger.waybills import kept_clips
from diadoche.services.looking import Familiar, LookRequest, familiar
from diadoche.services.offloading import OffloadOutcome, OffloadRequest, card_name, plan_for
from diadoche.services.places import StatePlaces
from diadoche.services.queue.runner import Job, Runner
from diadoche.services.queue.states import State
from diadoche.services.shoots import Shoot

# What stands in for the reader's name where a folder was chosen.
FOLDER_READER = "a folder"


class Stage(Enum):
    """Where a card stands."""

    LISTING = "listing"
    LISTED = "listed"
    WAITING = "waiting"
    CROSSING = "crossing"
    PROVEN = "proven"
    PARTLY = "partly"
    PROBLEM = "problem"

    @property
    def being_read(self) -> bool:
        """Whether the card must stay in."""
        return self in {Stage.LISTING, Stage.WAITING, Stage.CROSSING}


@dataclass(frozen=True, slots=True)
class CardIn:
    """A card that is in a reader, or was pulled while something was owed to it."""

    medium: Medium
    stage: Stage
    card: Card | None = None
    familiar: Familiar | None = None
    job: int = 0
    outcome: OffloadOutcome | None = None
    problem: Problem | None = None
    pulled: bool = False

    @property
    def name(self) -> str:
        """The card's name for people."""
        return card_name(self.card) if self.card is not None else self.medium.label

    @property
    def proven(self) -> int:
        """How many copies of it are proven now."""
        return self.outcome.result.proven_copies if self.outcome is not None else 0


class Station:
    """Cards and what is done with them, for one shoot."""

    def __init__(self, ledger: Ledger, runner: Runner, places: StatePlaces, shoot: Shoot) -> None:
        self._ledger = ledger
        self._runner = runner
        self._places = places
        self.shoot = shoot
        self.cards: dict[str, CardIn] = {}
        self.listeners: list[Callable[[], None]] = []
        self._looked_at: set[int] = set()

    # -- media ---------------------------------------------------------------------------------

    def put_in(self, medium: Medium) -> None:
        """A card is there: it is listed at once, and is being read from this moment on."""
        self._set(CardIn(medium, Stage.LISTING))
        job = self._runner.add(
            "look", f"List {medium.label}", f"look:{medium.path}", LookRequest(medium.path, self._places.own_layouts)
        )
        # The job may have ended and been told already; then there is nothing to remember it by.
        current = self.cards[medium.key]
        if current.stage is Stage.LISTING:
            self._set(replace(current, job=job))

    def pulled_out(self, key: str) -> None:
        """A card is gone. One that was being read stays on show until that is settled."""
        card = self.cards.get(key)
        if card is None:
            return
        if card.stage.being_read:
            if card.job:
                self._runner.stop(card.job)
            self._set(replace(card, stage=Stage.PROBLEM, pulled=True, problem=_pulled(card)))
        else:
            del self.cards[key]
            self._tell()

    def dismiss(self, key: str) -> None:
        """Takes a card that is gone, or a folder that nothing reads any more, off the board."""
        card = self.cards.get(key)
        if card is not None and can_dismiss(card):
            del self.cards[key]
            self._tell()

    # -- what the person wants -----------------------------------------------------------------

    def can_offload(self, key: str) -> bool:
        """Whether a card can be offloaded now."""
        card = self.cards.get(key)
        return (
            card is not None
            and not card.pulled
            and card.card is not None
            and bool(card.card.tree.files)
            and not card.stage.being_read
            and bool(self.shoot.settings.places)
        )

    def request_for(self, key: str) -> OffloadRequest:
        """What an offload of this card would be asked to do."""
        card = self.cards[key]
        settings = self.shoot.settings
        return OffloadRequest(
            card.medium.path,
            settings.places,
            self.shoot.id,
            self.shoot.name,
            card.medium.label,
            settings.digests,
            own_layouts=self._places.own_layouts,
            pace_bytes_s=card.medium.pace_bytes_s,
        )

    def offload(self, key: str) -> None:
        """Starts the offload of a card; what makes no sense is shown on the card."""
        if not self.can_offload(key):
            return
        card = self.cards[key]
        request = self.request_for(key)
        try:
            assert card.card is not None
            plan = plan_for(request, card.card)
        except DiadocheError as error:
            self._set(replace(card, stage=Stage.PROBLEM, problem=error.problem))
            return
        if not plan.usable:
            self._set(replace(card, stage=Stage.PROBLEM, problem=plan.targets[0].problem))
            return
        self._set(replace(card, stage=Stage.WAITING, problem=None, outcome=None))
        job = self._runner.add("offload", f"Offload {card.name}", f"card:{card.medium.path}", request)
        current = self.cards[key]
        if current.stage.being_read:
            self._set(replace(current, job=job))

    def offload_all(self) -> None:
        """Starts every card that can be offloaded and is not proven."""
        for key, card in list(self.cards.items()):
            if card.stage is not Stage.PROVEN:
                self.offload(key)

    def stop(self, key: str) -> None:
        """Stops what is done with a card; what has arrived is kept."""
        card = self.cards.get(key)
        if card is not None and card.job:
            self._runner.stop(card.job)

    def change_shoot(self, shoot: Shoot) -> None:
        """Another shoot, or the same with other settings."""
        self.shoot = shoot
        self._tell()

    # -- what the queue tells ------------------------------------------------------------------

    def job_changed(self, job: Job) -> None:
        """A job of the queue changed; only those of cards matter here."""
        if job.kind == "look":
            self._look_changed(job)
        elif job.kind == "offload":
            self._offload_changed(job)

    def progress(self, key: str) -> Progress | None:
        """How far a card's job is."""
        card = self.cards.get(key)
        return self._runner.progress(card.job) if card is not None and card.job else None

    def _card_of(self, path: Path) -> CardIn | None:
        return next((card for card in self.cards.values() if card.medium.path == path and not card.pulled), None)

    def _look_changed(self, job: Job) -> None:
        card = self._card_of(job.request.path)
        if card is None or not job.state.ended:
            return
        if job.state is State.DONE:
            found: Card = job.result
            card = replace(card, card=found, familiar=familiar(self._ledger, found))
            # An offload that an earlier run left over may be at it already; then it goes on being read.
            listed = card.stage is Stage.LISTING
            self._set(replace(card, stage=Stage.LISTED, job=0) if listed else card)
        elif card.stage is Stage.LISTING:
            self._set(replace(card, stage=Stage.PROBLEM, problem=job.problem, job=0))

    def _offload_changed(self, job: Job) -> None:
        card = self._card_of(job.request.source)
        if job.state is State.DONE:
            self._identify_new(job)
        if card is None:
            return
        # News of an older job may come after its card was pulled and put in again: it is not this card's.
        if job.state is not State.RUNNING and job.number != card.job:
            return
        if job.state in {State.RUNNING, State.STOPPING}:
            self._set(replace(card, stage=Stage.CROSSING, job=job.number))
        elif job.state is State.DONE:
            self._set(_after(card, job.result))
        elif job.state.ended:
            self._set(replace(card, stage=Stage.PROBLEM, problem=job.problem or _stopped(card), job=0))

    def _identify_new(self, job: Job) -> None:
        """As soon as a copy is proven, its clips are looked at from there, not from the card."""
        new = [
            clip
            for clip in kept_clips(self._ledger, job.request.shoot_id)
            if clip.facts is None and clip.id not in self._looked_at
        ]
        if new:
            self._looked_at.update(clip.id for clip in new)
            clips = tuple(ClipToIdentify(clip.paths, clip.id) for clip in new)
            title = f"Look at {len(clips)} clips of {job.result.name}"
            self._runner.add("identify", title, "facts", IdentifyRequest(clips, self.shoot.settings.profile))

    def _set(self, card: CardIn) -> None:
        self.cards[card.medium.key] = card
        self._tell()

    def _tell(self) -> None:
        for listener in list(self.listeners):
            listener()


def can_dismiss(card: CardIn) -> bool:
    """Whether a card may be taken off the board by hand; one in a reader leaves it by being pulled."""
    return card.pulled or (card.medium.reader == FOLDER_READER and not card.stage.being_read)


def _after(card: CardIn, outcome: OffloadOutcome) -> CardIn:
    result = outcome.result
    wanted = len(result.copies)
    if result.stopped:
        return replace(card, stage=Stage.PARTLY, outcome=outcome, problem=_stopped(card), job=0)
    if result.proven_copies == wanted and wanted:
        remark = result.problems[0] if result.problems else None
        return replace(card, stage=Stage.PROVEN, outcome=outcome, problem=remark, job=0)
    problem = result.problems[0] if result.problems else None
    stage = Stage.PARTLY if result.proven_copies else Stage.PROBLEM
    return replace(card, stage=stage, outcome=outcome, problem=problem, job=0)


def _pulled(card: CardIn) -> Problem:
    return Problem(
        f"{card.name} was pulled out while it was being read.",
        str(card.medium.path),
        "What had arrived whole is kept; the card itself was not changed.",
        "Put the same card back in and offload it again: it goes on where it stopped.",
    )


def _stopped(card: CardIn) -> Problem:
    return Problem(
        f"The offload of {card.name} was stopped.",
        str(card.medium.path),
        "What had arrived whole is kept; the copy says that it is not whole.",
        "Offload it again: it goes on where it stopped.",
    )
