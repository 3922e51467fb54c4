"""How long the application, its verbs and its jobs take to start, against what starts at least."""

from __future__ import annotations

import os
import shutil
import statistics
import subprocess
import sys
import tempfile
import threading
import time
from collections.abc import Callable, Iterator
from functools import partial
from pathlib import Path

from benchmarks.measuring import Row, at_most, timed
from diadoche.services.jobs.all_kinds import ALL_KINDS
from diadoche.services.jobs.list_card import ListCardRequest
from diadoche.services.ledger.ledger import Ledger
from diadoche.services.queue.runner import Job, Runner
from diadoche.services.queue.states import State

# Starts differ more from each other than long work does.
_TURNS = 9
_OVER_S = 0.3
_BIN = Path(sys.executable).parent


def rows() -> Iterator[Row]:
    """The rows about starts. Modules are compiled beforehand, as they are where a person starts them again."""
    with tempfile.TemporaryDirectory(prefix="starts-") as name:
        environment = {key: value for key, value in os.environ.items() if key != "PYTHONDONTWRITEBYTECODE"}
        environment["PYTHONPYCACHEPREFIX"] = f"{name}/compiled"

        def run(*words: str | Path) -> None:
            subprocess.run([str(word) for word in words], check=True, env=environment, capture_output=True)

        def typer() -> None:
            run(sys.executable, "-c", "import typer")

        for verb in ("--help", "recipes"):
            ours = partial(run, _BIN / "diadoche", verb)
            yield at_most(f"diadoche {verb}", "the command-line library imported", 2.5, _ratio(ours, typer))

        def painted(what: str | Path) -> None:
            run(sys.executable, "-m", "benchmarks.start_to_paint", str(time.monotonic()), what)

        def first_window() -> None:
            folder = Path(tempfile.mkdtemp(dir=name))
            painted(folder)
            shutil.rmtree(folder)

        paint = _ratio(first_window, partial(painted, "bare"))
        yield at_most("the window's first paint, from nothing", "a bare window's", 2.5, paint)
        yield _second_start(run)
        yield at_most("a short job from its order to its end", "python3 -c pass", 5, _jobs(Path(name), run))


def _second_start(run: Callable[..., None]) -> Row:
    """By how much the one door is slower than the application itself, where all is set up."""
    over = [
        timed(lambda: run("./run", "app", "--version")) - timed(lambda: run(_BIN / "diadoche", "--version"))
        for _turn in range(_TURNS)
    ]
    over_s = statistics.median(over)
    return Row(
        "./run app, set up before",
        "the application itself",
        f"≤ {_OVER_S} s more",
        f"{over_s:.2f} s",
        over_s <= _OVER_S,
    )


def _ratio(ours: Callable[[], object], theirs: Callable[[], object]) -> float:
    """Our time over theirs, the median of turns after one that is not counted."""
    found = []
    for _ in range(_TURNS + 1):
        theirs_s = timed(theirs)
        found.append(timed(ours) / theirs_s)
    return statistics.median(found[1:])


def _jobs(folder: Path, run: Callable[..., None]) -> float:
    """A folder of one file listed by the queue, whose helper is ready, as it is while a window is open."""
    card = folder / "card"
    card.mkdir()
    (card / "NOTE.TXT").write_text("x")
    ledger = Ledger(folder / "ledger.sqlite")
    ended = threading.Event()

    def told(job: Job) -> None:
        if job.state in {State.DONE, State.FAILED}:
            ended.set()

    runner = Runner(ledger, ALL_KINDS, told, lambda _job: None)

    def list_it() -> None:
        ended.clear()
        runner.add("look", "List", "look", ListCardRequest(card))
        ended.wait()

    try:
        return _ratio(list_it, lambda: run(sys.executable, "-c", "pass"))
    finally:
        runner.close()
        ledger.close()
