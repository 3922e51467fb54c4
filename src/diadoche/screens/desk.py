"""All screens of one shoot together, and how news from the queue reaches each of them."""

from __future__ import annotations

from collections.abc import Callable

from diadoche.screens.cards import CardsScreen
from diadoche.screens.footage import FootageScreen
from diadoche.screens.ledger import LedgerScreen
from diadoche.screens.outputs import OutputsScreen
from diadoche.screens.shelf import Shelf
from diadoche.screens.undo import Undo
from diadoche.screens.watch_line import WatchLine
from diadoche.screens.work import WorkScreen
from diadoche.services.jobs.identify import IdentifiedClip
from diadoche.services.ledger.ledger import Ledger
from diadoche.services.queue.runner import Job, Runner
from diadoche.services.queue.states import State
from diadoche.services.station.station import Station

_NEW_COPIES = {"copy on", "level", "restore", "rebuild", "take in", "verify"}


class Desk:
    """Everything the window shows; used on one thread."""

    def __init__(self, ledger: Ledger, runner: Runner, station: Station) -> None:
        self.station = station
        self.undo = Undo()
        self.shelf = Shelf(station, ledger, self.undo)
        self._shoot = station.shoot.id
        self._runner = runner
        self._unmeasured = False
        self._jobs_changed = False
        # Does something a little later; the window puts its own events between, so that no single one is long.
        self.later: Callable[[Callable[[], None]], None] = lambda doing: doing()
        self._pending: list[Callable[[], None]] = []
        self.ledger = LedgerScreen(station)
        self.cards = CardsScreen(station, ledger, self.undo, self.ledger.everything)
        self.footage = FootageScreen(self.shelf, ledger)
        self.outputs = OutputsScreen(station, ledger, runner, self.shelf)
        self.footage.write_spheres = self.outputs.write_spheres
        self.footage.convert_clip_parts = self.outputs.convert_parts
        self.work = WorkScreen(runner)
        self.ledger.on_read = self._waybills_read
        self.footage.fetch_clip = self.ledger.fetch_clip
        station.listeners.append(self._cards_changed)
        self.shelf.listeners.append(lambda _change: self._measure_playback())

    def begin(self) -> None:
        """Reads the clips of the shoot: the window calls it when it stands, for thousands take their time."""
        self.shelf.refresh()

    def watch_line(self) -> WatchLine:
        """The sentence on top."""
        return self.cards.watch_line(self.work.running())

    def job_changed(self, job: Job) -> None:
        """A job changed; the screens it concerns read what is new."""
        self.station.job_changed(job)
        self.ledger.job_changed(job)
        self.shelf.job_changed(job)
        # What is new is measured as soon as the shelf has it.
        self._unmeasured |= job.state is State.DONE and job.kind in {"identify", "make", "stitch"}
        if job.state is State.DONE and job.kind in {"offload", "identify"}:
            self._soon(self._read_waybills, self.shelf.refresh)
        if job.state is State.DONE and job.kind in _NEW_COPIES:
            self._soon(self.shelf.refresh)
        if job.state.ended and job.kind == "offload":
            self._soon(self._measure_playback)
        if job.state.ended and job.kind == "calibrate":
            problem = job.problem.sentence() if job.problem is not None else ""
            self.outputs.stitching.calibrated(job.number, job.result, problem)
        if job.state is State.DONE and job.kind == "stitch":
            self.outputs.stitching.reload()
        if job.state.ended and job.kind in {"make", "stitch"}:
            self.outputs.job_ended(job.request)
            self.shelf.refresh()
        if job.state.ended and not self.work.running() and job.kind != "identify":
            self._soon(self.station.look_at_the_rest)
        # Thousands of jobs may be asked for at once: they are shown together.
        self._jobs_changed = True
        self._show_soon()

    def _read_waybills(self) -> None:
        """Once for both that show them."""
        self.ledger.refresh()

    def _waybills_read(self) -> None:
        self.cards.take_waybills(self.ledger.everything)
        self.cards.on_change()

    def _measure_playback(self) -> None:
        """How footage plays is measured when no card is copied: both would be the slower for it."""
        if self._unmeasured and not any(job.kind == "offload" and not job.state.ended for job in self._runner.jobs()):
            self._unmeasured = False
            self.shelf.measure_playback()

    def files_changed(self) -> None:
        """Something else is known of files on places: outputs, copies, waybills."""
        self._soon(self.outputs.refresh, self._read_waybills)

    def own_changed(self) -> None:
        """The person's own recipes, profiles, rigs or layouts are others than before."""
        self._soon(self.outputs.own_changed)

    def noted(self) -> None:
        """What happened has been written down."""
        self._soon(self.ledger.read_happened)

    def clip_identified(self, found: IdentifiedClip) -> None:
        """Something is known of a clip, before its job has ended."""
        self.shelf.clip_identified(found)

    def _cards_changed(self) -> None:
        if self.station.shoot.id != self._shoot:
            self._shoot = self.station.shoot.id
            self.undo.forget()
            self._soon(self.shelf.refresh)
        # The sentence follows at once: what it says must never be behind. The board is drawn once for many changes.
        self.cards.on_line()
        self._show_soon()

    def _show_soon(self) -> None:
        if self._show not in self._pending:
            # Before all else that waits: board and sentence are looked at together.
            self._pending.insert(0, self._show)
            self.later(self._refresh_next)

    def _show(self) -> None:
        if self._jobs_changed:
            self._jobs_changed = False
            self.work.on_change()
        self.cards.on_change()

    def _soon(self, *refreshes: Callable[[], None]) -> None:
        """Each once, however many cards end together."""
        for refresh in refreshes:
            if refresh not in self._pending:
                self._pending.append(refresh)
                self.later(self._refresh_next)

    def _refresh_next(self) -> None:
        if self._pending:
            self._pending.pop(0)()

    def close(self) -> None:
        """Nothing more is read from the ledger."""
        self._pending.clear()
        self.later = lambda _doing: None
