"""The queue as a state machine: events in, instructions out. No thread, no clock, no process.

Each job needs one resource; at most `limit` jobs of a resource run at once. Waiting jobs start in
order of their rank, then of their number: offloads come before all else.
"""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import dataclass, replace
from enum import Enum


class State(Enum):
    """Where a job stands."""

    WAITING = "waiting"
    RUNNING = "running"
    STOPPING = "stopping"
    DONE = "done"
    FAILED = "failed"
    STOPPED = "stopped"

    @property
    def ended(self) -> bool:
        """Whether it will not change any more by itself."""
        return self is State.DONE or self is State.FAILED or self is State.STOPPED

    @property
    def at_work(self) -> bool:
        """Whether its process runs."""
        return self is State.RUNNING or self is State.STOPPING


@dataclass(frozen=True, slots=True)
class Entry:
    """A job as the state machine knows it."""

    number: int
    resource: str
    rank: int
    alone: bool = False
    state: State = State.WAITING


@dataclass(frozen=True, slots=True)
class Added:
    """A job joins the queue."""

    number: int
    resource: str
    rank: int
    # Whether it needs its resource for itself: what it measures must not be disturbed.
    alone: bool = False


@dataclass(frozen=True, slots=True)
class StopAsked:
    """The person wants it stopped."""

    number: int


@dataclass(frozen=True, slots=True)
class RetryAsked:
    """The person wants it again."""

    number: int


@dataclass(frozen=True, slots=True)
class FirstAsked:
    """The person wants it before the others that wait."""

    number: int


@dataclass(frozen=True, slots=True)
class Ended:
    """Its process ended: done, failed or stopped."""

    number: int
    state: State


@dataclass(frozen=True, slots=True)
class StartWork:
    """Instruction: start its process."""

    number: int


@dataclass(frozen=True, slots=True)
class StopWork:
    """Instruction: ask its process to stop."""

    number: int


Event = Added | StopAsked | RetryAsked | FirstAsked | Ended
Instruction = StartWork | StopWork


class QueueState:
    """All jobs of this run of the application, and who may run."""

    def __init__(self, limits: dict[str, int]) -> None:
        """`limits` by the word in front of a resource's colon; one at a time where nothing is said."""
        self._limits = limits
        self.entries: dict[int, Entry] = {}

    def handle(self, event: Event) -> list[Instruction]:
        """Takes an event; late and needless ones change nothing.

        Raises:
            ValueError: the event contradicts what is known.
        """
        return self.handle_all([event])

    def handle_all(self, events: Iterable[Event]) -> list[Instruction]:
        """Takes events that come together; only then is it looked for what may start.

        Raises:
            ValueError: one contradicts what is known.
        """
        instructions: list[Instruction] = []
        for event in events:
            instructions += self._handled(event)
        return instructions + self._starts()

    def _handled(self, event: Event) -> list[Instruction]:
        if isinstance(event, Added):
            if event.number in self.entries:
                raise ValueError(f"job {event.number} is in the queue already")
            self.entries[event.number] = Entry(event.number, event.resource, event.rank, event.alone)
            return []
        entry = self.entries.get(event.number)
        if entry is None:
            raise ValueError(f"there is no job {event.number}")
        return self._changed(entry, event)

    def _changed(self, entry: Entry, event: StopAsked | RetryAsked | FirstAsked | Ended) -> list[Instruction]:
        if isinstance(event, StopAsked):
            if entry.state is State.WAITING:
                self._set(entry, State.STOPPED)
            elif entry.state is State.RUNNING:
                self._set(entry, State.STOPPING)
                return [StopWork(entry.number)]
        elif isinstance(event, FirstAsked):
            first = min(each.rank for each in self.entries.values())
            self.entries[entry.number] = replace(entry, rank=min(first, entry.rank) - 1)
        elif isinstance(event, RetryAsked):
            if entry.state in {State.FAILED, State.STOPPED}:
                self._set(entry, State.WAITING)
        elif entry.state.at_work:
            if not event.state.ended:
                raise ValueError(f"a job cannot end as {event.state.value}")
            self._set(entry, event.state)
        return []

    def _set(self, entry: Entry, state: State) -> None:
        self.entries[entry.number] = replace(entry, state=state)

    def _starts(self) -> list[Instruction]:
        busy: dict[str, int] = {}
        # Resources that take nobody more: what comes later does not overtake what waits for them.
        taken: set[str] = set()
        for entry in self.entries.values():
            if entry.state.at_work:
                busy[entry.resource] = busy.get(entry.resource, 0) + 1
                taken |= {entry.resource} if entry.alone else set()
        starts: list[Instruction] = []
        waiting = [entry for entry in self.entries.values() if entry.state is State.WAITING]
        for entry in sorted(waiting, key=lambda each: (each.rank, each.number)):
            limit = 1 if entry.alone else self._limits.get(entry.resource.partition(":")[0], 1)
            if entry.resource in taken or busy.get(entry.resource, 0) >= limit:
                taken.add(entry.resource)
                continue
            busy[entry.resource] = busy.get(entry.resource, 0) + 1
            taken |= {entry.resource} if entry.alone else set()
            self._set(entry, State.RUNNING)
            starts.append(StartWork(entry.number))
        return starts
