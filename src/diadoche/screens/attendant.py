"""What the desktop is told while nobody looks at the window: stay awake, a card is in, a card is done."""

from __future__ import annotations

from collections.abc import Callable

from diadoche.screens.results import done_words
from diadoche.services.station.card_in import FOLDER_READER, CardIn
from diadoche.services.station.station import Station


class Attendant:
    """Follows the station; every card is announced once, and its end once."""

    def __init__(self, station: Station, *, hold: Callable[[bool], None], show: Callable[[str, str], None]) -> None:
        """
        Args:
            station: whose cards are followed.
            hold: keeps the machine awake, or lets it sleep again.
            show: shows a short notice, a title and a text.
        """
        self._station = station
        self._hold = hold
        self._show = show
        self._announced: set[str] = set()
        self._told: dict[str, object] = {}
        station.listeners.append(self._look)

    def _look(self) -> None:
        cards = self._station.cards
        self._hold(any(card.stage.being_read for card in cards.values()))
        self._announced &= set(cards)
        for key in [key for key in self._told if key not in cards]:
            del self._told[key]
        for key, card in cards.items():
            if key not in self._announced:
                self._announced.add(key)
                if card.medium.reader != FOLDER_READER:
                    self._show(f"{card.name} is in", "It is being listed. Leave it in.")
            self._tell_end(key, card)

    def _tell_end(self, key: str, card: CardIn) -> None:
        news = card.outcome or card.problem
        if card.stage.being_read or news is None or self._told.get(key) is news:
            return
        self._told[key] = news
        if card.outcome is not None:
            self._show(*done_words(card))
        elif card.problem is not None:
            self._show(card.problem.what, f"{card.problem.safe} {card.problem.do}")
