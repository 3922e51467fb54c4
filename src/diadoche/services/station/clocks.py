"""Whose clock must be wrong: every card that is in, judged against all cards of its shoot."""

from __future__ import annotations

from collections.abc import Mapping
from datetime import UTC, datetime

from diadoche.core.cards.card import Card
from diadoche.core.cards.clocks import Times, clock_remark
from diadoche.services.ledger.ledger import Ledger
from diadoche.services.ledger.times import recording_times
from diadoche.services.station.card_in import CardIn


class Clocks:
    """Remarks on clocks, judged when cards come and are kept, not whenever somebody looks."""

    def __init__(self, ledger: Ledger) -> None:
        self._ledger = ledger
        self._remarks: dict[str, str] = {}
        # Fingerprints of large cards take a while: each listing is taken once.
        self._marks: dict[str, tuple[Card, str]] = {}

    def judge(self, cards: Mapping[str, CardIn], shoot_id: int) -> None:
        """Judges all cards that are listed."""
        listed = {key: card.card for key, card in cards.items() if card.card is not None and not card.pulled}
        times: dict[str, Times] = recording_times(self._ledger, shoot_id)
        marks = {key: self._mark(key, card) for key, card in listed.items()}
        for key, card in listed.items():
            if card.times is not None:
                times[marks[key]] = card.times
        now = datetime.now(UTC)
        self._remarks = {
            key: clock_remark(card, now, [each for mark, each in times.items() if mark != marks[key]])
            for key, card in listed.items()
        }

    def _mark(self, key: str, card: Card) -> str:
        known = self._marks.get(key)
        if known is None or known[0] is not card:
            known = self._marks[key] = (card, card.tree.fingerprint())
        return known[1]

    def remark(self, key: str) -> str:
        """What is odd about a card's clock, or nothing."""
        return self._remarks.get(key, "")
