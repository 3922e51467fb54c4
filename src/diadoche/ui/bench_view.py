"""The simulated bench: three readers, and the cards that lie beside them."""

from __future__ import annotations

from pathlib import Path

from PyQt6.QtWidgets import QFrame, QHBoxLayout, QVBoxLayout

from diadoche.services.devices.bench import READERS, Bench
from diadoche.ui.parts import button, label


class BenchView(QFrame):
    """Put in, pull out."""

    def __init__(self, bench: Bench) -> None:
        super().__init__()
        self.setObjectName("panel")
        self._bench = bench
        self._row = QHBoxLayout(self)
        self._row.setContentsMargins(14, 8, 14, 8)
        self._row.setSpacing(10)
        self._shown: tuple[object, ...] = ()
        self.refresh()

    def refresh(self) -> None:
        """Shows what is in and what is not; built anew only when that changed."""
        outside = self._bench.cards_outside()
        inside = [self._bench.reader_of(number) for number in range(1, READERS + 1)]
        now = (tuple(outside), tuple(inside), self._bench.coming())
        if now == self._shown and self._row.count():
            return
        self._shown = now
        while (item := self._row.takeAt(0)) is not None:
            if (widget := item.widget()) is not None:
                widget.hide()
                widget.deleteLater()
        words = QFrame()
        column = QVBoxLayout(words)
        column.setContentsMargins(0, 0, 0, 0)
        column.setSpacing(0)
        column.addWidget(label("Bench", "strong"))
        column.addWidget(label("simulated readers", "small"))
        self._row.addWidget(words)
        for number, medium in enumerate(inside, start=1):
            if medium is None:
                self._row.addWidget(label(f"Reader {number}: empty", "soft"))
            else:
                self._row.addWidget(
                    button(
                        f"Pull out {medium.label}",
                        lambda number=number: self._pull(number),  # type: ignore[misc]  # bound now
                        tip=f"Reader {number}. It comes out at once, whatever is being done with it.",
                    )
                )
        self._row.addStretch(1)
        free = any(medium is None for medium in inside)
        for card in outside:
            put = button(f"Put in {card.name}", lambda card=card: self._put(card), tip="Into the first free reader")  # type: ignore[misc]  # bound now
            put.setEnabled(free)
            self._row.addWidget(put)
        if self._bench.coming():
            self._row.addWidget(label(self._bench.coming(), "soft"))
        elif not outside:
            self._row.addWidget(label("All cards are in.", "soft"))

    def _put(self, card: Path) -> None:
        self._bench.put_in(card)
        self.refresh()

    def _pull(self, number: int) -> None:
        self._bench.pull_out(number)
        self.refresh()
