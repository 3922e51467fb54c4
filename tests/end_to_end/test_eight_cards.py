"""Eight cards at once, unattended, to three places; and what is told meanwhile, held against what is really open."""

from __future__ import annotations

import os
import shutil
from dataclasses import replace
from pathlib import Path

import psutil
import pytest
from PyQt6.QtCore import QTimer
from pytestqt.qtbot import QtBot

from diadoche.demo.faulty_folder import Faults
from diadoche.demo.opening import demo_settings
from diadoche.screens.marks import Mark
from diadoche.services.station.card_in import Stage
from diadoche.ui.application import Application
from tests.end_to_end.conftest import Opener
from tests.end_to_end.driving import choose, first, texts, waits
from tests.snapshots import contents, snapshot

CARDS = 8


@pytest.fixture
def eight(shoot_folder: Path, drone: Path, camcorder: Path) -> Path:
    """Eight cards that differ in their dates."""
    folder = shoot_folder / "eight"
    for number in range(CARDS):
        card = folder / f"Card {number + 1}"
        shutil.copytree(camcorder if number % 3 == 0 else drone, card)
        for file in card.rglob("*"):
            if file.is_file():
                os.utime(file, ns=(10**18, 10**18 + number * 10**12))
    return folder


class Truth:
    """Looks at the window again and again, and at what its processes have open at that very moment."""

    def __init__(self, application: Application, bench: Path) -> None:
        self.application = application
        self.bench = str(bench)
        self.looks = self.seen_open = 0
        self.false: list[str] = []
        application.station.listeners.append(self.look)
        self.timer = QTimer()
        self.timer.timeout.connect(self.look_closely)
        self.timer.start(40)

    def look(self) -> None:
        """What the window says now must follow from what the station knows, in the window and in the tray alike."""
        self.looks += 1
        window, station = self.application.window, self.application.station
        line = window.watch_line.first.text()
        tray = window.tray.line.text()
        if not tray.startswith(line) or window.tray.icon.toolTip() != tray:
            self.false.append(f"the tray says {tray!r}, the line {line!r}")
        waiting = [card.name for card in station.cards.values() if card.stage is not Stage.PROVEN]
        if "can come out" in line and waiting:
            self.false.append(f"{line} while {waiting} are not kept")
        for row in self.application.desk.cards.rows():
            card = station.cards[row.key]
            if row.mark is Mark.PROVEN and (card.outcome is None or card.outcome.result.proven_copies < 3):
                self.false.append(f"{row.name} looks done")

    def look_closely(self) -> None:
        """Whatever has a file of a reader open, the line must say that cards stay in, and that card says it too."""
        self.look()
        held = self._open_readers()
        self.seen_open += bool(held)
        line = first(self.application)
        rows = {row.key: row for row in self.application.desk.cards.rows()}
        for reader in held:
            if not line.startswith("Leave"):
                self.false.append(f"{line!r} while {reader} is open")
            if reader in rows and rows[reader].may_come_out != "Leave it in":
                self.false.append(f"{rows[reader].may_come_out!r} on {reader} while it is open")

    def _open_readers(self) -> set[str]:
        found = set()
        for process in psutil.Process().children(recursive=True):
            try:
                # The processes that show the cards hold them open all the time; those are the readers themselves.
                if "faulty_folder" not in " ".join(process.cmdline()):
                    paths = [file.path for file in process.open_files()]
                    found |= {
                        path[len(self.bench) + 1 :].split("/")[0] for path in paths if path.startswith(self.bench)
                    }
            except (psutil.NoSuchProcess, psutil.AccessDenied):
                continue
        return found


def test_eight_cards_unattended_and_never_a_false_word(
    open_window: Opener, qtbot: QtBot, shoot_folder: Path, eight: Path
) -> None:
    before = snapshot(eight)
    places = tuple(shoot_folder / f"Shuttle {letter}" for letter in "ABC")
    settings = replace(demo_settings(shoot_folder), places=places, unattended=True)
    application = open_window(settings, 1_500_000, eight)
    truth = Truth(application, shoot_folder / "bench")
    bench = application.bench
    assert bench is not None
    for number, card in enumerate(bench.cards_outside()):
        bench.put_in(card, number + 1)
    waits(qtbot, lambda: len(application.station.cards) == CARDS)
    waits(qtbot, lambda: first(application) == "All cards can come out.")
    truth.timer.stop()
    assert truth.false == []
    assert truth.looks > 100
    assert truth.seen_open > 5
    assert first(application) == "All cards can come out."
    assert snapshot(eight) == before
    for card in eight.iterdir():
        for place in places:
            root = next(place.rglob(f"{card.name}/card-001"))
            assert contents(root) == contents(card)
    assert application.desk.ledger.summary().endswith("new in the log")
    choose(application, qtbot, "Pull out Card 1")
    waits(qtbot, lambda: len(application.station.cards) == CARDS - 1)


def test_a_card_that_comes_again_unattended_is_read_in_full_before_it_is_called_kept(
    open_window: Opener, qtbot: QtBot, shoot_folder: Path
) -> None:
    settings = replace(demo_settings(shoot_folder), unattended=True)
    application = open_window(settings, 6_000_000)
    bench = application.bench
    assert bench is not None
    drone = next(card for card in bench.cards_outside() if card.name == "Drone")
    bench.put_in(drone, 1)
    waits(qtbot, lambda: first(application) == "The card can come out.")
    bench.pull_out(1)
    waits(qtbot, lambda: first(application) == "No card is in.")
    bench.put_in(drone, 1)
    waits(qtbot, lambda: first(application) == "Leave the card in.")
    waits(qtbot, lambda: first(application) == "The card can come out.")
    waits(qtbot, lambda: any("It is what both copies hold" in text for text in texts(application.window.cards)))
    assert len([job for job in application.runner.jobs() if job.kind == "offload"]) == 1
    assert len(list(shoot_folder.rglob("card-0*"))) == 2


def test_a_reader_that_fails_on_cue_is_told_in_the_window(
    open_window: Opener, qtbot: QtBot, shoot_folder: Path
) -> None:
    settings = replace(demo_settings(shoot_folder), unattended=True)
    application = open_window(settings, 6_000_000)
    bench = application.bench
    assert bench is not None
    if bench.without_faults:
        pytest.skip(bench.without_faults)
    drone = next(card for card in bench.cards_outside() if card.name == "Drone")
    bench.put_in(drone, 1)
    bench.set_faults(1, Faults(read_error_at=200_000, file="DRON0002.MP4"))
    waits(qtbot, lambda: first(application).startswith("Look at Drone"))
    waits(qtbot, lambda: any("DRON0002.MP4 cannot be read" in text for text in texts(application.window.cards)))
    choose(application, qtbot, "Let reading fail at a byte")
    choose(application, qtbot, "Mend it")
    key = next(iter(application.station.cards))
    application.desk.cards.offload(key)
    waits(qtbot, lambda: first(application) == "The card can come out.")
    assert len(list(shoot_folder.rglob("card-0*"))) == 2
