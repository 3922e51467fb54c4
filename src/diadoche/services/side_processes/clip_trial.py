"""Tries the clips of a copy in a process of its own: a decoder that crashes or hangs takes nothing else with it."""

from __future__ import annotations

import base64
from collections.abc import Sequence
from dataclasses import dataclass, field
from pathlib import Path
from typing import Any

from diadoche.core.cards.clips import Clip
from diadoche.core.errors import Problem
from diadoche.core.footage.trial import Trial, try_clip
from diadoche.core.names import shown
from diadoche.core.watch import Progress, Watch
from diadoche.services.side_processes.side_by_side import side_by_side
from diadoche.services.side_processes.side_process import SideProcess, serve

_LONGEST_S = 60.0


@dataclass(slots=True)
class Tried:
    """What came of it: how many clips decoded at both ends, what did not, and small pictures by the clip's name."""

    clips: int = 0
    problems: list[Problem] = field(default_factory=list)
    remarks: list[str] = field(default_factory=list)
    thumbnails: dict[str, bytes] = field(default_factory=dict)


def try_copy(root: Path, clips: Sequence[Clip], watch: Watch, longest_s: float = _LONGEST_S) -> Tried:
    """Tries every clip of a copy. Never raises for what a clip does.

    Raises:
        Cancelled: the watch was stopped.
    """
    tried = Tried()

    def ask(side_process: SideProcess, clip: Clip) -> Trial:
        told = side_process.ask([str(root / span) for span in clip.spans], longest_s, watch)
        return _trial(told) if told is not None else Trial(_gave_up(clip.name, root))

    watch.step(Progress(0, len(clips), "trying the clips"))
    trials = side_by_side(lambda: SideProcess("diadoche.services.side_processes.clip_trial"), ask, clips)
    for number, (clip, trial) in enumerate(zip(clips, trials, strict=True), start=1):
        watch.step(Progress(number, len(clips), f"trying {shown(clip.name)}"))
        _take(tried, clip.name, trial)
    return tried


def _take(tried: Tried, name: str, trial: Trial) -> None:
    if trial.problem is not None:
        tried.problems.append(trial.problem)
    tried.clips += trial.decoded
    if trial.remark:
        tried.remarks.append(f"{shown(name)}: {trial.remark}")
    if trial.thumbnail:
        tried.thumbnails[name] = trial.thumbnail


def _trial(told: dict[str, Any]) -> Trial:
    problem = Problem(**told["problem"]) if told["problem"] else None
    return Trial(problem, told["remark"], base64.b64decode(told["thumbnail"]))


def _gave_up(name: str, root: Path) -> Problem:
    return Problem(
        f"{shown(name)} could not be tried: reading it ended in a crash, or took too long.",
        str(root),
        "The copy is, byte for byte, what came off the card.",
        "Play the clip on the camera before the card is formatted.",
    )


def _answer(paths: list[str]) -> dict[str, object]:
    trial = try_clip([Path(path) for path in paths])
    return {
        "problem": trial.problem.as_dict() if trial.problem else None,
        "remark": trial.remark,
        "thumbnail": base64.b64encode(trial.thumbnail).decode("ascii"),
    }


def main() -> None:
    """Answers until nobody asks any more."""
    serve(_answer)
