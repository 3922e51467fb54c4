"""The shoot that is worked on: its name, another one, and how many disks it wants."""

from __future__ import annotations

from diadoche.core.errors import LedgerError, LedgerRefuses
from diadoche.core.sizes import count_text
from diadoche.screens.undo import Undo
from diadoche.services.ledger.ledger import Ledger
from diadoche.services.ledger.shoots import Shoot, all_shoots, change_shoot, open_shoot
from diadoche.services.station.station import Station


class Shoots:
    """Which shoot it is, and what can be changed about it."""

    def __init__(self, station: Station, ledger: Ledger, undo: Undo) -> None:
        self._station = station
        self._ledger = ledger
        self._undo = undo

    @property
    def name(self) -> str:
        """The name of the shoot."""
        return self._station.shoot.name

    def all(self) -> list[Shoot]:
        """Every shoot, the newest first."""
        return all_shoots(self._ledger)

    def go_to(self, name: str) -> str:
        """Another shoot; a new one starts with the settings of this one. Gives why not, where it cannot be done."""
        if not name.strip():
            return "A shoot needs a name."
        if any(card.stage.being_read for card in self._station.cards.values()):
            return "Cards are being read for this shoot. Wait for them, or stop them."
        try:
            shoot = open_shoot(self._ledger, name.strip(), self._station.shoot.settings)
        except LedgerError as error:
            return error.problem.sentence()
        self._station.change_shoot(shoot)
        return ""

    def change_name(self, name: str) -> str:
        """Gives the shoot another name; originals that stand keep their folders. Gives why not, where it cannot be."""
        if not name.strip() or name.strip() == self.name:
            return ""
        try:
            named = change_shoot(self._ledger, self._station.shoot, name=name.strip())
        except LedgerRefuses:
            return f"There is another shoot called {name.strip()}. Nothing was changed. Choose another name."
        except LedgerError as error:
            return error.problem.sentence()
        self._station.change_shoot(named)
        return ""

    @property
    def copies_wanted(self) -> int:
        """On how many different disks a card of this shoot is to be before its camera may format it."""
        return self._station.shoot.settings.copies_wanted

    def want_copies(self, count: int) -> None:
        """Changes that, for cards that are on disks already too."""
        before = self.copies_wanted
        self._undo.note(
            f"the shoot wants {count_text(before, 'disk')}", lambda: self._station.change_settings(copies_wanted=before)
        )
        self._station.change_settings(copies_wanted=count)
