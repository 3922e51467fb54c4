"""How the command line speaks: words and progress on standard error, one JSON document on standard output."""

from __future__ import annotations

import json
import os
import sys
from collections.abc import Iterable
from typing import TYPE_CHECKING

from diadoche.core import watch
from diadoche.core.errors import Problem
from diadoche.core.names import shown

if TYPE_CHECKING:
    from rich.progress import Progress


def say(text: str) -> None:
    """A line for a person."""
    sys.stderr.write(shown(text) + "\n")
    sys.stderr.flush()


def say_problems(problems: Iterable[Problem]) -> None:
    """What went less than well, a line each, and each only once."""
    for sentence in dict.fromkeys(problem.sentence() for problem in problems):
        say(f"! {sentence}")


def print_json(value: object) -> None:
    """The one document; the only thing that is ever written to standard output with --json."""
    sys.stdout.write(json.dumps(value, indent=2, ensure_ascii=True, default=str) + "\n")
    sys.stdout.flush()


class Bar:
    """A progress bar on a terminal; nothing where standard error is a file."""

    def __init__(self, quiet: bool) -> None:
        self._card_is_free = False
        self._shown = not quiet and sys.stderr.isatty() and "NO_PROGRESS" not in os.environ
        self._progress = _shown_progress() if self._shown else None

    def __enter__(self) -> watch.Watch:
        if self._progress is not None:
            self._progress.start()
        return watch.Watch(self._step)

    def __exit__(self, *_: object) -> None:
        if self._progress is not None:
            self._progress.stop()

    def _step(self, progress: watch.Progress) -> None:
        if progress.note == watch.CARD_NOT_READ and not self._card_is_free:
            self._card_is_free = True
            say("The card may come out now; what is missing at a place is filled from a copy. Do not format it yet.")
        if self._progress is not None:
            self._progress.update(
                self._progress.task_ids[0],
                completed=progress.done,
                total=progress.total or None,
                description=shown(progress.note),
            )


def _shown_progress() -> Progress:
    """A bar of one task. Loaded only where there is a terminal to show it on."""
    from rich.console import Console
    from rich.progress import BarColumn, Progress, TextColumn, TimeRemainingColumn

    progress = Progress(
        TextColumn("{task.description}"),
        BarColumn(),
        TextColumn("{task.percentage:>3.0f} %"),
        TimeRemainingColumn(),
        console=Console(stderr=True, highlight=False, soft_wrap=True),
        transient=True,
    )
    progress.add_task("", total=None)
    return progress
