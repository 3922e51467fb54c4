"""Whether footage and outputs play in real time on this machine: measured once for each make, and remembered."""

from __future__ import annotations

import platform
import time
from collections.abc import Iterable, Sequence
from dataclasses import dataclass
from pathlib import Path

import psutil

from diadoche.core.errors import DiadocheError
from diadoche.core.footage.pace import Pace, measure_pace
from diadoche.core.identify.facts import Facts
from diadoche.core.identify.probe import identify
from diadoche.core.rates import spoken_rate
from diadoche.core.sizes import count_text
from diadoche.core.watch import Progress, Watch
from diadoche.services.ledger.ledger import Ledger
from diadoche.services.ledger.remembered import recall_all, remember
from diadoche.services.ledger.waybills import KeptClip
from diadoche.services.playing import VIEW_PX
from diadoche.services.queue.kinds import JobKind
from diadoche.services.queue.runner import Job, Runner
from diadoche.services.queue.states import State

# A share of the whole machine that others may take before a figure is said to be disturbed.
_DISTURBED = 0.2
_SCOPE = "pace"


@dataclass(frozen=True, slots=True)
class PaceSubject:
    """What is to be measured, and what it stands for. Facts of None are read first."""

    key: str
    paths: tuple[Path, ...]
    facts: Facts | None = None


@dataclass(frozen=True, slots=True)
class PaceRequest:
    """Everything that is to be measured."""

    subjects: tuple[PaceSubject, ...]


@dataclass(frozen=True, slots=True)
class MeasuredPace:
    """What was reached. `disturbed`: others used much of the machine meanwhile, so that it can do more."""

    key: str
    pace: Pace
    disturbed: bool = False


def perform_pace(request: PaceRequest, watch: Watch) -> tuple[MeasuredPace, ...]:
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
                found.append(MeasuredPace(subject.key, pace, others.share() > _DISTURBED))
        except DiadocheError:
            # What is wrong with it, its facts say.
            continue
    return tuple(found)


KIND = JobKind("pace", PaceRequest, tuple[MeasuredPace, ...], perform_pace, rank=3)


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


class Paces:
    """What is known of how makes and outputs play here, and what is still to be measured. Used on one thread."""

    def __init__(self, ledger: Ledger, runner: Runner) -> None:
        self._runner = runner
        self._known = dict(recall_all(ledger, _SCOPE, MeasuredPace))
        self._asked: set[str] = set()

    def of_clip(self, make: str) -> MeasuredPace | None:
        """How clips of a make play here; `make` in its words."""
        return self._known.get(_key(make))

    def of_output(self, make: str, recipe: str) -> MeasuredPace | None:
        """How outputs of a recipe play here, made of clips of a make."""
        return self._known.get(_key(make, recipe))

    def measure(self, clips: Iterable[tuple[str, KeptClip]]) -> None:
        """Asks for one clip of every make, and one output of every recipe, that was not measured undisturbed.

        Args:
            clips: each with the words of its make.
        """
        wanted: dict[str, PaceSubject] = {}
        for make, clip in clips:
            if clip.facts is None or not _can_play(clip.facts):
                continue
            wanted.setdefault(_key(make), PaceSubject(_key(make), clip.paths, clip.facts))
            for output in clip.outputs:
                key = _key(make, output.recipe)
                if key not in wanted and output.output and Path(output.output).exists():
                    wanted[key] = PaceSubject(key, (Path(output.output),))
        new = tuple(each for key, each in wanted.items() if key not in self._asked and not self._is_sure(key))
        if new:
            self._asked.update(each.key for each in new)
            title = f"Measure how {count_text(len(new), 'make')} of footage {'plays' if len(new) == 1 else 'play'} here"
            self._runner.add("pace", title, "encode", PaceRequest(new))

    def _is_sure(self, key: str) -> bool:
        return key in self._known and not self._known[key].disturbed

    def job_changed(self, job: Job) -> bool:
        """Takes in what was measured; gives whether there is anything new."""
        if job.kind != "pace" or job.state is not State.DONE:
            return False
        for each in job.result:
            if not self._is_sure(each.key) or not each.disturbed:
                self._known[each.key] = each
        return bool(job.result)


def _key(make: str, recipe: str = "") -> str:
    """What a pace is remembered by: a make stands for all clips that are alike, on this machine."""
    return " > ".join(filter(None, (platform.node(), make, recipe)))


def _can_play(facts: Facts) -> bool:
    return bool(facts.video and facts.video[0].decodable and facts.duration_s > 0 and not facts.problems)


def record_paces(ledger: Ledger, measured: Sequence[MeasuredPace]) -> None:
    """Writes down what was measured; a disturbed figure does not take the place of an undisturbed one."""
    known = dict(recall_all(ledger, _SCOPE, MeasuredPace))
    for each in measured:
        if not each.disturbed or each.key not in known or known[each.key].disturbed:
            remember(ledger, _SCOPE, each.key, each)


def pace_words(measured: MeasuredPace) -> str:
    """How it plays, in words that follow its name."""
    pace = measured.pace
    meanwhile = " while other work ran" if measured.disturbed else ""
    if pace.in_real_time:
        return f"plays in real time here: {pace.times_rate:.1f} times its rate was reached{meanwhile}"
    reached = f"{pace.pictures_a_second:.0f} of {spoken_rate(pace.rate)} pictures a second"
    return f"does not play in real time here: {reached} were reached{meanwhile}"


def gain_words(original: MeasuredPace | None, output: MeasuredPace | None) -> str:
    """What converting did for playing; nothing where that was not measured."""
    if output is None:
        return ""
    before = f", the original {original.pace.times_rate:.1f}" if original is not None else ""
    return f"plays here at {output.pace.times_rate:.1f} times its rate{before}"
