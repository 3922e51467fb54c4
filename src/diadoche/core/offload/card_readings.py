"""What a card's files read as: when two readings differ, more are made, until two agree or it is given up."""

from __future__ import annotations

from collections.abc import Callable, Mapping
from pathlib import Path

from diadoche.core.answering import Calls
from diadoche.core.diskfiles import DirectReader
from diadoche.core.errors import reading
from diadoche.core.offload.digest_file import agree, contradict, digests_of

MOST_READINGS = 5

Digests = Mapping[str, str]


class CardReadings:
    """All readings of the files of one card, by this run and by earlier ones."""

    def __init__(self, source: Path, names: tuple[str, ...], go_on: Callable[[], None]) -> None:
        """
        Args:
            source: the card's top.
            names: of the digests that each reading makes.
            go_on: called with every block; raises where the work is to end.
        """
        self._source = source
        self.names = names
        self._go_on = go_on
        self._readings: dict[str, list[Digests]] = {}
        self.calls = Calls()

    def earlier(self, path: str, digests: Digests) -> None:
        """What a journal says that a file read as; journals of one run say the same of one reading."""
        known = self._readings.setdefault(path, [])
        if dict(digests) not in [dict(each) for each in known]:
            known.append(dict(digests))

    def forget(self, path: str) -> None:
        """The file is another by now: earlier readings say nothing of it."""
        self._readings.pop(path, None)

    def now(self, path: str, digests: Digests) -> bool:
        """Takes in a reading of this run; gives whether none of all contradicts another."""
        known = self._readings.setdefault(path, [])
        known.append(dict(digests))
        return not any(contradict(one, other) for one in known for other in known)

    def agreed(self, path: str) -> Digests | None:
        """The digests that two readings agree on; the file is read again until that is so, five readings in all.

        Raises:
            SourceError: it cannot be read any more.
        """
        known = self._readings.setdefault(path, [])
        while (found := _twice(known)) is None and len(known) < MOST_READINGS:
            known.append(self._read(path))
        return found

    def _read(self, path: str) -> Digests:
        full = self._source / path
        # Past the page cache: what was read a moment ago must not vouch for itself.
        reader = DirectReader(self.calls)
        try:
            with reading(full, self._source):
                return digests_of(full, self.names, reader, step=lambda _count: self._go_on())
        finally:
            reader.close()

    def again(self, path: str) -> bool:
        """Reads a file once more; gives whether that is what it read as before.

        Raises:
            SourceError: it cannot be read any more.
        """
        return self.now(path, self._read(path))


def _twice(readings: list[Digests]) -> Digests | None:
    for number, one in enumerate(readings):
        for other in readings[:number]:
            if agree(one, other):
                # The later one has every digest that this run makes.
                return one
    return None
