"""A card that is in a reader, and what is known and decided about it; values only."""

from __future__ import annotations

from dataclasses import dataclass, replace
from enum import Enum

from diadoche.core.cards.card import USUAL_LOOK, Card, LookChoice
from diadoche.core.errors import Problem
from diadoche.services.devices.disk_watch import Medium
from diadoche.services.jobs.offload import OffloadOutcome, card_name
from diadoche.services.ledger.known_copies import Familiar

# What any disk may look like.
NO_CARDS = frozenset({"", "loose"})
# What stands in for the reader's name where a folder was chosen.
FOLDER_READER = "a folder"


class Stage(Enum):
    """Where a card stands."""

    LISTING = "listing"
    LISTED = "listed"
    PICTURING = "picturing"
    WAITING = "waiting"
    CROSSING = "crossing"
    COMPARING = "comparing"
    PROVEN = "proven"
    PARTLY = "partly"
    PROBLEM = "problem"

    @property
    def being_read(self) -> bool:
        """Whether the card must stay in."""
        return self in _BEING_READ


# A tuple: eight cards ask a thousand times a second, and to look a stage up in a set calls Python for its hash.
_BEING_READ = (Stage.LISTING, Stage.PICTURING, Stage.WAITING, Stage.CROSSING, Stage.COMPARING)


@dataclass(frozen=True, slots=True)
class CardChoices:
    """What the person decided for one card, where it is not the shoot's usual way."""

    new_only: bool = False
    stills_left_out: bool = False
    sent: tuple[tuple[str, int], ...] = ()
    look: LookChoice = USUAL_LOOK


NO_CHOICES = CardChoices()


@dataclass(frozen=True, slots=True)
class CameraSettings:
    """What is remembered for a card or a camera; empty parts say nothing."""

    name: str = ""
    folders: str = ""
    # The person said that this medium is a card.
    is_card: bool = False


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
    given_name: str = ""
    recognised: bool = False
    choices: CardChoices = NO_CHOICES
    # The first picture of each clip, a JPEG in base64; None before anybody asked for them.
    pictures: dict[str, str] | None = None
    outputs_bytes: int = 0

    @property
    def name(self) -> str:
        """The card's name for people."""
        return self.given_name or (card_name(self.card) if self.card is not None else self.medium.label)

    @property
    def proven(self) -> int:
        """How many copies of it are proven now."""
        if self.recognised and self.familiar is not None:
            return len(self.familiar.places)
        return self.outcome.result.proven_copies if self.outcome is not None else 0

    @property
    def disks(self) -> int:
        """On how many different disks those are."""
        if self.recognised and self.familiar is not None:
            return self.familiar.disks
        return self.outcome.result.proven_disks if self.outcome is not None else 0

    @property
    def is_proven_whole(self) -> bool:
        """Whether every byte that is on it now was read and found in its proven copies."""
        return self.recognised or bool(self.outcome and self.outcome.result.whole)

    @property
    def is_known(self) -> bool:
        """Whether, by a quick recognition, all of it was proven before."""
        found, tree = self.familiar, self.card.tree if self.card is not None else None
        # Of a folder that could not be listed nobody knows whether it was here before.
        if found is None or tree is None or not tree.files or tree.unlisted:
            return False
        return found.files == len(tree.files)

    @property
    def is_partly_known(self) -> bool:
        """Whether some of it was proven before, and some is new."""
        return bool(self.familiar and self.familiar.files) and not self.is_known


def other_content(card: CardIn, count: int) -> Problem:
    """The problem of a card whose files only look like proven ones."""
    return Problem(
        f"{count:,} of its files have the names, sizes and times of proven ones, but another content.",
        str(card.medium.path),
        "The earlier copies are what they were; the card was only read.",
        "Offload the whole card.",
    )


def can_dismiss(card: CardIn) -> bool:
    """Whether a card may be taken off the board by hand; one in a reader leaves it by being pulled."""
    return card.pulled or (card.medium.reader == FOLDER_READER and not card.stage.being_read)


def can_recognise(card: CardIn) -> bool:
    """Whether reading a card in full tells more than is known of it."""
    partly = card.stage is Stage.PROVEN and not card.is_proven_whole
    return card.is_known and not card.pulled and (card.stage is Stage.LISTED or partly)


def is_surely_card(card: CardIn) -> bool:
    """Whether a medium has the layout of a card, or the person said that it is one."""
    return card.card is not None and (card.card.layout not in NO_CARDS or bool(card.choices.look.layout))


def after_offload(card: CardIn, outcome: OffloadOutcome, problem: Problem | None = None) -> CardIn:
    """The card as it stands after an offload has ended; `problem` is one of writing that down."""
    result = outcome.result
    wanted = len(result.copies)
    if result.stopped:
        return replace(card, stage=Stage.PARTLY, outcome=outcome, problem=stopped(card), job=0)
    if result.proven_copies == wanted and wanted:
        remark = next(iter((*result.problems, *outcome.remarks)), problem)
        return replace(card, stage=Stage.PROVEN, outcome=outcome, problem=remark, job=0)
    problem = result.problems[0] if result.problems else None
    stage = Stage.PARTLY if result.proven_copies else Stage.PROBLEM
    return replace(card, stage=stage, outcome=outcome, problem=problem, job=0)


def pulled(card: CardIn) -> Problem:
    """The problem of a card that was pulled out too early."""
    return Problem(
        f"{card.name} was pulled out while it was being read.",
        str(card.medium.path),
        "What had arrived whole is kept; the card itself was not changed.",
        "Put the same card back in and offload it again: it goes on where it stopped.",
    )


def stopped(card: CardIn) -> Problem:
    """The problem of an offload that the person stopped."""
    return Problem(
        f"The offload of {card.name} was stopped.",
        str(card.medium.path),
        "What had arrived whole is kept; the copy says that it is not whole.",
        "Offload it again: it goes on where it stopped.",
    )
