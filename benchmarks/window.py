"""How late the window's events are while an offload and a conversion run."""

from __future__ import annotations

import shutil
import tempfile
import threading
import time
from collections.abc import Callable, Iterator
from dataclasses import replace
from pathlib import Path

from PyQt6.QtCore import QTimer
from PyQt6.QtTest import QTest
from PyQt6.QtWidgets import QApplication

from benchmarks.measuring import Row
from benchmarks.offloads import card_of
from diadoche.demo.make import make_demo
from diadoche.demo.opening import demo_places, demo_settings
from diadoche.services.card_in import Stage
from diadoche.services.converting import MakeRequest
from diadoche.services.places import StatePlaces
from diadoche.services.shoots import ShootSettings
from diadoche.ui.application import Application, Opening

_TICK_MS = 10
_LONGEST_S = 120


def rows() -> Iterator[Row]:
    """The rows about the window."""
    app = QApplication.instance() or QApplication([])
    assert isinstance(app, QApplication)
    yield _row("the window's events while an offload and a conversion run", _one_card(app))
    yield _row("the same while eight cards cross unattended to three places", _eight_cards(app))


def _row(work: str, late: list[float]) -> Row:
    late.sort()
    worst, ninety_ninth = late[-1], late[int(len(late) * 0.99)]
    return Row(
        work,
        f"a timer of {_TICK_MS} ms, {len(late)} ticks",
        "99 in 100 ≤ 50 ms, worst ≤ 200 ms",
        f"{ninety_ninth:.0f} ms, worst {worst:.0f} ms",
        ninety_ninth <= 50 and worst <= 200,
    )


def _one_card(app: QApplication) -> list[float]:
    cards = {path.name: path for path in make_demo(Path("build/test-demo"))}
    with tempfile.TemporaryDirectory(dir=".") as name:
        folder = Path(name).absolute()
        card_of(folder, 8, 150_000_000)
        (folder / "cards").mkdir()
        shutil.move(folder / "card", folder / "cards" / "Large")

        def begin(application: Application) -> None:
            clip = cards["Drone"] / "DCIM/100DRONE/DRON0001.MP4"
            request = MakeRequest((clip,), "convert", "prores-422", folder / "out")
            application.runner.add("make", "Convert", "encode", request)
            application.desk.cards.offload_all()

        return _lateness(app, Opening(*_opening(folder, demo_settings(folder))), begin)


def _eight_cards(app: QApplication) -> list[float]:
    with tempfile.TemporaryDirectory(dir=".") as name:
        folder = Path(name).absolute()
        for number in range(8):
            card_of(folder, 12, 8_000_000)
            (folder / "cards").mkdir(exist_ok=True)
            shutil.move(folder / "card", folder / "cards" / f"Card {number}")
        places = tuple(folder / f"Place {number}" for number in range(3))
        settings = replace(demo_settings(folder), places=places, unattended=True)
        return _lateness(app, Opening(*_opening(folder, settings)), lambda _application: None)


def _opening(folder: Path, settings: ShootSettings) -> tuple[StatePlaces, str, ShootSettings, Path, Path, int]:
    return demo_places(folder), "Bench", settings, folder / "bench", folder / "cards", 0


def _lateness(app: QApplication, opening: Opening, begin: Callable[[Application], None]) -> list[float]:
    """By how many milliseconds a timer of the window comes late, from the first card until nothing is at work."""
    application = Application(app, opening)
    application.window.show()
    late: list[float] = []
    last = [time.perf_counter()]

    def tick() -> None:
        now = time.perf_counter()
        late.append(max(0.0, (now - last[0]) * 1000 - _TICK_MS))
        last[0] = now

    timer = QTimer()
    timer.timeout.connect(tick)
    try:
        bench = application.bench
        assert bench is not None
        cards = bench.cards_outside()
        putting = threading.Thread(target=lambda: [bench.put_in(card) for card in cards])
        began = time.monotonic()
        if len(cards) > 1:
            timer.start(_TICK_MS)
        putting.start()
        while len(application.station.cards) < len(cards):
            QTest.qWait(20)
        while any(card.stage is Stage.LISTING for card in application.station.cards.values()):
            QTest.qWait(20)
        begin(application)
        last[0] = time.perf_counter()
        timer.start(_TICK_MS)
        while application.desk.work.running() and time.monotonic() - began < _LONGEST_S:
            QTest.qWait(50)
        timer.stop()
        assert all(card.stage is Stage.PROVEN for card in application.station.cards.values())
    finally:
        application.close()
    return late
