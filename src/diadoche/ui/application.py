"""Starts the window: ledger, queue, station, screens, and the demo behind it where that is asked for."""

from __future__ import annotations

import logging
import sys
import traceback
from collections.abc import Callable
from dataclasses import dataclass, replace
from datetime import UTC, datetime
from pathlib import Path
from types import TracebackType

from PyQt6.QtWidgets import QApplication, QMessageBox

from diadoche.core.errors import DiadocheError
from diadoche.screens.desk import Desk
from diadoche.services.all_kinds import ALL_KINDS
from diadoche.services.devices.bench import PACE_BYTES_S, Bench
from diadoche.services.devices.disk_watch import Medium
from diadoche.services.ledger.ledger import Ledger
from diadoche.services.places import StatePlaces
from diadoche.services.queue.runner import Job, Runner
from diadoche.services.recording import record
from diadoche.services.settings import Scheme, load_settings, save_settings
from diadoche.services.shoots import ShootSettings, latest_shoot, open_shoot, proposed_name
from diadoche.services.station import Station
from diadoche.ui.bridge import Bridge
from diadoche.ui.main_window import MainWindow
from diadoche.ui.theme import Theme

LOG = logging.getLogger(__name__)
_LARGEST_PERCENT, _SMALLEST_PERCENT, _STEP_PERCENT = 200, 80, 10


@dataclass(frozen=True, slots=True)
class Opening:
    """What the window opens on. With a bench, `cards` says where its cards lie."""

    places: StatePlaces
    shoot: str = ""
    settings: ShootSettings | None = None
    bench_folder: Path | None = None
    cards_folder: Path | None = None
    pace_bytes_s: int = PACE_BYTES_S
    coming: Callable[[], str] = lambda: ""


class Application:
    """The running application; `close` ends everything it started."""

    def __init__(self, app: QApplication, opening: Opening) -> None:
        self._app = app
        self._places = opening.places
        self.theme = Theme(app)
        self._settings = load_settings(opening.places.config)
        self.theme.apply(self._settings.scheme, self._settings.text_percent)
        self.ledger = Ledger(opening.places.ledger)
        self._bridge = Bridge(self._take)
        self.runner = Runner(self.ledger, ALL_KINDS, self._bridge.post, lambda job: record(self.ledger, job))
        shoot = (
            open_shoot(self.ledger, opening.shoot, opening.settings)
            if opening.shoot
            else latest_shoot(self.ledger) or open_shoot(self.ledger, proposed_name(datetime.now(UTC).date()))
        )
        self.station = Station(self.ledger, self.runner, opening.places, shoot)
        self.desk = Desk(self.ledger, self.runner, self.station)
        self.bench = self._bench(opening)
        self.window = MainWindow(self.theme, self.desk, self.bench, scheme=self._change_scheme, text=self._change_text)
        if self.bench is not None:
            self.bench.start(self.station.put_in, self.station.pulled_out)
        self.runner.recover()

    def _bench(self, opening: Opening) -> Bench | None:
        folder = opening.cards_folder
        if folder is None or opening.bench_folder is None:
            return None
        return Bench(
            opening.bench_folder,
            lambda: sorted(path for path in folder.glob("*") if path.is_dir() and not path.name.startswith(".")),
            opening.pace_bytes_s,
            opening.coming,
        )

    def _take(self, news: object) -> None:
        assert isinstance(news, Job | Medium)
        if isinstance(news, Job):
            self.desk.job_changed(news)

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

    def close(self) -> None:
        """Ends every process; unfinished jobs go on at the next start."""
        self.window.close()
        self.runner.close()
        self.ledger.close()


def install_hook() -> None:
    """A defect is shown as one, and the window goes on; without this, PyQt ends the program."""

    def hook(kind: type[BaseException], error: BaseException, trace: TracebackType | None) -> None:
        text = "".join(traceback.format_exception(kind, error, trace))
        LOG.error(text)
        box = QMessageBox(
            QMessageBox.Icon.Warning, "Diadoche", "The program failed at this. Originals and copies are untouched."
        )
        box.setDetailedText(text)
        box.exec()

    sys.excepthook = hook


def run(opening: Opening) -> int:
    """Opens the window and stays until it is closed."""
    app = QApplication.instance() or QApplication(sys.argv[:1])
    assert isinstance(app, QApplication)
    app.setApplicationName("Diadoche")
    install_hook()
    try:
        application = Application(app, opening)
    except DiadocheError as error:
        QMessageBox.critical(None, "Diadoche", error.problem.sentence())
        return 1
    application.window.show()
    code = app.exec()
    application.close()
    return code
