"""The crossing board: cards on one side, places for copies on the other, ribbons between them."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from pathlib import Path

from diadoche.core.answering import HANGS_S
from diadoche.core.errors import RequestError
from diadoche.core.sizes import count_text
from diadoche.screens.card_groups import CardGroup, card_groups
from diadoche.screens.card_rows import CardRow, waits_for_word
from diadoche.screens.glance import GlanceScreen
from diadoche.screens.place_rows import PlaceRow, place_row
from diadoche.screens.remaining_time import RemainingTime
from diadoche.screens.ribbons import Ribbon, ribbon
from diadoche.screens.shoots import Shoots
from diadoche.screens.sources import Sources
from diadoche.screens.undo import Undo
from diadoche.screens.watch_line import WatchLine, watch_line
from diadoche.services.ledger.ledger import Ledger
from diadoche.services.ledger.waybills import WaybillEntry
from diadoche.services.station.card_in import Stage
from diadoche.services.station.station import Station

# More cards than this are counted where they are spoken of.
_MOST_NAMED = 3
NEVER = "Diadoche never changes, moves or erases anything on a card or among your originals."


class CardsScreen:
    """What the first view shows and allows."""

    def __init__(self, station: Station, ledger: Ledger, undo: Undo, waybills: Sequence[WaybillEntry]) -> None:
        """`waybills`: what the ledger knows of offloads now."""
        self._undo = undo
        self._station = station
        self.on_change: Callable[[], None] = lambda: None
        # Told before, and of every change by itself: the sentence on top may say something else.
        self.on_line: Callable[[], None] = lambda: None
        self._remaining = RemainingTime(station)
        self.sources = Sources(station, ledger)
        self.shoots = Shoots(station, ledger, undo)
        self._waybills = list(waybills)
        self.glance = GlanceScreen(station, ledger)
        self.let_out: Callable[[str], None] = lambda _key: None

    # -- what is shown -------------------------------------------------------------------------

    def take_waybills(self, entries: Sequence[WaybillEntry]) -> None:
        """What the ledger knows of offloads now."""
        self._waybills = list(entries)

    def groups(self) -> list[CardGroup]:
        """Cards as they stand together; those that need a person first."""
        return card_groups(self._station)

    def rows(self) -> list[CardRow]:
        """All cards, as they stand on the board."""
        return [row for group in self.groups() for row in group.rows]

    def places(self) -> list[PlaceRow]:
        """Destinations of the shoot."""
        coming = sum(
            card.card.tree.size_bytes
            for card in self._station.cards.values()
            if card.card and card.stage not in {Stage.PROVEN, Stage.PARTLY}
        )
        places = self._station.shoot.settings.places
        return [place_row(self._station, self._waybills, path, coming) for path in places]

    def ribbons(self) -> list[Ribbon]:
        """One for each card and place where something goes or has gone over."""
        return [
            ribbon(card, place, self._station.progress(key))
            for key, card in self._station.cards.items()
            for place in self._station.shoot.settings.places
        ]

    def watch_line(self, at_work: int) -> WatchLine:
        """The sentence on top."""
        cards = list(self._station.cards.values())
        silent_s = {key: self._station.silent_for_s(key) for key in self._station.cards}
        places, silent_place = len(self._station.shoot.settings.places), self._station.silent_place()
        return watch_line(cards, places, self._remaining.seconds(), at_work, silent_s, silent_place)

    def summary(self) -> str:
        """The words under the view's name."""
        cards = list(self._station.cards.values())
        reading = sum(card.stage.being_read for card in cards)
        if not cards:
            return "none in"
        return f"{len(cards)} in, {reading} being read" if reading else f"{len(cards)} in"

    @property
    def is_first_start(self) -> bool:
        """Whether nothing was ever set up: the first page is shown then."""
        return not self._station.shoot.settings.places and not self._waybills

    @property
    def can_offload_any(self) -> bool:
        """Whether the one button does something."""
        return bool(self._station.about_to_cross())

    def offload_hint(self) -> str:
        """Why the button can not be used, or what it will do."""
        if not self._station.shoot.settings.places:
            return "Add a place for copies first."
        waiting = [self._station.cards[key].name for key in self._station.about_to_cross()]
        if waiting:
            if len(waiting) > _MOST_NAMED:
                waiting = [f"{len(waiting)} cards"]
            places = count_text(len(self._station.shoot.settings.places), "place")
            return f"{', '.join(waiting)} to {places}, as part of {self._station.shoot.name}."
        cards = list(self._station.cards.values())
        silent = [card.name for card in cards if self._station.silent_for_s(card.medium.key) > HANGS_S]
        if silent:
            return f"{', '.join(silent)}: stop it, or wait for its reader."
        if any(card.stage.being_read for card in cards):
            wanting = [card.name for card in cards if card.stage in {Stage.PROBLEM, Stage.PARTLY}]
            return f"{', '.join(wanting)}: see above. The rest runs." if wanting else "Nothing to do for you: it runs."
        if cards and all(waits_for_word(card) for card in cards):
            return "All of this was proven before, by names, sizes and times. Read it to be sure, or take it again."
        if cards and all(card.stage is Stage.PROVEN for card in cards):
            return "All of this is proven. What its clips need next stands under Outputs (Ctrl+3)."
        return "Put a card in, or choose a folder."

    # -- what is done --------------------------------------------------------------------------

    def offload_all(self) -> None:
        """Starts everything that can be started, without a glance before."""
        self._station.offload_all()

    def offload_whole(self, key: str) -> None:
        """Takes a whole card, whatever of it was proven before."""
        self._station.offload_whole(key)

    def recognise(self, key: str) -> None:
        """Reads a card that was here before, to be sure of it."""
        self._station.recognise(key)

    def complete(self, key: str) -> None:
        """Completes what is not whole from a proven copy."""
        self._station.complete(key)

    def pause(self, key: str, *, paused: bool) -> None:
        """Lets a card's offload stand still, or go on."""
        self._station.pause(key, paused=paused)

    @property
    def unattended(self) -> bool:
        """Whether a card that goes in is offloaded with no click and no question."""
        return self._station.shoot.settings.unattended

    def set_unattended(self, wanted: bool) -> None:
        """Switches unattended on or off; what is in already is not started by that."""
        self._station.change_settings(unattended=wanted)

    def offload(self, key: str) -> None:
        """One card alone; one that is proven is taken again in full."""
        self._station.offload(key)

    def stop(self, key: str) -> None:
        """Stops a card's offload."""
        self._station.stop(key)

    def dismiss(self, key: str) -> None:
        """Takes a pulled card off the board."""
        self._station.dismiss(key)

    def add_place(self, path: Path) -> None:
        """Adds a destination.

        Raises:
            RequestError: it is there already.
        """
        settings = self._station.shoot.settings
        path = path.absolute()
        if path in settings.places:
            raise RequestError(f"{path} is a place for copies already.", path=path, do="Choose another folder.")
        self._change_places((*settings.places, path))

    def eject(self, key: str) -> None:
        """Lets a card out that is not being read; how that went is told later."""
        card = self._station.cards.get(key)
        if card is not None and not card.stage.being_read:
            self.let_out(key)

    def remove_place(self, path: Path) -> None:
        """Takes a destination off the shoot; what lies there stays. It can be taken back."""
        before = self._station.shoot.settings.places
        if path not in before:
            return
        number = before.index(path)

        def put_back() -> None:
            # Among those that are there by then: what was added meanwhile stays.
            now = self._station.shoot.settings.places
            if path not in now:
                self._change_places((*now[:number], path, *now[number:]))

        self._undo.note(f"{path.name or path} is a place for this shoot again", put_back)
        self._change_places(tuple(each for each in before if each != path))

    def _change_places(self, places: tuple[Path, ...]) -> None:
        self._station.change_settings(places=places)
