"""The seam to media that come and go. UDisks2, mount polling and the simulated bench are its implementations."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from pathlib import Path
from typing import Protocol

PutIn = Callable[["Medium"], None]
PulledOut = Callable[[str], None]


@dataclass(frozen=True, slots=True)
class Medium:
    """A card or folder that is in.

    `pace_bytes_s` is how fast its reader is; 0 says nothing about it. Media with the same `device` are
    read one after another.
    """

    key: str
    path: Path
    label: str
    reader: str
    pace_bytes_s: int = 0
    device: str = ""
    can_eject: bool = False
    identity: str = ""


class DiskWatch(Protocol):
    """Tells which media are in, lets them out, and knows which disk a folder is on."""

    def start(self, put_in: PutIn, pulled_out: PulledOut) -> None:
        """Begins telling, from any thread; what is in already is told at once. `pulled_out` gets the medium's key."""

    def media(self) -> tuple[Medium, ...]:
        """What is in now."""

    def eject(self, key: str) -> None:
        """Unmounts a medium and lets it out.

        Raises:
            DiadocheError: something still uses it; it stays in.
        """

    def close(self) -> None:
        """Ends telling."""
