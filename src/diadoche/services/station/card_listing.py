"""Cards that come, are listed, and go."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import replace

from diadoche.core.cards.card import USUAL_LOOK, Card, LookChoice
from diadoche.core.errors import LedgerError
from diadoche.core.names import shown
from diadoche.services.devices.disk_watch import Medium
from diadoche.services.jobs.list_card import ListCardRequest
from diadoche.services.ledger.happenings import HappeningKind
from diadoche.services.ledger.known_copies import Familiar
from diadoche.services.machine.state_places import StatePlaces
from diadoche.services.queue.runner import Job, Runner
from diadoche.services.queue.states import State
from diadoche.services.station.card_board import CardBoard
from diadoche.services.station.card_in import FOLDER_READER, CardIn, Stage, can_dismiss, pulled


class Listing:
    """Has every card listed that comes, and tells of those that are."""

    def __init__(
        self,
        board: CardBoard,
        runner: Runner,
        places: StatePlaces,
        listed: Callable[[str], None],
        note: Callable[[HappeningKind, str], None],
    ) -> None:
        """
        Args:
            board: where cards stand.
            runner, places: list them.
            listed: told the key of each card that has just been listed.
            note: told what happened.
        """
        self._board = board
        self._note = note
        self._runner = runner
        self._places = places
        self._listed = listed

    def put_in(self, medium: Medium) -> None:
        """A card is there: it is being read from this moment on."""
        self._board.put(CardIn(medium, Stage.LISTING))
        self._note("put in", f"{shown(medium.label)} was put in ({medium.reader}).")
        self._list(medium, USUAL_LOOK)

    def _list(self, medium: Medium, choice: LookChoice) -> None:
        request = ListCardRequest(medium.path, self._places.own_layouts, choice, self._places.facts_memory)
        try:
            job = self._runner.add("look", f"List {shown(medium.label)}", f"look:{medium.path}", request)
        except LedgerError as error:
            self._board.put(replace(self._board.cards[medium.key], stage=Stage.PROBLEM, problem=error.problem))
            return
        # The job may have ended and been told already; then there is nothing to remember it by.
        current = self._board.cards[medium.key]
        if current.stage is Stage.LISTING:
            self._board.put(replace(current, job=job))

    def correct(self, key: str, choice: LookChoice) -> None:
        """The person says what a card is, or how its stills are to be taken: it is listed anew."""
        card = self._board.cards.get(key)
        if card is None or card.pulled or card.stage.being_read:
            return
        choices = replace(card.choices, look=choice)
        self._board.put(replace(card, stage=Stage.LISTING, problem=None, choices=choices))
        self._list(card.medium, choice)

    def pulled_out(self, key: str) -> None:
        """A card is gone. One that was being read stays on show until that is settled."""
        card = self._board.cards.get(key)
        if card is None:
            return
        if card.stage.being_read:
            if card.job:
                self._runner.stop(card.job)
            self._board.put(replace(card, stage=Stage.PROBLEM, pulled=True, problem=pulled(card)))
            self._note("problem", pulled(card).what)
        else:
            self._board.remove(key)

    def dismiss(self, key: str) -> None:
        """Takes a card that is gone, or a folder that nothing reads any more, off the board."""
        card = self._board.cards.get(key)
        if card is not None and can_dismiss(card):
            self._board.remove(key)

    def job_changed(self, job: Job) -> None:
        """A job that lists a card changed."""
        card = self._board.at(job.request.path)
        if card is None or not job.state.ended:
            return
        if job.state is State.DONE:
            found: Card = job.result
            # What the ledger says to it was asked where nobody waits; without it nothing counts as known.
            card = replace(card, card=found, familiar=job.noted or Familiar(0, 0, frozenset()))
            # An offload that an earlier run left over may be at it already; then it goes on being read.
            listed = card.stage is Stage.LISTING
            self._board.put(replace(card, stage=Stage.LISTED, job=0) if listed else card)
            if listed:
                self._bring_sisters(card.medium, found)
                self._listed(card.medium.key)
        elif card.stage is Stage.LISTING:
            self._board.put(replace(card, stage=Stage.PROBLEM, problem=job.problem, job=0))

    def _bring_sisters(self, medium: Medium, card: Card) -> None:
        """The other cards of a rig come along where a folder was chosen; what is in a reader comes by itself."""
        if medium.reader != FOLDER_READER:
            return
        there = {each.medium.path for each in self._board.cards.values()}
        for sister in card.sisters:
            if sister not in there:
                self.put_in(Medium(str(sister), sister, sister.name, FOLDER_READER))
