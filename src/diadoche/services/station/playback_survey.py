"""How makes and outputs play on this machine: what is known of it, and what is still to be measured."""

from __future__ import annotations

import platform
from collections.abc import Callable, Iterable
from pathlib import Path

from diadoche.core.identify.facts import Facts
from diadoche.core.sizes import count_text
from diadoche.services.jobs.measure_playback import PLAYBACK_SCOPE, MeasuredPlayback, PlaybackRequest, PlaybackSubject
from diadoche.services.ledger.kept_clips import KeptClip
from diadoche.services.ledger.ledger import Ledger
from diadoche.services.ledger.remembered import recall_all
from diadoche.services.queue.runner import Job, Runner
from diadoche.services.queue.states import State


class PlaybackSurvey:
    """All figures of this machine. Used on one thread."""

    def __init__(self, ledger: Ledger, runner: Runner) -> None:
        self._runner = runner
        self._known = dict(recall_all(ledger, PLAYBACK_SCOPE, MeasuredPlayback))
        self._asked: set[str] = set()

    def of_clip(self, make: str) -> MeasuredPlayback | None:
        """How clips of a make play here; `make` in its words."""
        return self._known.get(_key(make))

    def of_output(self, make: str, recipe: str) -> MeasuredPlayback | None:
        """How outputs of a recipe play here, made of clips of a make."""
        return self._known.get(_key(make, recipe))

    def measure(
        self, clips: Iterable[tuple[str, KeptClip]], is_there: Callable[[Path], bool | None] = Path.is_file
    ) -> None:
        """Asks for one clip of every make, and one output of every recipe, that was not measured undisturbed.

        Args:
            clips: each with the words of its make.
            is_there: whether a file is there; None where that is not known, and then it is left for later.
        """
        wanted: dict[str, PlaybackSubject] = {}
        for make, clip in clips:
            if clip.facts is None or not _can_play(clip.facts):
                continue
            if self._is_open(key := _key(make)) and key not in wanted:
                wanted[key] = PlaybackSubject(key, clip.paths, clip.facts)
            for output in clip.outputs:
                key = _key(make, output.recipe)
                if self._is_open(key) and key not in wanted and output.output and is_there(Path(output.output)):
                    wanted[key] = PlaybackSubject(key, (Path(output.output),))
        new = tuple(wanted.values())
        if new:
            self._asked.update(each.key for each in new)
            title = f"Measure how {count_text(len(new), 'make')} of footage {'plays' if len(new) == 1 else 'play'} here"
            self._runner.add("pace", title, "encode", PlaybackRequest(new))

    def _is_open(self, key: str) -> bool:
        """Whether it is not asked for, and not known for sure."""
        return key not in self._asked and (key not in self._known or self._known[key].disturbed)

    def job_changed(self, job: Job) -> bool:
        """Takes in what was measured; gives whether there is anything new."""
        if job.kind != "pace" or job.state is not State.DONE:
            return False
        for each in job.result:
            if each.disturbed:
                # What is looked at or made next gives another occasion.
                self._asked.discard(each.key)
            if each.replaces(self._known.get(each.key)):
                self._known[each.key] = each
        return bool(job.result)


def _key(make: str, recipe: str = "") -> str:
    """What a pace is remembered by: a make stands for all clips that are alike, on this machine."""
    return " > ".join(filter(None, (platform.node(), make, recipe)))


def _can_play(facts: Facts) -> bool:
    return bool(facts.video and facts.video[0].decodable and facts.duration_s > 0 and not facts.problems)
