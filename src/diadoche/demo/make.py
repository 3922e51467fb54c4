"""The demo shoot: the relighting of the Tern Rock lighthouse, written to a folder."""

from __future__ import annotations

import hashlib
import os
import shutil
from collections.abc import Callable
from concurrent.futures import ProcessPoolExecutor
from dataclasses import dataclass
from datetime import datetime, timedelta, timezone
from fractions import Fraction
from pathlib import Path

import av
import numpy as np

from diadoche.core.errors import RequestError
from diadoche.demo import action, camcorder, camcorders, cinema, drone, spheres
from diadoche.demo.recording import Recording
from diadoche.demo.scene import Camera

_ZONE = timezone(timedelta(hours=1))
_NTSC = Fraction(30000, 1001)
_CARDS = "cards"
_TICKET = ".demo-version"
# What stands beside what draws: none of it changes a card.
_DRAWS_NOTHING = {"bench.py", "opening.py", "faulty_folder.py", "power_cut.py"}


@dataclass(frozen=True, slots=True)
class DemoCard:
    """A card of the demo shoot; `write` draws it into a new folder."""

    name: str
    layout: str
    write: Callable[[Path], None]


def demo_cards() -> tuple[DemoCard, ...]:
    """All cards, in the order in which a visitor wants them."""
    quay = camcorders.write_sd_video
    return (
        DemoCard("Quay", "sd-video", lambda root: quay(root, _quay_recordings(bottom_first=False))),
        DemoCard(
            "Supply boat bow", "dcf", lambda root: action.write_card(root, _boat_recordings(0), "Shag", "TR-5101")
        ),
        DemoCard("Keeper's camcorder", "avchd", lambda root: camcorder.write_card(root, _camcorder_recordings())),
        DemoCard("Drone", "dcf", lambda root: drone.write_card(root, _drone_recordings())),
        DemoCard(
            "Supply boat stern", "dcf", lambda root: action.write_card(root, _boat_recordings(1), "Shag", "TR-5102")
        ),
        DemoCard("Lamp", "cinemadng", lambda root: cinema.write_dng_card(root, _lamp_recordings(), "Auk", missing=17)),
        DemoCard("Lamp raw reel", "raw-reel", lambda root: cinema.write_raw_card(root, _reel_recordings())),
        DemoCard(
            "Shore", "contents", lambda root: camcorders.write_contents(root, _shore_recordings(), "Dunlin", "TR-3310")
        ),
        DemoCard("Mast", "xdroot", lambda root: camcorders.write_xdroot(root, _pier_recordings(1), "Ruff", "TR-2207")),
        DemoCard("Pier", "m4root", lambda root: camcorders.write_m4root(root, _pier_recordings(0), "Knot", "TR-1041")),
        DemoCard(
            "Archive tapes", "dv-avi", lambda root: camcorders.write_dv_avi(root, _quay_recordings(bottom_first=True))
        ),
        DemoCard("Harbour", "quicktime", lambda root: camcorders.write_quicktime(root, _pier_recordings(2), "Godwit")),
        DemoCard("Lamp room", "dcf", lambda root: spheres.write_one_file(root, _room_recordings(0), "Tystie 1")),
        DemoCard(
            "Lamp room, second", "dcf", lambda root: spheres.write_two_files(root, _room_recordings(1), "Tystie 2")
        ),
        *_rig_cards(),
    )


def _rig_cards() -> tuple[DemoCard, ...]:
    """The seven cards of the rig on the gallery: a lens each, and the rig's own stitched files."""

    def card(lens: int) -> DemoCard:
        name = f"Gallery lens {lens}" if lens else "Gallery stitched"
        return DemoCard(name, "rig", lambda root: spheres.write_rig_card(root, lens, _rig_recordings(lens), "Gannet"))

    return tuple(card(lens) for lens in (*range(1, spheres.LENSES + 1), 0))


def _day(hour: int, minute: int) -> datetime:
    return datetime(2026, 6, 14, hour, minute, tzinfo=_ZONE)


def _boat_recordings(body: int) -> list[tuple[Recording, int]]:
    """Two bodies that count alike: the same names, other pictures."""
    bow = Camera(-20 + 12 * body, -110, 3, 6 - 14 * body, 6, 80, 1280, 720)
    begin = _day(9, 24)
    return [
        (Recording(bow, Fraction(50), 90, False, begin, "", 12000 + 500 * body), 3),
        (Recording(bow, Fraction(50), 30, False, begin + timedelta(minutes=6), "", 12200 + 500 * body, Fraction(4)), 1),
    ]


def _lamp_recordings() -> list[Recording]:
    lamp = Camera(14, -40, 30, -18, 4, 40, 1024, 576)
    return [
        Recording(lamp, Fraction(24), 24, False, _day(20, 15), "20:15:00:00", 14000),
        Recording(lamp, Fraction(24), 24, False, _day(20, 31), "20:31:00:00", 14100, Fraction(2)),
    ]


def _reel_recordings() -> list[tuple[Recording, int]]:
    wide = Camera(14, -60, 30, -14, 2, 50, 4096, 2048)
    return [
        (Recording(wide, Fraction(24), 40, False, _day(20, 40), "20:40:00:00", 0), 2),
        (Recording(wide, Fraction(24), 12, False, _day(20, 52), "20:52:00:00", 0), 1),
    ]


def _room_recordings(camera: int) -> list[Recording]:
    room = Camera(8, -24, 32, 0, 0, 90, 720, 720)
    begin = _day(10, 30 + camera)
    return [
        Recording(room, Fraction(30000, 1001), 30, False, begin, "", 16000 + 100 * camera, Fraction(camera)),
        Recording(room, Fraction(30000, 1001), 20, False, begin + timedelta(minutes=9), "", 16050 + 100 * camera),
    ]


def _rig_recordings(lens: int) -> list[Recording]:
    """Two takes; in the second, lens 4 stopped early. The stitched file is small, and as wide as two high."""
    size = (512, 512) if lens else (960, 480)
    rail = Camera(6, -16, 30, 20, 0, 90, *size)
    short = 20 if lens == 4 else 40
    return [
        Recording(rail, Fraction(30), 30, False, _day(11, 5), "", 18000),
        Recording(rail, Fraction(30), short, False, _day(11, 17), "", 18040, Fraction(3)),
    ]


def _pier_recordings(place: int) -> list[Recording]:
    pier = Camera(30 - 40 * place, -120, 5 + 10 * place, -12 + 16 * place, 5, 48, 1920, 1080)
    begin = _day(13, 10 + 20 * place)
    first = 20000 + 300 * place
    woven = place > 0
    return [
        Recording(pier, Fraction(25), 40, woven, begin, "13:10:00:00", first),
        Recording(pier, Fraction(25), 30, woven, begin + timedelta(minutes=4), "13:14:00:00", first + 100, Fraction(6)),
    ]


def _shore_recordings() -> list[Recording]:
    shore = Camera(-60, -130, 4, 24, 6, 45, 1920, 1080)
    return [Recording(shore, Fraction(25), 25, False, _day(15, 2), "15:02:00:00", 22000)]


def _quay_recordings(*, bottom_first: bool) -> list[Recording]:
    quay = Camera(40, -90, 4, -22, 8, 50, 720, 576)
    begin = _day(16, 40 + 12 * bottom_first)
    first = 24000 + 400 * bottom_first
    # A tape counts on from recording to recording; programme streams carry no timecode.
    labels = ("00:12:40:00", "00:12:42:00") if bottom_first else ("", "")
    later = begin + timedelta(minutes=3)
    return [
        Recording(quay, Fraction(25), 50, True, begin, labels[0], first, Fraction(0), bottom_first),
        Recording(quay, Fraction(25), 40, True, later, labels[1], first + 150, Fraction(5), bottom_first),
    ]


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


def drawn_by() -> str:
    """A digest of all that draws: cards that something else drew are drawn anew."""
    digest = hashlib.sha256(f"{av.__version__} {np.__version__}".encode())
    for source in sorted(Path(__file__).parent.glob("*.py")):
        if source.name not in _DRAWS_NOTHING:
            digest.update(source.read_bytes())
    return digest.hexdigest()


def fresh_cards_folder(folder: Path) -> Path:
    """The folder of the cards, without those that something else drew; before anybody puts one of them in.

    Raises:
        RequestError: what lies there was not made by the demo; nothing of it is touched.
    """
    cards = folder / _CARDS
    ticket = folder / _TICKET
    version, now = ticket.read_text("utf-8") if ticket.exists() else "", drawn_by()
    if not version and cards.exists() and any(cards.iterdir()):
        raise RequestError(
            f"{cards} holds what the demo did not make.",
            path=cards,
            safe="It is untouched.",
            do="Name another folder for the demo, or an empty one.",
        )
    if version not in {"", now}:
        # By name: whatever else somebody put there stays.
        for card in demo_cards():
            for drawn in (cards / card.name, _part_of(cards, card)):
                shutil.rmtree(drawn, ignore_errors=True)
    cards.mkdir(parents=True, exist_ok=True)
    if version != now:
        # Whole or not at all: whoever looks while it is written would take the cards for old ones, and draw them anew.
        part = ticket.with_name(f"{_TICKET}.{os.getpid()}")
        part.write_text(now)
        part.replace(ticket)
    return cards


def make_demo(
    folder: Path, told: Callable[[DemoCard, Path], None] = lambda _card, _path: None, at_once: int = 1
) -> list[Path]:
    """Writes every card that is not there yet; each appears whole or not at all.

    Args:
        folder: where the demo lives.
        told: called as each card is ready.
        at_once: how many are drawn at the same time.
    """
    cards = fresh_cards_folder(folder)
    if at_once > 1:
        with ProcessPoolExecutor(at_once) as pool:
            list(pool.map(_make_named, [(cards, card.name) for card in demo_cards()]))
    paths = []
    for card in demo_cards():
        path = _make_card(cards, card)
        told(card, path)
        paths.append(path)
    return paths


def _make_named(wanted: tuple[Path, str]) -> None:
    cards, name = wanted
    _make_card(cards, next(card for card in demo_cards() if card.name == name))


def _part_of(cards: Path, card: DemoCard) -> Path:
    """Where a card stands while it is drawn."""
    return cards / f".{card.name}.part"


def _make_card(cards: Path, card: DemoCard) -> Path:
    path = cards / card.name
    if not path.exists():
        part = _part_of(cards, card)
        shutil.rmtree(part, ignore_errors=True)
        part.mkdir()
        card.write(part)
        part.replace(path)
    return path
