"""Folders and addresses that are taken as if they were cards that were put in."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from pathlib import Path

from diadoche.core.sizes import count_text
from diadoche.services.devices.disk_watch import Medium
from diadoche.services.ledger.ledger import Ledger
from diadoche.services.ledger.remembered import recall_all, remember
from diadoche.services.station.card_in import FOLDER_READER
from diadoche.services.station.station import Station

_REMEMBERED = "source"
_MOST = 8


class Sources:
    """Where footage comes from that lies in no reader; used ones are remembered."""

    def __init__(self, station: Station, ledger: Ledger) -> None:
        self._station = station
        self._ledger = ledger

    def open_folder(self, path: Path) -> None:
        """Takes a folder as if it were a card that was put in, and remembers it as a source.

        Where it is none, its listing says so.
        """
        path = path.absolute()
        self._station.put_in(Medium(str(path), path, path.name, FOLDER_READER))
        self._remember(str(path), str(path))

    def open_medium(self, medium: Medium) -> None:
        """Takes what was connected by its address."""
        self._station.put_in(medium)
        self._remember(medium.key, medium.key.removeprefix("network:"))

    def _remember(self, key: str, source: str) -> None:
        self._ledger.writer.do(lambda: remember(self._ledger, _REMEMBERED, key, source))

    def earlier(self) -> list[str]:
        """Folders and addresses that were used before, the newest first."""
        return [value for _key, value in recall_all(self._ledger, _REMEMBERED, str)][:_MOST]

    def dropped(self, paths: Sequence[Path], say: Callable[[str], None]) -> None:
        """Takes what was dropped on the window; says how many came, which were refused, and why."""

        def came(found: tuple[list[Path], list[str]] | Exception) -> None:
            say(str(found) if isinstance(found, Exception) else self._take(*found))

        self._station.in_background(lambda: _folders_of(paths), came)

    def _take(self, folders: list[Path], refused: list[str]) -> str:
        places = self._station.shoot.settings.places
        for folder in list(folders):
            if any(place.is_relative_to(folder) for place in places):
                refused.append(f"{folder.name} holds a place for copies")
                folders.remove(folder)
        for folder in folders:
            self.open_folder(folder)
        words = f"{count_text(len(folders), 'folder')} came" if folders else "Nothing came"
        return f"{words}. Refused: {'; '.join(refused)}." if refused else f"{words}."


def _folders_of(paths: Sequence[Path]) -> tuple[list[Path], list[str]]:
    """The folders that are meant by what was dropped, each once, and what is not there. It looks at disks."""
    folders: dict[Path, None] = {}
    refused = []
    for path in paths:
        if not path.exists():
            refused.append(f"{path.name or path} is not there")
        else:
            folders[path if path.is_dir() else path.parent] = None
    return list(folders), refused
