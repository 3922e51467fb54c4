"""Starts the window: ledger, queue, station, screens, and the demo behind it where that is asked for."""

from __future__ import annotations

import logging
import sys
import threading
import time
from collections.abc import Callable
from contextlib import suppress
from dataclasses import dataclass, replace
from datetime import UTC, datetime
from pathlib import Path
from typing import TYPE_CHECKING, Any

from PyQt6.QtCore import Qt, QTimer
from PyQt6.QtGui import QIcon
from PyQt6.QtWidgets import QApplication, QMessageBox

from diadoche.core.errors import DiadocheError
from diadoche.screens.attendant import Attendant
from diadoche.screens.desk import Desk
from diadoche.services.background import outcome_of
from diadoche.services.devices.desktop import PopUps
from diadoche.services.devices.devices import NETWORK, CameIn, Devices, NoticeWanted, Said, WentOut
from diadoche.services.jobs.all_kinds import ALL_KINDS
from diadoche.services.jobs.identify import IdentifiedClip
from diadoche.services.ledger.job_results import record, record_part
from diadoche.services.ledger.ledger import Ledger
from diadoche.services.ledger.shoots import ShootSettings, latest_shoot, open_shoot, proposed_name
from diadoche.services.machine.one_window import OneWindow
from diadoche.services.machine.settings import Scheme, load_settings, save_settings
from diadoche.services.machine.state_places import StatePlaces
from diadoche.services.queue.runner import Job, Runner
from diadoche.services.station.station import Station
from diadoche.ui.asks import Asks
from diadoche.ui.bridge import Bridge
from diadoche.ui.failure_box import install_hook
from diadoche.ui.main_window import MainWindow
from diadoche.ui.second_start import SecondStarts, bring_first_to_front
from diadoche.ui.signals import quit_on_signals
from diadoche.ui.theme import Theme

if TYPE_CHECKING:
    # Loaded for the demo alone: it draws cameras, and a start of the application would wait for that.
    from diadoche.demo.bench import Bench
    from diadoche.demo.opening import DemoDay
    from diadoche.ui.demo_day import DemoHands

LOG = logging.getLogger(__name__)
# Longer than the first window takes from its lock to its first event.
_FIRST_ANSWERS_S, _LOOK_AGAIN_S = 15.0, 0.1
SWITCH_S = 0.0005
_GATHERED_MS = 100
_CHECK_EVERY_MS = 60 * 60 * 1000
_LARGEST_PERCENT, _SMALLEST_PERCENT, _STEP_PERCENT = 200, 80, 10


@dataclass(frozen=True, slots=True)
class Opening:
    """What the window opens on.

    With a bench, its readers stand in for the machine's own; with a day, cards are put in as it passes.
    """

    places: StatePlaces
    shoot: str = ""
    settings: ShootSettings | None = None
    bench: Bench | None = None
    day: DemoDay | None = None


@dataclass(frozen=True, slots=True)
class _Came:
    """What came of work in the background, or its error, and who waits for it."""

    then: Callable[[Any], None]
    outcome: Any


class _Noted:
    """What happened stands in the ledger."""


@dataclass(frozen=True, slots=True)
class _PlacesChanged:
    """Something else is known of the room of places, or of files on them."""

    files: bool


class Application:
    """The running application; `close` ends everything it started."""

    def __init__(self, app: QApplication, opening: Opening) -> None:
        self._app = app
        self._closed = False
        self._places = opening.places
        self.theme = Theme(app)
        self._settings = load_settings(opening.places.config)
        self.theme.apply(self._settings.scheme, self._settings.text_percent)
        self.ledger = Ledger(opening.places.ledger)
        self._bridge = Bridge(self._take)
        self.runner = Runner(
            self.ledger, ALL_KINDS, self._bridge.post, lambda job: record(self.ledger, job), self._part_came
        )
        shoot = (
            open_shoot(self.ledger, opening.shoot, opening.settings)
            if opening.shoot
            else latest_shoot(self.ledger) or open_shoot(self.ledger, proposed_name(datetime.now(UTC).date()))
        )
        self.bench = opening.bench
        self.station = Station(
            self.ledger,
            self.runner,
            opening.places,
            shoot,
            self.bench.disk_of if self.bench is not None else lambda _place: None,
            self._in_background,
            lambda: self._places_changed(files=False),
            lambda: self._places_changed(files=True),
            self._noted,
        )
        self.devices = Devices(self._bridge.post, opening.places.state / "shares", self.bench)
        self.desk = Desk(self.ledger, self.runner, self.station)
        self.desk.later = lambda doing: self._after_ms(0, doing)
        self.desk.shelf.gather = lambda doing: self._after_ms(_GATHERED_MS, doing)
        self.desk.cards.let_out = self.devices.let_out
        self._pop_ups = PopUps(self._remember_pop_ups, self._settings.pop_ups)
        self.attendant = Attendant(self.station, hold=self.devices.sleep.hold, show=self._notify)
        self.window = MainWindow(self.theme, self.desk, self.bench, self._asks())
        self.window.take_column_widths(self._settings.columns)
        if self._settings.window_px is not None:
            self.window.take_size(self._settings.window_px, filled=self._settings.filled)
        if self.bench is not None:
            self.bench.start(
                lambda medium: self._bridge.post(CameIn(medium)), lambda key: self._bridge.post(WentOut(key))
            )
        self.devices.start()
        left_open = self.runner.recover()
        self.station.take_up(left_open)
        self.desk.outputs.taken_up(left_open)
        # As soon as the window is painted: reading ten thousand clips beside it would make it wait.
        self._after_ms(0, self.desk.begin)
        self.demo_hands: DemoHands | None = None
        if opening.day is not None and self.bench is not None:
            from diadoche.ui.demo_day import DemoHands

            self.demo_hands = DemoHands(opening.day, self.bench, self.desk)
        self._checks = QTimer()
        self._checks.timeout.connect(self._check_due)
        self._checks.start(_CHECK_EVERY_MS)
        self._check_due()

    def _asks(self) -> Asks:
        quiet = self._quiet_pop_ups if self._pop_ups.can_be_quieted() else None
        return Asks(self._change_scheme, self._change_text, self.devices.connect, quiet, lambda: self._pop_ups.quieted)

    def _notify(self, title: str, text: str) -> None:
        self.devices.notices.show(title, text)

    def _check_due(self) -> None:
        self.desk.ledger.check_due(datetime.now(UTC))

    def _quiet_pop_ups(self, wanted: bool) -> None:
        if wanted:
            self._pop_ups.quiet()
        else:
            self._pop_ups.restore()

    def _remember_pop_ups(self, before: dict[str, str]) -> None:
        self._settings = replace(self._settings, pop_ups=dict(before))
        save_settings(self._places.config, self._settings)

    def _in_background(self, work: Callable[[], Any], then: Callable[[Any], None]) -> None:
        """Does work in a thread of its own; what came of it is taken in on the window's."""

        def do() -> None:
            self._bridge.post(_Came(then, outcome_of(work)))

        threading.Thread(target=do, name="background", daemon=True).start()

    def _places_changed(self, *, files: bool) -> None:
        """On any thread: something else is known of places, or of files on them."""
        if not self._closed:
            self._bridge.post(_PlacesChanged(files))

    def _noted(self) -> None:
        """On any thread: what happened stands in the ledger."""
        if not self._closed:
            self._bridge.post(_Noted())

    def _part_came(self, job: Job, part: object) -> None:
        record_part(self.ledger, job, part)
        self._bridge.post(part)

    def _take(self, news: object) -> None:
        if self._closed:
            return
        if isinstance(news, _Came):
            news.then(news.outcome)
        if isinstance(news, _PlacesChanged):
            # Room changes every second while cards are copied: the ledger is not read anew for that.
            (self.desk.files_changed if news.files else self.desk.cards.on_change)()
        if isinstance(news, _Noted):
            self.desk.noted()
        if isinstance(news, IdentifiedClip):
            self.desk.clip_identified(news)
        if isinstance(news, Job):
            self.desk.job_changed(news)
        elif isinstance(news, CameIn):
            if news.medium.key.startswith(NETWORK):
                self.desk.cards.sources.open_medium(news.medium)
            else:
                self.station.put_in(news.medium)
        elif isinstance(news, WentOut):
            self.station.pulled_out(news.key)
        elif isinstance(news, Said):
            self.window.cards.answered(news.words, failed=news.failed)
        elif isinstance(news, NoticeWanted):
            self.window.tray.notice(news.title, news.text)

    def _change_scheme(self) -> None:
        self.show_scheme("light" if self.theme.colours.dark else "dark")

    def show_scheme(self, scheme: Scheme) -> None:
        """Light, dark, or as the desktop has it; remembered."""
        self._settings = replace(self._settings, scheme=scheme)
        self._apply()

    def _change_text(self, way: int) -> None:
        percent = self._settings.text_percent + way * _STEP_PERCENT if way else 100
        percent = min(_LARGEST_PERCENT, max(_SMALLEST_PERCENT, percent))
        self._settings = replace(self._settings, text_percent=percent)
        self._apply()

    def _apply(self) -> None:
        self.theme.apply(self._settings.scheme, self._settings.text_percent)
        self.window.look_again()
        save_settings(self._places.config, self._settings)

    def come_to_front(self, folder: Path | None = None) -> None:
        """Somebody started the application again: here it is, and takes the folder that was given."""
        if folder is not None:
            self.desk.cards.sources.open_folder(folder)
        self.window.setWindowState(self.window.windowState() & ~Qt.WindowState.WindowMinimized)
        self.window.show()
        self.window.raise_()
        self.window.activateWindow()

    def _after_ms(self, wait_ms: int, doing: Callable[[], object]) -> None:
        """Does something soon, unless the window has closed by then: what it would show it in is gone."""
        QTimer.singleShot(wait_ms, lambda: None if self._closed else doing())

    def _keep_size(self) -> None:
        """The next window is as large, and its columns as wide. A disk that is full keeps nobody from closing."""
        usual = self.window.normalGeometry()
        now = replace(
            self._settings,
            window_px=(usual.width(), usual.height()),
            filled=self.window.isMaximized(),
            columns=self.window.column_widths(),
        )
        if now != self._settings:
            self._settings = now
            with suppress(OSError):
                save_settings(self._places.config, self._settings)

    def close(self) -> None:
        """Ends every process; unfinished jobs go on at the next start."""
        if self._closed:
            return
        self._closed = True
        if self.demo_hands is not None:
            self.demo_hands.close()
        self.desk.close()
        self._keep_size()
        self.window.leaving = True
        self.window.close()
        self._checks.stop()
        self.devices.close()
        self.station.close()
        self.runner.close()
        if self.bench is not None:
            self.bench.close()
        self.ledger.close()


def run(opening: Opening, folder: Path | None = None) -> int:
    """Opens the window and stays until it is closed; a folder is taken as a card."""
    app = QApplication.instance() or QApplication(sys.argv[:1])
    assert isinstance(app, QApplication)
    app.setApplicationName("Diadoche")
    # As the desktop entry is called: by it a desktop knows whose window this is.
    app.setDesktopFileName("diadoche")
    app.setWindowIcon(QIcon(str(Path(__file__).with_name("diadoche.svg"))))
    # The window may be out of sight while cards are read; it ends when it says so.
    app.setQuitOnLastWindowClosed(False)
    # A thread that reckons hands over to the window ten times as soon as it would: nobody notices it but the hand.
    sys.setswitchinterval(SWITCH_S)
    install_hook()
    quit_on_signals(app)
    one = OneWindow(opening.places.ledger)
    try:
        until_s = time.monotonic() + _FIRST_ANSWERS_S
        # Two windows on one ledger would run its jobs twice. The first may not listen yet, or end just now.
        while not one.take():
            if bring_first_to_front(one.name, folder):
                return 0
            if time.monotonic() > until_s:
                return _somebody_else(opening)
            time.sleep(_LOOK_AGAIN_S)
        application = Application(app, opening)
    except (DiadocheError, OSError) as error:
        words = error.problem.sentence() if isinstance(error, DiadocheError) else str(error)
        QMessageBox.critical(None, "Diadoche", words)
        return 1
    later = SecondStarts(one.name, application.come_to_front)
    application.window.show()
    if folder is not None:
        application.desk.cards.sources.open_folder(folder)
    code = app.exec()
    later.close()
    application.close()
    one.let_go()
    return code


def _somebody_else(opening: Opening) -> int:
    QMessageBox.critical(
        None,
        "Diadoche",
        f"Another start of the application works on the ledger at {opening.places.ledger}, and does not answer. "
        "Its copies and yours are safe. Wait until it has ended, or end it.",
    )
    return 1
