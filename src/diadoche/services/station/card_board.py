"""The cards that are in, and who wants to hear of them."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path

from diadoche.services.station.card_in import CardIn


class CardBoard:
    """All cards by their keys. Used on one thread; every change is told."""

    def __init__(self) -> None:
        self.cards: dict[str, CardIn] = {}
        self.listeners: list[Callable[[], None]] = []

    def put(self, card: CardIn) -> None:
        """A card as it is now."""
        self.cards[card.medium.key] = card
        self.tell()

    def remove(self, key: str) -> None:
        """A card that is not in any more."""
        del self.cards[key]
        self.tell()

    def at(self, path: Path) -> CardIn | None:
        """The card that is in at a place."""
        return next((card for card in self.cards.values() if card.medium.path == path and not card.pulled), None)

    def with_job(self, number: int) -> CardIn | None:
        """The card that a job is for."""
        return next((card for card in self.cards.values() if card.job == number), None)

    def tell(self) -> None:
        """Tells everybody that something changed."""
        for listener in list(self.listeners):
            listener()
