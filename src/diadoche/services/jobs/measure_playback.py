"""Whether footage and outputs play in real time on this machine: measured once for each make, and remembered."""

from __future__ import annotations

import time
from dataclasses import dataclass
from pathlib import Path

import psutil

from diadoche.core.errors import DiadocheError
from diadoche.core.footage.pace import Pace, measure_pace
from diadoche.core.identify.facts import Facts
from diadoche.core.identify.probe import identify
from diadoche.core.rates import spoken_rate
from diadoche.core.watch import Progress, Watch
from diadoche.services.jobs.job_kind import JobKind
from diadoche.services.side_processes.player import VIEW_PX

# A share of the whole machine that others may take before a figure is said to be disturbed.
_DISTURBED = 0.2
# What the ledger remembers paces under.
PLAYBACK_SCOPE = "pace"


@dataclass(frozen=True, slots=True)
class PlaybackSubject:
    """What is to be measured, and what it stands for. Facts of None are read first."""

    key: str
    paths: tuple[Path, ...]
    facts: Facts | None = None


@dataclass(frozen=True, slots=True)
class PlaybackRequest:
    """Everything that is to be measured."""

    subjects: tuple[PlaybackSubject, ...]


@dataclass(frozen=True, slots=True)
class MeasuredPlayback:
    """What was reached. `disturbed`: others used much of the machine meanwhile, so that it can do more."""

    key: str
    pace: Pace
    disturbed: bool = False

    def replaces(self, before: MeasuredPlayback | None) -> bool:
        """Whether it is believed rather than an earlier figure: a disturbed one never takes a sure one's place."""
        return before is None or before.disturbed or not self.disturbed


def perform_measure_playback(request: PlaybackRequest, watch: Watch) -> tuple[MeasuredPlayback, ...]:
    """Measures each subject; what does not play at all is left out.

    Raises:
        Cancelled: the watch was stopped.
    """
    found = []
    for number, subject in enumerate(request.subjects):
        watch.step(Progress(number, len(request.subjects), subject.paths[0].name))
        try:
            facts = subject.facts or identify(subject.paths, "looked")
            if facts.video and facts.video[0].decodable:
                others = _Others()
                pace = measure_pace(subject.paths, facts, VIEW_PX, watch)
                found.append(MeasuredPlayback(subject.key, pace, others.share() > _DISTURBED))
        except DiadocheError:
            # What is wrong with it, its facts say.
            continue
    return tuple(found)


KIND = JobKind("pace", PlaybackRequest, tuple[MeasuredPlayback, ...], perform_measure_playback, rank=3, alone=True)


class _Others:
    """What share of the machine everybody else takes, from its making on."""

    def __init__(self) -> None:
        self._before = self._now()

    def share(self) -> float:
        """Between 0 and 1 of all processors together."""
        begun_s, busy_before_s, own_before_s = self._before
        now_s, busy_s, own_s = self._now()
        theirs_s = (busy_s - busy_before_s) - (own_s - own_before_s)
        room_s = (now_s - begun_s) * (psutil.cpu_count() or 1)
        return max(0.0, theirs_s) / room_s if room_s else 0.0

    @staticmethod
    def _now() -> tuple[float, float, float]:
        """This moment, and for how long all processors and this process were busy, in seconds."""
        times, own = psutil.cpu_times(), psutil.Process().cpu_times()
        busy_s = times.user + times.nice + times.system + times.irq + times.softirq + times.steal
        return time.perf_counter(), busy_s, own.user + own.system


def playback_words(measured: MeasuredPlayback) -> str:
    """How it plays, in words that follow its name."""
    pace = measured.pace
    meanwhile = ", while other work ran" if measured.disturbed else ""
    if pace.in_real_time:
        return f"plays in real time here, {pace.times_rate:.1f} times its rate{meanwhile}"
    reached = f"{pace.pictures_a_second:.0f} of {spoken_rate(pace.rate)} pictures a second"
    return f"does not play in real time here: {reached}{meanwhile}"


def gain_words(original: MeasuredPlayback | None, output: MeasuredPlayback | None) -> str:
    """What converting did for playing; nothing where that was not measured."""
    if output is None:
        return ""
    words = f"plays here at {output.pace.times_rate:.1f} times its rate"
    if output.disturbed:
        return f"{words}, while other work ran"
    # Only figures taken alike are held against each other.
    return words + (f", the original {original.pace.times_rate:.1f}" if original and not original.disturbed else "")
