"""The simulated bench: eight readers, the cards that lie beside them, and what can go wrong with each."""

from __future__ import annotations

import threading
from collections.abc import Callable, Iterator, Sequence
from functools import partial
from pathlib import Path

from PyQt6.QtWidgets import QFrame, QMenu, QPushButton, QVBoxLayout, QWidget

from diadoche.demo.bench import READERS, Bench
from diadoche.demo.faulty_folder import Faults
from diadoche.services.devices.disk_watch import Medium
from diadoche.ui.flow_layout import FlowLayout
from diadoche.ui.parts import button, label, menu_button

_MANY = 5
_FREE = "Into the first free reader"
_LETTERS = 9
_SLOW_BYTES_S = 300_000
_AT_BYTE = 100_000
_FAULTS: dict[str, Faults] = {
    "slow": Faults(slow_bytes_s=_SLOW_BYTES_S),
    "hanging": Faults(hangs=True),
    "read errors": Faults(read_error_at=_AT_BYTE),
    "a wrong bit": Faults(flip_read_at=_AT_BYTE),
}
_TITLES = {
    "slow": "Make it slow",
    "hanging": "Let it hang",
    "read errors": "Let reading fail at a byte",
    "a wrong bit": "Read one bit wrong, once",
}


class BenchView(QFrame):
    """Put in, pull out, let it fail."""

    def __init__(self, bench: Bench) -> None:
        super().__init__()
        self.setObjectName("panel")
        self._bench = bench
        self._faults: dict[str, str] = {}
        self._row = FlowLayout()
        self._row.setContentsMargins(14, 8, 14, 8)
        self.setLayout(self._row)
        self._shown: tuple[object, ...] = ()
        self._media: tuple[Medium, ...] = ()
        # Each by what it shows.
        self._parts: dict[object, QWidget] = {}
        self.refresh()

    def refresh(self) -> None:
        """Shows what is in and what is not; built anew only when that changed."""
        self._media, outside = self._bench.media(), self._bench.cards_outside()
        inside = [(number, self._bench.reader_of(number)) for number in range(1, READERS + 1)]
        taken = [(number, medium) for number, medium in inside if medium is not None]
        now = (tuple(outside), tuple(taken), self._bench.coming(), tuple(self._faults.items()))
        if now == self._shown and self._row.count():
            return
        self._shown = now
        self._show([*self._readers(taken), *self._beside(outside, taken)])

    def _show(self, parts: Sequence[tuple[object, Callable[[], QWidget]]]) -> None:
        """Shows parts, each with what it shows and how it is made; one that shows the same is not made anew."""
        wanted = {key for key, _make in parts}
        for key in self._parts.keys() - wanted:
            self._parts.pop(key).deleteLater()
        while self._row.count():
            self._row.takeAt(0)
        for key, make in parts:
            if key not in self._parts:
                self._parts[key] = make()
            self._row.addWidget(self._parts[key])

    def _readers(self, taken: Sequence[tuple[int, Medium]]) -> Iterator[tuple[object, Callable[[], QWidget]]]:
        yield "words", self._words
        short = len(taken) > _MANY
        for number, medium in taken:
            fault = self._faults.get(medium.key, "")
            words = f"{medium.label}: {fault}" if fault else medium.label
            words = self._shortened(words) if short and len(words) > _LETTERS else words
            yield (number, medium, fault, words, short), partial(self._reader, number, medium, words, short=short)

    def _beside(
        self, outside: Sequence[Path], taken: Sequence[tuple[int, Medium]]
    ) -> Iterator[tuple[object, Callable[[], QWidget]]]:
        """The cards that lie beside the readers, and what is to be said of them."""
        if len(taken) + len(outside) <= _MANY:
            for card in outside:
                yield card, partial(button, f"Put in {card.name}", partial(self._put, card), tip=_FREE)
        elif outside:
            free = len(taken) < READERS
            yield (tuple(outside), free), partial(self._put_menu, outside, free=free)
        said = self._bench.coming() or ("All cards are in." if not outside and len(taken) <= _MANY else "")
        if said:
            yield said, partial(label, said, "soft")

    @staticmethod
    def _words() -> QWidget:
        words = QFrame()
        column = QVBoxLayout(words)
        column.setContentsMargins(0, 0, 0, 0)
        column.setSpacing(0)
        column.addWidget(label("Bench", "strong"))
        column.addWidget(label(f"{READERS} readers, simulated", "small"))
        return words

    def _reader(self, number: int, medium: Medium, words: str, *, short: bool) -> QPushButton:
        made, menu = menu_button(
            words,
            name="bench" if short else "",
            tip=f"{medium.label}, in reader {number}. It can be pulled out, and made to fail.",
        )
        self._add(menu, f"Pull out {medium.label}", lambda: self._pull(number))
        menu.addSeparator()
        for kind, title in _TITLES.items():
            self._add(
                menu, title, lambda kind=kind: self._fail(number, medium.key, kind), not self._bench.without_faults
            )
        fault = self._faults.get(medium.key, "")
        self._add(menu, "Mend it", lambda: self._fail(number, medium.key, ""), bool(fault))
        return made

    def _shortened(self, words: str) -> str:
        """Where cards begin with the same word, what tells them apart; else the beginning."""
        first, _, rest = words.partition(" ")
        alike = sum(medium.label.partition(" ")[0] == first for medium in self._media)
        return f"…{rest}" if rest and alike > 1 else f"{words[: _LETTERS - 1].strip()}…"

    def _put_menu(self, outside: Sequence[Path], *, free: bool) -> QPushButton:
        made, menu = menu_button("Put in", tip=_FREE)
        for card in outside:
            self._add(menu, f"Put in {card.name}", lambda card=card: self._put(card), free)
        return made

    def _add(self, menu: QMenu, title: str, doing: object, enabled: bool = True) -> None:
        assert callable(doing)
        action = menu.addAction(title)
        assert action is not None
        action.setEnabled(enabled)
        action.triggered.connect(lambda _on=False: doing())

    def _put(self, card: Path) -> None:
        # A mount takes a moment to appear, and the window must not wait for it.
        threading.Thread(target=self._bench.put_in, args=(card,), daemon=True).start()

    def _pull(self, number: int) -> None:
        medium = self._bench.reader_of(number)
        if medium is not None:
            self._faults.pop(medium.key, None)
        threading.Thread(target=self._bench.pull_out, args=(number,), daemon=True).start()

    def _fail(self, number: int, key: str, kind: str) -> None:
        self._bench.set_faults(number, _FAULTS[kind] if kind else Faults())
        self._faults[key] = kind
        if not kind:
            del self._faults[key]
        self.refresh()
