"""Tries the clips of a copy in processes of their own: a decoder that crashes or hangs takes nothing else with it.

Clips are tried as they arrive, on what copying leaves of the processors; what is left is tried when copying has ended.
"""

from __future__ import annotations

import base64
import threading
from collections import defaultdict
from collections.abc import Sequence
from concurrent.futures import Future
from contextlib import suppress
from dataclasses import dataclass, field
from pathlib import Path
from types import TracebackType
from typing import Any

from diadoche.core.cards.clips import Clip
from diadoche.core.errors import Problem
from diadoche.core.footage.trial import Trial, try_clip
from diadoche.core.names import shown
from diadoche.core.offload.journal import CopiedFile
from diadoche.core.watch import Progress, Watch
from diadoche.services.side_processes.side_by_side import SideBySide, side_by_side
from diadoche.services.side_processes.side_process import SideProcess, serve

_MODULE = "diadoche.services.side_processes.clip_trial"
_LONGEST_S = 60.0
# By how much a trial gives way to copying: that keeps the card in its reader.
_NICER = 10
# Of the processors, for several cards may be copied at once, and each decoder holds pictures.
_EARLY_SHARE = 0.5


@dataclass(slots=True)
class Tried:
    """What came of it: how many clips decoded at both ends, what did not, and small pictures by the clip's name."""

    clips: int = 0
    problems: list[Problem] = field(default_factory=list)
    remarks: list[str] = field(default_factory=list)
    thumbnails: dict[str, bytes] = field(default_factory=dict)


@dataclass(frozen=True, slots=True)
class _Asked:
    """A clip as it stands in a copy: its files there, as they were proven."""

    name: str
    root: Path
    files: tuple[CopiedFile, ...]


class ClipTrials:
    """Tries each clip of a card in the copy in which one arrives whole first; closed by whoever opened it."""

    def __init__(self, clips: Sequence[Clip], longest_s: float = _LONGEST_S) -> None:
        """
        Args:
            clips: that are tried.
            longest_s: how long one may take.
        """
        self._clips = tuple(clips)
        self._longest_s = longest_s
        # By number: two clips in two folders may have one name.
        self._clips_with: dict[str, list[int]] = defaultdict(list)
        for number, clip in enumerate(self._clips):
            for span in set(clip.spans):
                self._clips_with[span].append(number)
        self._lock = threading.Lock()
        self._arrived: dict[Path, dict[str, CopiedFile]] = defaultdict(dict)
        # How many files of a clip have not arrived yet: counted, for a sequence of stills is a clip of ten thousand.
        files = [len(set(clip.spans)) for clip in self._clips]
        self._missing: dict[Path, list[int]] = defaultdict(files.copy)
        self._lead: Path | None = None
        self._early: dict[int, tuple[_Asked, Future[Trial | None]]] = {}
        # Whether what arrives from now on is of no use any more.
        self._is_over = False
        self._unwanted = Watch()
        self._helpers = SideBySide(lambda: SideProcess(_MODULE, _NICER), self._ask, _EARLY_SHARE)

    def __enter__(self) -> ClipTrials:
        return self

    def __exit__(
        self, kind: type[BaseException] | None, error: BaseException | None, trace: TracebackType | None
    ) -> None:
        self.close()

    def arrived(self, root: Path, file: CopiedFile) -> None:
        """On any thread: a file is proven in the copy in this folder. A clip that is whole there is begun with."""
        with self._lock:
            # A disk that was left behind may answer long after.
            if self._is_over:
                return
            is_new = file.path not in self._arrived[root]
            self._arrived[root][file.path] = file
            for number in self._clips_with.get(file.path, ()):
                missing = self._missing[root]
                missing[number] -= is_new
                if not missing[number] and self._lead in {None, root} and number not in self._early:
                    self._lead = root
                    asked = self._as_it_stands(number, root)
                    self._early[number] = asked, self._helpers.give(asked)

    @property
    def ended(self) -> int:
        """How many clips were tried already."""
        with self._lock:
            return sum(future.done() for _asked, future in self._early.values())

    def best_of(self, proven: Sequence[Path]) -> Path | None:
        """In which of these copies clips are to be tried: most were in one of them already."""
        return self._lead if self._lead in proven else next(iter(proven), None)

    def finish(self, root: Path, watch: Watch) -> Tried:
        """What came of all clips, as they stand in a proven copy now. Never raises for what a clip does.

        Raises:
            Cancelled: the watch was stopped.
        """
        with self._lock:
            self._is_over = True
        total = len(self._clips)
        watch.step(Progress(self.ended, total, "trying the clips"))
        wanted = [self._as_it_stands(number, root) for number in range(total)]
        # What has not begun is tried by helpers that give way to nobody: copying has ended.
        early = {number: found for number, found in self._early.items() if not found[1].cancel()}
        # Of a file that was set aside and filled again an earlier trial tells nothing; nor does one that gave up, for
        # it may have been kept waiting by all the rest.
        trials = {number: future.result() for number, (asked, future) in early.items() if asked == wanted[number]}
        left = [number for number in range(total) if trials.get(number) is None]
        late = side_by_side(
            lambda: SideProcess(_MODULE), lambda process, number: self._ask(process, wanted[number], watch), left
        )
        for number, trial in zip(left, late, strict=True):
            trials[number] = trial
            watch.step(Progress(len(trials), total, f"trying {shown(wanted[number].name)}"))
        tried = Tried()
        for number, asked in enumerate(wanted):
            _take(tried, asked.name, trials[number] or Trial(_gave_up(asked.name, root)))
        return tried

    def close(self) -> None:
        """Ends what is under way, and begins nothing more."""
        with self._lock:
            self._is_over = True
        self._unwanted.stop()
        self._helpers.close()

    def _as_it_stands(self, number: int, root: Path) -> _Asked:
        clip = self._clips[number]
        return _Asked(clip.name, root, tuple(self._arrived[root][span] for span in clip.spans))

    def _ask(self, side_process: SideProcess, asked: _Asked, watch: Watch | None = None) -> Trial | None:
        """A trial; None where the process died over it or took too long, or none could be started."""
        paths = [str(asked.root / file.kept_as) for file in asked.files]
        with suppress(OSError):
            told = side_process.ask(paths, self._longest_s, watch or self._unwanted)
            return _trial(told) if told is not None else None
        return None


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
