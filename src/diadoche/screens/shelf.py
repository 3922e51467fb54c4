"""The clips of a shoot as lines, read once for all screens that show them, away from the window."""

from __future__ import annotations

from collections.abc import Callable, Iterable
from dataclasses import dataclass, replace
from datetime import tzinfo

from diadoche.core.errors import LedgerRefuses
from diadoche.core.identify.alike import Majority, Tally
from diadoche.screens.lines import Line, ReadLines, line_of, lines_of, say_of
from diadoche.screens.undo import Undo
from diadoche.services.jobs.identify import IdentifiedClip
from diadoche.services.ledger.kept_clips import kept_clips
from diadoche.services.ledger.ledger import Ledger
from diadoche.services.ledger.opinions import Opinion, judge_clips
from diadoche.services.queue.runner import Job
from diadoche.services.station.playback_survey import PlaybackSurvey
from diadoche.services.station.station import Station


@dataclass(frozen=True, slots=True)
class ClipsChanged:
    """What is told of clips.

    Attributes:
        clip_ids: which say something else than before; None where all were read anew.
        judged: that is what the person says of them, and nothing else.
    """

    clip_ids: frozenset[int] | None = None
    judged: bool = False


class Shelf:
    """All lines of the shoot at hand, in order of time."""

    def __init__(self, station: Station, ledger: Ledger, undo: Undo) -> None:
        self._undo = undo
        self._station = station
        self._ledger = ledger
        self._reading = self._again = False
        self.paces = PlaybackSurvey(ledger, station.runner)
        self.lines: list[Line] = []
        # Where each clip stands among the lines, by its id; the zone that all times are told in; sizes and rates.
        self._places: dict[int, int] = {}
        self._zone: tzinfo | None = None
        self._tally = Tally()
        # How many clips stand out from those of their cards.
        self.odd = 0
        # How often something was found of clips.
        self.found = 0
        # What is found of clips is told together, some times a second; the window puts a timer here.
        self.gather: Callable[[Callable[[], None]], None] = lambda doing: doing()
        self._gathering = False
        self._found: set[int] = set()
        # What was said of clips, and the number of its writing, until a reading begins after it was written.
        self._said: dict[int, Opinion] = {}
        self._writing_of: dict[int, int] = {}
        self._last_writing = self._last_written = 0
        self.listeners: list[Callable[[ClipsChanged], None]] = []
        self.loaded = False

    def refresh(self) -> None:
        """Reads the ledger anew; what is asked for meanwhile is done once, afterwards."""
        if self._reading:
            self._again = True
            return
        self._reading = True
        shoot_id = self._station.shoot.id
        is_there, written = self._station.is_there, self._last_written
        known, zone = list(self.lines), self._zone

        def came(read: ReadLines | Exception) -> None:
            self._came(read, written)

        self._station.in_background(lambda: lines_of(kept_clips(self._ledger, shoot_id, is_there), known, zone), came)

    def _came(self, read: ReadLines | Exception, written: int) -> None:
        """Takes in what was read.

        Args:
            read: an error where the ledger could not be read just now: what is shown stays.
            written: the last writing that was done before the reading began; what was said later stands as said.
        """
        self._reading = False
        if not isinstance(read, Exception):
            self.loaded = True
            self.lines, self._tally, self._zone = read.lines, read.tally, read.zone
            self._writing_of = {clip_id: number for clip_id, number in self._writing_of.items() if number > written}
            self._said = {clip_id: self._said[clip_id] for clip_id in self._writing_of}
            say_of([line for line in self.lines if line.clip.id in self._said], self._said)
            self._places = {line.clip.id: place for place, line in enumerate(self.lines)}
            self.odd = sum(bool(line.odd) for line in self.lines)
        if self._again:
            self._again = False
            self.refresh()
        self._tell(ClipsChanged())

    @property
    def majority(self) -> Majority | None:
        """What most clips have in common; None where none has a picture that moves."""
        return self._tally.majority

    def measure_playback(self) -> None:
        """Has measured how what is new plays here."""
        self.paces.measure(((line.make, line.clip) for line in self.lines), self._station.is_there)

    def job_changed(self, job: Job) -> None:
        """Takes in how footage plays, as soon as that was measured."""
        if self.paces.job_changed(job):
            # A pace belongs to all clips of a make: nothing of their rows, but what is told beside them.
            self._tell(ClipsChanged(frozenset()))

    def clip_identified(self, found: IdentifiedClip) -> None:
        """Takes in what has just been found of one clip."""
        place = self._places.get(found.clip_id)
        if place is None:
            return
        clip = self.lines[place].clip
        if clip.facts is not None:
            self._tally.add(clip.facts, -1)
        self._tally.add(found.facts)
        self.found += 1
        before = self.lines[place]
        line = self.lines[place] = line_of(replace(clip, facts=found.facts), self._zone, before.majority)
        self.odd += bool(line.odd) - bool(before.odd)
        self._found.add(found.clip_id)
        if not self._gathering:
            self._gathering = True
            self.gather(self._tell_gathered)

    def _tell_gathered(self) -> None:
        self._gathering = False
        found, self._found = frozenset(self._found), set()
        self._tell(ClipsChanged(found))

    def judge(self, opinions: dict[int, Opinion], what: str) -> None:
        """Writes down what the person thinks of some clips, by their ids; `what` says it, for taking it back."""
        lines = self.chosen(opinions)
        before = {line.clip.id: line.clip.opinion for line in lines}
        if before:
            self._undo.note(what, lambda: self._write(before, self.chosen(before)))
        self._write(opinions, lines)

    def _write(self, opinions: dict[int, Opinion], lines: list[Line]) -> None:
        self._last_writing += 1
        number = self._last_writing

        def write() -> None:
            try:
                judge_clips(self._ledger, list(opinions.items()))
            except LedgerRefuses:
                # It will never stand there: what does is shown again, not what was said.
                self._last_written = number
                self._station.in_background(lambda: None, lambda _nothing: self.refresh())
                raise
            self._last_written = number

        self._said.update(opinions)
        self._writing_of.update(dict.fromkeys(opinions, number))
        say_of(lines, opinions)
        try:
            self._tell(ClipsChanged(frozenset(opinions), judged=True))
        finally:
            # Another program may hold the ledger: nobody waits for it, and what was said is shown before it is written;
            # written it is also where showing it fails.
            self._ledger.writer.do(write)

    def chosen(self, clip_ids: Iterable[int]) -> list[Line]:
        """The lines of some clips, in the order in which they are named."""
        places, lines = self._places, self.lines
        return [lines[places[clip_id]] for clip_id in clip_ids if clip_id in places]

    def has(self, clip_id: int) -> bool:
        """Whether a clip is among the lines."""
        return clip_id in self._places

    def _tell(self, change: ClipsChanged) -> None:
        for listener in list(self.listeners):
            listener(change)
