"""The seam to media that come and go. The simulated bench is one implementation."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from pathlib import Path
from typing import Protocol


@dataclass(frozen=True, slots=True)
class Medium:
    """A card or folder that is in. `pace_bytes_s` is how fast its reader is; 0 says nothing about it."""

    key: str
    path: Path
    label: str
    reader: str
    pace_bytes_s: int = 0


class DiskWatch(Protocol):
    """Tells which media are in."""

    def start(self, put_in: Callable[[Medium], None], pulled_out: Callable[[str], None]) -> None:
        """Begins telling; what is in already is told at once. `pulled_out` gets the medium's key."""

    def media(self) -> tuple[Medium, ...]:
        """What is in now."""
