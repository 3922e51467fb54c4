"""An offload by the window's own station and screens, and what they say afterwards."""

from __future__ import annotations

from contextlib import ExitStack, closing
from dataclasses import dataclass, replace
from pathlib import Path
from typing import Any

from diadoche.cli.cards import offload_json
from diadoche.core.errors import DiadocheError
from diadoche.core.watch import Watch
from diadoche.screens.desk import Desk
from diadoche.screens.marks import Mark
from diadoche.services.devices.disk_watch import Medium
from diadoche.services.jobs.all_kinds import ALL_KINDS
from diadoche.services.ledger.job_results import record
from diadoche.services.ledger.ledger import Ledger
from diadoche.services.ledger.shoots import ShootSettings, change_shoot, open_shoot
from diadoche.services.machine.state_places import StatePlaces
from diadoche.services.queue.states import State
from diadoche.services.station.station import Station
from tests.screens.scene import NotingRunner


@dataclass(frozen=True)
class WindowClaims:
    """What the window said when an offload had ended."""

    said: dict[str, Any]
    clean: bool
    watch_proven: bool
    watch_words: str
    board_proven: bool
    board_words: str
    may_format: bool


def offloaded_by_the_window(ledger_path: Path, state: Path, card: Path, places: list[Path]) -> WindowClaims | None:
    """Puts a card in, offloads it, and reads what is shown; None where it could not even be listed."""
    with ExitStack() as ending:
        ledger = ending.enter_context(closing(Ledger(ledger_path)))
        settings = ShootSettings(places=tuple(places), copies_wanted=1)
        shoot = change_shoot(ledger, open_shoot(ledger, "S", settings), settings=settings)
        runner = NotingRunner()
        folders = StatePlaces(state / "s", state / "c", state / "cache")
        station = Station(ledger, runner, folders, shoot)  # type: ignore[arg-type]  # by hand
        ending.callback(station.close)
        desk = Desk(ledger, runner, station)  # type: ignore[arg-type]  # by hand
        desk.begin()
        station.put_in(Medium("r1", card, card.name, "Reader 1"))
        if not _done(desk, runner, ledger, "look"):
            return None
        desk.cards.offload_whole("r1")
        if not any(job.kind == "offload" for job in runner.added) or not _done(desk, runner, ledger, "offload"):
            return None
        line, row = desk.watch_line(), desk.cards.rows()[0]
        outcome = runner.last("offload").result
        words = f"{row.kept}. {row.remark} {row.advice}"
        return WindowClaims(
            offload_json(outcome),
            not outcome.card.problems and not outcome.result.problems and outcome.result.proven_copies == len(places),
            line.mark is Mark.PROVEN,
            f"{line.first} {line.second}",
            row.mark is Mark.PROVEN,
            words,
            "may format it" in row.advice,
        )


def _done(desk: Desk, runner: NotingRunner, ledger: Ledger, kind: str) -> bool:
    """Does the newest job of a kind, as its process and the queue would."""
    job = runner.last(kind)
    desk.job_changed(replace(job, state=State.RUNNING))
    try:
        result = ALL_KINDS[kind].perform(job.request, Watch())
    except DiadocheError as error:
        desk.job_changed(replace(job, state=State.FAILED, problem=error.problem))
        return False
    job = replace(job, state=State.DONE, result=result)
    job = replace(job, noted=record(ledger, job))
    runner.added[job.number - 1] = job
    desk.job_changed(job)
    return True
