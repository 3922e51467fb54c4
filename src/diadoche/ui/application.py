"""Starts the window: ledger, queue, station, screens, and the demo behind it where that is asked for."""

from __future__ import annotations

import gc
import logging
import threading
from collections.abc import Callable
from dataclasses import dataclass, replace
from datetime import UTC, datetime
from pathlib import Path
from typing import TYPE_CHECKING, Any

from PyQt6.QtCore import Qt, QTimer
from PyQt6.QtWidgets import QApplication

from diadoche.screens.attendant import Attendant
from diadoche.screens.desk import Desk
from diadoche.screens.shelf import ClipsChanged
from diadoche.services.background import BackgroundThreads, outcome_of
from diadoche.services.devices.desktop import PopUps
from diadoche.services.devices.devices import NETWORK, CameIn, Devices, NoticeWanted, Said, WentOut
from diadoche.services.jobs.all_kinds import ALL_KINDS
from diadoche.services.jobs.identify import IdentifiedClip
from diadoche.services.ledger.happenings import note_soon
from diadoche.services.ledger.job_results import record, record_part
from diadoche.services.ledger.ledger import Ledger
from diadoche.services.ledger.shoots import ShootSettings, latest_shoot, open_shoot, proposed_name
from diadoche.services.machine.settings import (
    LARGEST_PERCENT,
    SMALLEST_PERCENT,
    Scheme,
    Settings,
    load_settings,
    save_settings,
)
from diadoche.services.machine.state_places import StatePlaces
from diadoche.services.queue.runner import Job, Runner
from diadoche.services.station.station import Station
from diadoche.ui.asks import Asks
from diadoche.ui.bridge import Bridge
from diadoche.ui.main_window import MainWindow, first_window
from diadoche.ui.views import make_views

if TYPE_CHECKING:
    # Loaded for the demo alone: it draws cameras, and a start of the application would wait for that.
    from diadoche.demo.bench import Bench
    from diadoche.demo.opening import DemoDay
    from diadoche.ui.demo_day import DemoHands

LOG = logging.getLogger(__name__)
_GATHERED_MS = 100
_CHECK_EVERY_MS = 60 * 60 * 1000
_OWN_EVERY_MS = 2000
# A disk that does not answer keeps nobody from closing.
_SAVED_WITHIN_S = 2.0
_STEP_PERCENT = 10
_READY_THREADS = 2


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


@dataclass(frozen=True, slots=True)
class _PlacesChanged:
    """Something else is known of the room of places, or of files on them."""

    files: bool


def _keep_out_of_collections(change: ClipsChanged) -> None:
    """Ten thousand clips that stay hold no garbage: searching them for some takes a fifth of a second, at any time."""
    if change.clip_ids is None:
        # What is garbage now would be kept with them.
        gc.collect(1)
        gc.freeze()


class Application:
    """The running application; `close` ends everything it started."""

    def __init__(self, app: QApplication, opening: Opening, window: MainWindow | None = None) -> None:
        """
        Args:
            app: Qt's application.
            opening: what the window opens on.
            window: one that stands empty, where there is one.
        """
        self._closed = False
        self._places = opening.places
        self._settings = load_settings(opening.places.config)
        self._saving = threading.Lock()
        self._is_saving = False
        self._saved: threading.Event | None = None
        self.window = window if window is not None else first_window(app, opening.places)
        self.theme = self.window.theme
        self.ledger = Ledger(opening.places.ledger)
        self._bridge = Bridge(self._take)
        self._background = BackgroundThreads(_READY_THREADS)
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
            self._own_changed,
        )
        self.devices = Devices(self._bridge.post, opening.places.state / "shares", self.bench)
        self.desk = Desk(self.ledger, self.runner, self.station)
        self.desk.later = lambda doing: self._after_ms(0, doing)
        self.desk.shelf.gather = lambda doing: self._after_ms(_GATHERED_MS, doing)
        self.desk.shelf.listeners.append(_keep_out_of_collections)
        self.desk.cards.let_out = self.devices.let_out
        self._pop_ups = PopUps(self._remember_pop_ups, self._settings.pop_ups)
        self.attendant = Attendant(self.station, hold=self.devices.sleep.hold, show=self._notify)
        asks = self._asks()
        self.window.fill(make_views(self.theme, self.desk, self.bench, asks), self.desk, asks)
        self.window.take_column_widths(self._settings.columns)
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
        self._own_looks = QTimer()
        self._own_looks.timeout.connect(self.station.own.look_again)
        self._own_looks.start(_OWN_EVERY_MS)

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
        self._save_soon()

    def _save_soon(self) -> threading.Event:
        """Has the settings kept, where nobody waits for a disk that others write to."""
        with self._saving:
            # One thread writes, however often they change: the disk may hang.
            if self._saved is None or self._saved.is_set() or not self._is_saving:
                self._is_saving = True
                self._saved = self._background.do(self._save)
            return self._saved

    def _save(self) -> None:
        kept: Settings | None = None
        while True:
            with self._saving:
                if self._settings is kept:
                    self._is_saving = False
                    return
                kept = self._settings
            try:
                save_settings(self._places.config, kept)
            except OSError as error:
                words = f"The settings of the window could not be kept: {error.strerror}."
                note_soon(self.ledger, "problem", words, self._noted)

    def _in_background(self, work: Callable[[], Any], then: Callable[[Any], None]) -> None:
        """Does work in another thread, beside all else; what came of it is taken in on the window's."""

        def do() -> None:
            try:
                outcome = outcome_of(work)
            except Exception as error:
                # Told as nobody foresaw it; and who waits for it hears of it too, or would wait for ever.
                self._bridge.post(_Came(then, error))
                raise
            self._bridge.post(_Came(then, outcome))

        self._background.do(do)

    def _places_changed(self, *, files: bool) -> None:
        """On any thread: something else is known of places, or of files on them."""
        if not self._closed:
            self._bridge.post(_PlacesChanged(files))

    def _noted(self) -> None:
        """On any thread: what happened stands in the ledger."""
        if not self._closed:
            self._bridge.post(_Came(lambda _nothing: self.desk.noted(), None))

    def _own_changed(self) -> None:
        """On any thread: the person's own files are others."""
        if not self._closed:
            self._bridge.post(_Came(lambda _nothing: self.desk.own_changed(), None))

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
        percent = min(LARGEST_PERCENT, max(SMALLEST_PERCENT, percent))
        self._settings = replace(self._settings, text_percent=percent)
        self._apply()

    def _apply(self) -> None:
        self.theme.apply(self._settings.scheme, self._settings.text_percent)
        self.window.look_again()
        self._save_soon()

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
            self._save_soon().wait(_SAVED_WITHIN_S)

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
        self._own_looks.stop()
        self.devices.close()
        self.station.close()
        self.runner.close()
        self._background.close()
        if self.bench is not None:
            self.bench.close()
        self.ledger.close()
