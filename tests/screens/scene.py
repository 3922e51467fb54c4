"""A desk with real values, and a runner that only notes: the test says what becomes of each job."""

from __future__ import annotations

import shutil
from collections.abc import Iterator, Sequence
from dataclasses import replace
from datetime import UTC, datetime
from pathlib import Path
from typing import Any

from diadoche.core.disks import Disk
from diadoche.core.watch import Progress, Watch
from diadoche.screens.desk import Desk
from diadoche.screens.footage import FootageScreen
from diadoche.screens.lines import Line
from diadoche.services.devices.disk_watch import Medium
from diadoche.services.jobs.all_kinds import ALL_KINDS
from diadoche.services.jobs.list_card import ListCardRequest, perform_list_card
from diadoche.services.ledger.job_results import record
from diadoche.services.ledger.ledger import Ledger
from diadoche.services.ledger.shoots import ShootSettings, open_shoot
from diadoche.services.machine.state_places import StatePlaces
from diadoche.services.queue.runner import Job, NewJob
from diadoche.services.queue.states import State
from diadoche.services.station.station import Station


def _own_disk(place: Path) -> Disk:
    """Every place is a disk of its own here."""
    return Disk(f"simulated:{place.name}", "disk", f"disk {place.name}")


class NotingRunner:
    """Takes jobs and does nothing; the test says what became of them."""

    def __init__(self) -> None:
        self.added: list[Job] = []
        self.stopped: list[int] = []
        self.shown: dict[int, Progress] = {}
        self.paused: set[int] = set()
        self.silent_s: dict[int, float] = {}

    def add(self, kind: str, title: str, resource: str, request: object) -> int:
        number = len(self.added) + 1
        self.added.append(Job(number, kind, title, resource, request, State.WAITING, datetime.now(UTC)))
        return number

    def add_all(self, jobs: Sequence[NewJob]) -> list[int]:
        return [self.add(each.kind, each.title, each.resource, each.request) for each in jobs]

    def stop(self, number: int) -> None:
        self.stopped.append(number)

    def progress(self, number: int) -> Progress | None:
        return self.shown.get(number)

    def pause(self, number: int, *, paused: bool) -> None:
        self.paused = self.paused | {number} if paused else self.paused - {number}

    def is_paused(self, number: int) -> bool:
        return number in self.paused

    def silent_for_s(self, number: int) -> float:
        return self.silent_s.get(number, 0.0)

    def jobs(self) -> list[Job]:
        return self.added

    def at_work(self) -> list[Job]:
        return [job for job in self.added if job.state.at_work]

    def count(self, *states: State) -> int:
        return sum(job.state in states for job in self.added)

    def last(self, kind: str) -> Job:
        return next(job for job in reversed(self.added) if job.kind == kind)


class Scene:
    """A desk, and how its jobs end."""

    def __init__(self, folder: Path, cache: Path | None = None, **settings: Any) -> None:
        """`cache` remembers what was found of clips, by their content."""
        self.ledger = Ledger(folder / "ledger.sqlite")
        self.runner = NotingRunner()
        places = StatePlaces(folder / "state", folder / "config", cache or folder / "cache")
        shoot = open_shoot(self.ledger, "Rock", ShootSettings(places=(folder / "A", folder / "B"), **settings))
        self.station = Station(self.ledger, self.runner, places, shoot, _own_disk)  # type: ignore[arg-type]  # by hand
        self.desk = Desk(self.ledger, self.runner, self.station)  # type: ignore[arg-type]  # by hand
        self.desk.begin()

    def written(self) -> None:
        """Waits until the ledger has what was said."""
        assert self.ledger.writer.write_out(10)

    def close(self) -> None:
        """Ends what watches the places, and the ledger."""
        self.written()
        self.station.close()
        self.ledger.close()

    def tell(self, job: Job, state: State, result: Any = None) -> None:
        job = replace(job, state=state, result=result)
        if state is State.DONE:
            # As the queue does it, away from the window's thread.
            job = replace(job, noted=record(self.ledger, job))
        self.runner.added[job.number - 1] = job
        self.desk.job_changed(job)

    def listed(self, card: Path, key: str = "r1") -> str:
        """Puts a card in, and lists it."""
        self.station.put_in(Medium(key, card, card.name, f"Reader {key[1:]}", can_eject=True))
        self.tell(self.runner.last("look"), State.DONE, perform_list_card(ListCardRequest(card), Watch()))
        return key

    def carried_out(self, kind: str = "offload") -> Any:
        """Does the newest job of a kind for real, as its process would."""
        job = self.runner.last(kind)
        self.tell(job, State.RUNNING)
        result = ALL_KINDS[kind].perform(job.request, Watch())
        self.tell(job, State.DONE, result)
        return result

    def offloaded(self, card: Path, key: str = "r1") -> str:
        """Puts a card in, and offloads it."""
        self.listed(card, key)
        self.desk.cards.offload(key)
        self.carried_out()
        return key


def kept_aside(folder: Path) -> Path:
    """A shoot that was made once, its ledger aside: `begun_anew` begins with that."""
    (folder / "ledger.sqlite").rename(folder / "as-made.sqlite")
    return folder


def begun_anew(shoot: Path) -> Iterator[Scene]:
    """A scene on a shoot that was made once, as it was then."""
    for left in shoot.glob("ledger.sqlite*"):
        left.unlink()
    shutil.copy(shoot / "as-made.sqlite", shoot / "ledger.sqlite")
    made = Scene(shoot)
    yield made
    made.close()


def texts(footage: FootageScreen, row: int) -> tuple[str, ...]:
    """What the table of footage says of a clip."""
    line = footage.rows[row]
    assert isinstance(line, Line)
    return tuple(line.text(column.name) for column in footage.columns)
