"""The demo shoot: the relighting of the Tern Rock lighthouse, written to a folder."""

from __future__ import annotations

import shutil
from collections.abc import Callable
from dataclasses import dataclass
from datetime import datetime, timedelta, timezone
from fractions import Fraction
from pathlib import Path

from diadoche.demo import camcorder, drone
from diadoche.demo.recording import Recording
from diadoche.demo.scene import Camera

_ZONE = timezone(timedelta(hours=1))
_NTSC = Fraction(30000, 1001)
_CARDS = "cards"
_TICKET = ".demo-version"
_VERSION = "1"


@dataclass(frozen=True, slots=True)
class DemoCard:
    """A card of the demo shoot; `write` draws it into a new folder."""

    name: str
    layout: str
    write: Callable[[Path], None]


def demo_cards() -> tuple[DemoCard, ...]:
    """All cards, the quickest to make first."""
    return (
        DemoCard("Keeper's camcorder", "avchd", lambda root: camcorder.write_card(root, _camcorder_recordings())),
        DemoCard("Drone", "dcf", lambda root: drone.write_card(root, _drone_recordings())),
    )


def _drone_recordings() -> list[Recording]:
    wide = Camera(60, -90, 55, -35, -18, 75, 2704, 1520)
    close = Camera(-40, -60, 38, 34, -4, 60, 2704, 1520)
    plain = Camera(10, -150, 20, -3, -2, 50, 1920, 1080)
    begin = datetime(2026, 6, 14, 9, 12, 4, tzinfo=_ZONE)
    return [
        Recording(wide, _NTSC, 120, False, begin, "09:12:04;00", 0),
        Recording(close, _NTSC, 90, False, begin + timedelta(minutes=7), "09:19:04;00", 2000, Fraction(3)),
        Recording(plain, _NTSC, 90, False, begin + timedelta(minutes=40), "09:52:04;00", 4000, Fraction(8)),
    ]


def _camcorder_recordings() -> list[tuple[Recording, int]]:
    tripod = Camera(10, -140, 6, -3, 6, 50, 1920, 1080)
    door = Camera(-30, -70, 2, 20, 12, 55, 1920, 1080)
    begin = datetime(2026, 6, 14, 8, 40, 0, tzinfo=_ZONE)
    rate = Fraction(25)
    return [
        (Recording(tripod, rate, 150, True, begin, "08:40:00:00", 0), 2),
        (Recording(door, rate, 75, True, begin + timedelta(minutes=31), "09:11:00:00", 6000, Fraction(5)), 1),
        (Recording(tripod, rate, 50, True, begin + timedelta(minutes=75), "09:55:00:00", 9000, Fraction(9)), 1),
    ]


def make_demo(folder: Path, told: Callable[[DemoCard, Path], None] = lambda _card, _path: None) -> list[Path]:
    """Writes every card that is not there yet; each appears whole or not at all.

    Args:
        folder: where the demo lives.
        told: called as each card is ready.
    """
    cards = folder / _CARDS
    ticket = folder / _TICKET
    if ticket.exists() and ticket.read_text() != _VERSION:
        shutil.rmtree(cards, ignore_errors=True)
    cards.mkdir(parents=True, exist_ok=True)
    ticket.write_text(_VERSION)
    paths = []
    for card in demo_cards():
        path = cards / card.name
        if not path.exists():
            part = cards / f".{card.name}.part"
            shutil.rmtree(part, ignore_errors=True)
            part.mkdir()
            card.write(part)
            part.replace(path)
        told(card, path)
        paths.append(path)
    return paths
