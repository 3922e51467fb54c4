"""The simulated bench: readers that are folders, cards that are put in, and disks that are told apart by name.

A card that is pulled is gone at once, as from a real reader: its path leads nowhere. Where folders can be
mounted, each reader shows its card through a mount of its own, and can be made slow, hang, fail or read wrong.
"""

from __future__ import annotations

import subprocess
import threading
from collections.abc import Callable
from contextlib import suppress
from pathlib import Path

from diadoche.core.disks import Disk
from diadoche.core.errors import RequestError
from diadoche.demo.faulty_folder import Faults, FaultyMount, can_mount
from diadoche.services.devices.disk_watch import Medium, PulledOut, PutIn

READERS = 8
# A slow reader, so that a card of a few seconds' footage can be watched crossing.
PACE_BYTES_S = 3_000_000
_LOOK_EVERY_S = 1.0


class Bench:
    """Readers beside each other, and the cards that lie on the bench."""

    def __init__(
        self,
        folder: Path,
        cards: Callable[[], list[Path]],
        pace_bytes_s: int = PACE_BYTES_S,
        coming: Callable[[], str] = lambda: "",
        *,
        with_faults: bool = False,
    ) -> None:
        """
        Args:
            folder: where the readers stand; emptied at the start.
            cards: the cards that can be put in.
            pace_bytes_s: how fast every reader reads.
            coming: words about cards that are still being made.
            with_faults: whether readers can be made to fail, where this machine allows it.
        """
        self.without_faults = can_mount() if with_faults else "This bench has plain readers."
        self._lock = threading.Lock()
        self._mounts: dict[int, FaultyMount] = {}
        self._folder = folder
        self._cards = cards
        self._pace_bytes_s = pace_bytes_s
        self.coming = coming
        self._in: dict[int, Medium] = {}
        self._inside: dict[int, Path] = {}
        self._put_in: PutIn = lambda _medium: None
        self._pulled_out: PulledOut = lambda _key: None
        # The cards that there were a moment ago, and where each really lies; who asks for them waits for no disk.
        self._there: list[tuple[Path, Path]] = []
        self._closed = threading.Event()
        _clear(folder)
        for number in range(1, READERS + 1):
            (folder / f"reader-{number}").mkdir(parents=True, exist_ok=True)
        self._look()

    def start(self, put_in: PutIn, pulled_out: PulledOut) -> None:
        """Begins telling, and looking for cards that come later."""
        threading.Thread(target=self._look_on, name="bench", daemon=True).start()
        self._put_in, self._pulled_out = put_in, pulled_out
        for medium in self._in.values():
            put_in(medium)

    def media(self) -> tuple[Medium, ...]:
        """What is in now."""
        return tuple(self._in.values())

    def cards_outside(self) -> list[Path]:
        """The cards that lie on the bench."""
        inside = set(self._inside.values())
        return [card for card, really in self._there if really not in inside]

    def _look(self) -> None:
        self._there = [(card, card.resolve()) for card in self._cards()]

    def _look_on(self) -> None:
        while not self._closed.wait(_LOOK_EVERY_S):
            # A folder that was taken away may come again.
            with suppress(OSError):
                self._look()

    def eject(self, key: str) -> None:
        """Lets a card out, as it is pulled."""
        for number, medium in list(self._in.items()):
            if medium.key == key:
                self.pull_out(number)

    def disk_of(self, place: Path) -> Disk | None:
        """A disk for each folder beside the bench: the demo's shuttles are folders of one real disk; None elsewhere."""
        if place.parent == self._folder.parent:
            return Disk(f"simulated:{place.name}", "disk", f"the simulated disk {place.name}")
        return None

    def set_faults(self, number: int, faults: Faults) -> None:
        """Changes what goes wrong in a reader, at once.

        Raises:
            RequestError: this bench cannot fail, or nothing is in that reader.
        """
        if number not in self._mounts:
            raise RequestError(self.without_faults or f"Nothing is in reader {number}.", do="Put a card in first.")
        self._mounts[number].set(faults)

    def close(self) -> None:
        """Pulls everything out, and looks for nothing any more."""
        self._closed.set()
        for number in list(self._in):
            self.pull_out(number)

    def reader_of(self, number: int) -> Medium | None:
        """What is in a reader, counted from 1."""
        return self._in.get(number)

    def put_in(self, card: Path, number: int | None = None) -> Medium:
        """Puts a card into a reader, the first free one when none is named; takes a moment, from any thread.

        Raises:
            RequestError: the reader is taken, or all are.
        """
        with self._lock:
            free = [each for each in range(1, READERS + 1) if each not in self._inside]
            if not free or (number is not None and number not in free):
                raise RequestError("There is no free reader.", do="Pull a card out first.")
            number = number or free[0]
            self._inside[number] = card.resolve()
        link = self._folder / f"reader-{number}" / card.name
        try:
            if self.without_faults:
                link.symlink_to(card.resolve(), target_is_directory=True)
            else:
                self._mounts[number] = FaultyMount(card, link)
        except BaseException:
            del self._inside[number]
            raise
        key = f"reader-{number}"
        medium = Medium(key, link, card.name, f"Reader {number}", self._pace_bytes_s, key, True)
        self._in[number] = medium
        self._put_in(medium)
        return medium

    def pull_out(self, number: int) -> None:
        """Pulls the card out of a reader, whatever is being done with it."""
        medium = self._in.pop(number, None)
        if medium is not None:
            mount = self._mounts.pop(number, None)
            if mount is not None:
                mount.close()
            else:
                medium.path.unlink(missing_ok=True)
            self._inside.pop(number, None)
            self._pulled_out(medium.key)


def bench_of(
    folder: Path, cards: Path, pace_bytes_s: int = PACE_BYTES_S, coming: Callable[[], str] = lambda: ""
) -> Bench:
    """A bench in `folder` for all cards that lie in another folder, with readers that can be made to fail."""
    return Bench(
        folder,
        lambda: sorted(path for path in cards.glob("*") if path.is_dir() and not path.name.startswith(".")),
        pace_bytes_s,
        coming,
        with_faults=True,
    )


def _clear(folder: Path) -> None:
    """Empties readers of an earlier run; one that was killed has left its mounts. Nothing inside a mount is touched."""
    for path in [path for reader in folder.glob("reader-*") for path in reader.iterdir()]:
        with suppress(OSError):
            if path.is_symlink() or path.name.startswith("."):
                path.unlink()
                continue
        subprocess.run(["fusermount3", "-u", "-z", str(path)], capture_output=True, check=False)
        with suppress(OSError):
            path.rmdir()
