"""Tries the clips of a copy in a process of its own: a decoder that crashes or hangs takes nothing else with it."""

from __future__ import annotations

import base64
import json
import os
import select
import subprocess
import sys
from collections.abc import Sequence
from dataclasses import dataclass, field
from pathlib import Path
from typing import IO

from diadoche.core.cards.clips import Clip
from diadoche.core.errors import Problem
from diadoche.core.footage.trial import Trial, try_clip
from diadoche.core.names import shown
from diadoche.core.watch import Progress, Watch

_LONGEST_S = 60.0
_STEP_S = 0.2


@dataclass(slots=True)
class Tried:
    """What came of it: how many clips opened and decoded, what did not, and small pictures by the clip's name."""

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
    waiting = [(clip, [str(root / span) for span in clip.spans]) for clip in clips]
    child: subprocess.Popen[bytes] | None = None
    try:
        for number, (clip, paths) in enumerate(waiting):
            watch.step(Progress(number, len(waiting), f"trying {shown(clip.name)}"))
            if child is None or child.poll() is not None:
                child = _start()
            trial = _ask(child, paths, watch, longest_s)
            if trial is None:
                child.kill()
                child.wait()
                child = None
                trial = Trial(_gave_up(clip.name, root))
            _take(tried, clip.name, trial)
    finally:
        if child is not None:
            child.kill()
            child.wait()
            _close(child)
    return tried


def _take(tried: Tried, name: str, trial: Trial) -> None:
    if trial.problem is not None:
        tried.problems.append(trial.problem)
    else:
        tried.clips += 1
    if trial.remark:
        tried.remarks.append(f"{shown(name)}: {trial.remark}")
    if trial.thumbnail:
        tried.thumbnails[name] = trial.thumbnail


def _start() -> subprocess.Popen[bytes]:
    return subprocess.Popen(
        [sys.executable, "-m", "diadoche.services.trying"], stdin=subprocess.PIPE, stdout=subprocess.PIPE, bufsize=0
    )


def _close(child: subprocess.Popen[bytes]) -> None:
    for pipe in (child.stdin, child.stdout):
        if pipe is not None:
            pipe.close()


def _ask(child: subprocess.Popen[bytes], paths: list[str], watch: Watch, longest_s: float) -> Trial | None:
    """The child's answer, or None when it died or did not answer in time."""
    assert child.stdin is not None
    assert child.stdout is not None
    try:
        child.stdin.write(json.dumps(paths).encode("ascii") + b"\n")
        line, left_s = b"", longest_s
        while not line.endswith(b"\n"):
            watch.check()
            if left_s <= 0:
                return None
            if select.select([child.stdout], [], [], _STEP_S)[0]:
                piece = os.read(child.stdout.fileno(), 1 << 16)
                if not piece:
                    return None
                line += piece
            else:
                left_s -= _STEP_S
    except BrokenPipeError:
        return None
    told = json.loads(line)
    problem = Problem(**told["problem"]) if told["problem"] else None
    return Trial(problem, told["remark"], base64.b64decode(told["thumbnail"]))


def _gave_up(name: str, root: Path) -> Problem:
    return Problem(
        f"{shown(name)} could not be tried: reading it ended in a crash, or took too long.",
        str(root),
        "The copy is, byte for byte, what came off the card.",
        "Play the clip on the camera before the card is formatted.",
    )


def _serve(asked: IO[str], answers: IO[str]) -> None:
    for line in asked:
        trial = try_clip([Path(path) for path in json.loads(line)])
        told = {
            "problem": trial.problem.as_dict() if trial.problem else None,
            "remark": trial.remark,
            "thumbnail": base64.b64encode(trial.thumbnail).decode("ascii"),
        }
        answers.write(json.dumps(told) + "\n")
        answers.flush()


if __name__ == "__main__":
    # What a library prints must not get between the lines.
    out = os.fdopen(os.dup(1), "w", encoding="ascii")
    os.dup2(2, 1)
    _serve(sys.stdin, out)
