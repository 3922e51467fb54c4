"""The clips of a shoot as lines, read once for all screens that show them, away from the window."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import replace

from diadoche.core.identify.alike import Majority, majority_of
from diadoche.screens.lines import Line, line_of, lines_of, zone_of
from diadoche.services.jobs.identify import IdentifiedClip
from diadoche.services.ledger.kept_clips import kept_clips
from diadoche.services.ledger.ledger import Ledger
from diadoche.services.ledger.opinions import Opinion, judge_clips
from diadoche.services.queue.runner import Job
from diadoche.services.station.playback_survey import PlaybackSurvey
from diadoche.services.station.station import Station

Read = tuple[list[Line], Majority | None]
# Does work apart, and then something with what came of it, on the thread of the window.
ReadInBackground = Callable[[Callable[[], Read], Callable[[Read | None], None]], None]


def at_once(work: Callable[[], Read], then: Callable[[Read | None], None]) -> None:
    """Here and now, for whoever has no window to keep quick."""
    then(work())


class Shelf:
    """All lines of the shoot at hand, in order of time."""

    def __init__(self, station: Station, ledger: Ledger, apart: ReadInBackground = at_once) -> None:
        self._station = station
        self._ledger = ledger
        self._apart = apart
        self._reading = self._again = False
        self.paces = PlaybackSurvey(ledger, station.runner)
        self.lines: list[Line] = []
        self.majority: Majority | None = None
        self.listeners: list[Callable[[], None]] = []
        self.loaded = False

    def refresh(self) -> None:
        """Reads the ledger anew; what is asked for meanwhile is done once, afterwards."""
        if self._reading:
            self._again = True
            return
        self._reading = True
        shoot_id = self._station.shoot.id
        self._apart(lambda: lines_of(kept_clips(self._ledger, shoot_id)), self._came)

    def _came(self, read: Read | None) -> None:
        """Nothing where the ledger could not be read just now: what is shown stays."""
        self._reading = False
        if read is not None:
            self.loaded = True
            self.lines, self.majority = read
        if self._again:
            self._again = False
            self.refresh()
        self._tell()

    def measure_playback(self) -> None:
        """Has measured how what is new plays here."""
        self.paces.measure((line.make, line.clip) for line in self.lines)

    def job_changed(self, job: Job) -> None:
        """Takes in how footage plays, as soon as that was measured."""
        if self.paces.job_changed(job):
            self._tell()

    def clip_identified(self, found: IdentifiedClip) -> None:
        """Takes in what has just been found of one clip."""
        for place, line in enumerate(self.lines):
            if line.clip.id == found.clip_id:
                self._put(place, replace(line, clip=replace(line.clip, facts=found.facts)))
                self.majority = majority_of(each.clip.facts for each in self.lines if each.clip.facts is not None)
                self._tell()

    def judge(self, opinions: list[tuple[int, Opinion]]) -> None:
        """Writes down what the person thinks of some clips."""
        judge_clips(self._ledger, opinions)
        wanted = dict(opinions)
        for place, line in enumerate(self.lines):
            if line.clip.id in wanted:
                self._put(place, replace(line, clip=replace(line.clip, opinion=wanted[line.clip.id])))
        self._tell()

    def _put(self, place: int, line: Line) -> None:
        self.lines[place] = line_of(line.clip, zone_of([each.clip for each in self.lines]), line.majority)

    def _tell(self) -> None:
        for listener in list(self.listeners):
            listener()
