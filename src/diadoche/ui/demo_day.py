"""The demo opens in the middle of a day: what happened in the morning is done by the window's own engine.

Nothing of it is prepared: cards are put in, copied, read back, looked at and made ready as a person would have it done.
Only the hands are the demo's; as soon as somebody does otherwise, they are withdrawn.
"""

from __future__ import annotations

import threading
from collections.abc import Callable, Iterator
from pathlib import Path

from PyQt6.QtCore import QTimer

from diadoche.demo.bench import READERS, Bench
from diadoche.demo.opening import DemoDay
from diadoche.screens.desk import Desk
from diadoche.services.station.card_in import CardIn, Stage

_LOOK_MS = 200
_ENOUGH_IN = 2

Steps = Iterator[Callable[[], bool]]


class DemoHands:
    """Puts cards in and presses the buttons, one step as soon as the one before has come about."""

    def __init__(self, day: DemoDay, bench: Bench, desk: Desk) -> None:
        self._day = day
        self._bench = bench
        self._desk = desk
        self._station = desk.station
        self._words = ""
        still_coming = bench.coming
        bench.coming = lambda: self._words or still_coming()
        self._steps = self._whole_day()
        self._awaited: Callable[[], bool] = lambda: True
        self._timer = QTimer()
        self._timer.timeout.connect(self._go_on)
        self._timer.start(_LOOK_MS)

    @property
    def is_done(self) -> bool:
        """Whether the day has come to its end."""
        return not self._timer.isActive()

    def close(self) -> None:
        """Nothing more is done; it may have come to its end by itself before."""
        self._words = ""
        if self._timer.isActive():
            self._timer.stop()
            self._timer.timeout.disconnect()

    def _go_on(self) -> None:
        while self._awaited():
            awaited = next(self._steps, None)
            if awaited is None:
                self.close()
                return
            self._awaited = awaited

    def _whole_day(self) -> Steps:
        if not self._desk.ledger.everything:
            yield from self._morning()
        self._words = ""
        known = {entry.card for entry in self._desk.ledger.everything}
        for name in [name for name in self._day.noon if name not in known][:_ENOUGH_IN]:
            yield from self._comes_in(name)

    def _morning(self) -> Steps:
        for name in self._day.morning:
            self._words = f"The morning of the shoot runs by itself: {name}."
            yield from self._comes_in(name)
            if (card := self._card(name)) is None:
                return
            self._station.offload(card.medium.key)
        for name in self._day.morning:
            yield lambda name=name: self._came_to(name, Stage.PROVEN, Stage.PARTLY)  # type: ignore[misc]  # bound now
        cards = [self._card(name) for name in self._day.morning]
        if any(card is None or card.stage is not Stage.PROVEN for card in cards):
            return
        self._words = "The morning of the shoot runs by itself: some clips are made ready."
        yield self._all_is_known
        if self._make_one_group():
            yield lambda: bool(self._desk.outputs.made()) and not self._desk.work.running()
        for name in self._day.morning:
            self._comes_out(name)

    def _comes_in(self, name: str) -> Steps:
        """Puts a card in as soon as it is drawn, and waits until it was listed."""
        yield lambda: self._drawn(name) is not None
        path = self._drawn(name)
        # A mount takes a moment to appear, and the window must not wait for it.
        threading.Thread(target=self._bench.put_in, args=(path,), daemon=True).start()
        yield lambda: self._card(name) is not None
        yield lambda: self._came_to(name, Stage.LISTED)

    def _comes_out(self, name: str) -> None:
        for number in range(1, READERS + 1):
            medium = self._bench.reader_of(number)
            if medium is not None and medium.label == name:
                threading.Thread(target=self._bench.pull_out, args=(number,), daemon=True).start()

    def _make_one_group(self) -> int:
        """Outputs of the first group there is, and how many; the others are left to be made."""
        outputs = self._desk.outputs
        routes = [row.route for row in outputs.groups() if row.to_make]
        for route in routes[1:]:
            outputs.include(route, False)
        count = outputs.make()
        for route in routes[1:]:
            outputs.include(route, True)
        return count

    def _all_is_known(self) -> bool:
        """Whether the clips of every card are there, and were looked at."""
        lines = self._desk.shelf.lines
        return set(self._day.morning) <= {line.clip.card for line in lines} and all(line.clip.facts for line in lines)

    def _drawn(self, name: str) -> Path | None:
        return next((path for path in self._bench.cards_outside() if path.name == name), None)

    def _card(self, name: str) -> CardIn | None:
        """The card, while it is in."""
        cards = self._station.cards.values()
        return next((card for card in cards if card.medium.label == name and not card.pulled), None)

    def _came_to(self, name: str, *stages: Stage) -> bool:
        """Whether it came so far, or comes no further: it was taken away, or has a problem."""
        card = self._card(name)
        return card is None or card.stage in {*stages, Stage.PROBLEM}
