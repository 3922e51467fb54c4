"""The simulated bench: readers that are folders, and cards that are put in by a link.

A card that is pulled is gone at once, as from a real reader: its path leads nowhere.
"""

from __future__ import annotations

import shutil
from collections.abc import Callable
from pathlib import Path

from diadoche.core.errors import RequestError
from diadoche.services.devices.disk_watch import Medium

READERS = 3
# A slow reader, so that a card of a few seconds' footage can be watched crossing.
PACE_BYTES_S = 3_000_000


class Bench:
    """Readers beside each other, and the cards that lie on the bench."""

    def __init__(
        self,
        folder: Path,
        cards: Callable[[], list[Path]],
        pace_bytes_s: int = PACE_BYTES_S,
        coming: Callable[[], str] = lambda: "",
    ) -> None:
        """
        Args:
            folder: where the readers stand; emptied at the start.
            cards: the cards that can be put in.
            pace_bytes_s: how fast every reader reads.
            coming: words about cards that are still being made.
        """
        self._folder = folder
        self._cards = cards
        self._pace_bytes_s = pace_bytes_s
        self.coming = coming
        self._in: dict[int, Medium] = {}
        self._put_in: Callable[[Medium], None] = lambda _medium: None
        self._pulled_out: Callable[[str], None] = lambda _key: None
        shutil.rmtree(folder, ignore_errors=True)
        for number in range(1, READERS + 1):
            (folder / f"reader-{number}").mkdir(parents=True)

    def start(self, put_in: Callable[[Medium], None], pulled_out: Callable[[str], None]) -> None:
        """Begins telling."""
        self._put_in, self._pulled_out = put_in, pulled_out
        for medium in self._in.values():
            put_in(medium)

    def media(self) -> tuple[Medium, ...]:
        """What is in now."""
        return tuple(self._in.values())

    def cards_outside(self) -> list[Path]:
        """The cards that lie on the bench."""
        inside = {medium.path.resolve() for medium in self._in.values()}
        return [card for card in self._cards() if card.resolve() not in inside]

    def reader_of(self, number: int) -> Medium | None:
        """What is in a reader, counted from 1."""
        return self._in.get(number)

    def put_in(self, card: Path, number: int | None = None) -> Medium:
        """Puts a card into a reader, the first free one when none is named.

        Raises:
            RequestError: the reader is taken, or all are.
        """
        free = [each for each in range(1, READERS + 1) if each not in self._in]
        if not free or (number is not None and number not in free):
            raise RequestError("There is no free reader.", do="Pull a card out first.")
        number = number or free[0]
        link = self._folder / f"reader-{number}" / card.name
        link.symlink_to(card.resolve(), target_is_directory=True)
        medium = Medium(f"reader-{number}", link, card.name, f"Reader {number}", self._pace_bytes_s)
        self._in[number] = medium
        self._put_in(medium)
        return medium

    def pull_out(self, number: int) -> None:
        """Pulls the card out of a reader, whatever is being done with it."""
        medium = self._in.pop(number, None)
        if medium is not None:
            medium.path.unlink(missing_ok=True)
            self._pulled_out(medium.key)
