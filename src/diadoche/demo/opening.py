"""The window on the demo shoot: two places for copies, a bench, and the cards as they become ready."""

from __future__ import annotations

import subprocess
import sys
from dataclasses import dataclass
from pathlib import Path

from diadoche.demo.make import demo_cards
from diadoche.services.ledger.shoots import ShootSettings
from diadoche.services.machine.state_places import StatePlaces

SHOOT = "Tern Rock, day 1"
PLACES = ("Shuttle A", "Shuttle B")


@dataclass(frozen=True, slots=True)
class DemoDay:
    """Cards by when they come in: those of the morning are proven when the visitor comes, those of noon are in."""

    morning: tuple[str, ...]
    noon: tuple[str, ...]


# In the order in which they are drawn: the day does not wait for a later one.
DAY = DemoDay(("Quay", "Supply boat bow"), ("Keeper's camcorder", "Drone", "Mast", "Shore"))


def demo_places(folder: Path) -> StatePlaces:
    """The demo keeps its state apart from the person's own."""
    return StatePlaces(folder / "state", folder / "config", folder / "cache")


def demo_settings(folder: Path) -> ShootSettings:
    """Two places for copies, as the custom of the trade has it."""
    return ShootSettings(places=tuple(folder / name for name in PLACES))


def begin_making(folder: Path) -> subprocess.Popen[bytes]:
    """Makes the cards behind the open window; cards appear on the bench as they are ready."""
    return subprocess.Popen([sys.executable, "-m", "diadoche.main", "make-demo", str(folder)], stdin=subprocess.DEVNULL)


def still_coming(making: subprocess.Popen[bytes], cards: Path) -> str:
    """What is being drawn behind the open window, in words; nothing when all cards are there."""
    if making.poll() is not None:
        return "" if making.returncode == 0 else "The other cards could not be made; see the terminal."
    ready = sum(not path.name.startswith(".") for path in cards.iterdir()) if cards.is_dir() else 0
    return f"Card {ready + 1} of {len(demo_cards())} is being made." if ready < len(demo_cards()) else ""
