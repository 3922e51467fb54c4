"""The process a job runs in: a request comes in on standard input, progress and the result go out as JSON lines.

It stops when asked to ("stop" on standard input), and by itself when the one who asked has gone.
"""

from __future__ import annotations

import json
import os
import signal
import sys
import threading
import time
from dataclasses import asdict
from typing import TextIO

from diadoche.core.errors import DiadocheError, problem_of_disk
from diadoche.core.watch import Cancelled, Progress, Watch
from diadoche.services.jobs.all_kinds import ALL_KINDS
from diadoche.services.machine.reports import unforeseen
from diadoche.services.wire import from_text, to_text

_GENTLE_NICE = 10


# Nobody sees more: a line for each of a thousand packets would keep both sides busy with words.
_TELL_EVERY_S = 0.1
# A call that has not returned for so long is told of, as long as it lasts: the work itself says nothing meanwhile.
_SILENT_S = 3.0


class Speaker:
    """Writes one JSON line at a time, whichever thread speaks."""

    def __init__(self, out: TextIO) -> None:
        self._out = out
        self._lock = threading.Lock()
        self._told: tuple[str, ...] = ()
        self._tell_from_s = 0.0

    def say(self, what: str, value: object) -> None:
        """Writes a line."""
        with self._lock:
            self._out.write(json.dumps({what: value}) + "\n")
            self._out.flush()

    def progress(self, progress: Progress) -> None:
        """Tells how far the job is: ten times a second at most, and at once what begins, ends or changes its state."""
        done = "done" if progress.total and progress.done >= progress.total else ""
        state, now_s = (done, progress.note, *(part.state for part in progress.parts)), time.monotonic()
        if now_s < self._tell_from_s and state == self._told:
            return
        self._told, self._tell_from_s = state, now_s + _TELL_EVERY_S
        self.say("progress", asdict(progress))


def _listen(watch: Watch) -> None:
    for line in sys.stdin:
        obey = {"stop": watch.stop, "pause": watch.pause, "resume": watch.resume}.get(line.strip())
        if obey is not None:
            obey()
    watch.stop()


def _tell_silence(watch: Watch, speaker: Speaker) -> None:
    told = False
    while True:
        time.sleep(1.0)
        silent_s = watch.calls.silent_for_s()
        if told or silent_s > _SILENT_S:
            told = silent_s > _SILENT_S
            speaker.say("silent", silent_s if told else 0.0)


def main() -> None:
    """Runs one job."""
    # A Ctrl-C at the terminal is for the one who asked, who then tells us.
    signal.signal(signal.SIGINT, signal.SIG_IGN)
    speaker = Speaker(os.fdopen(os.dup(1), "w", encoding="ascii"))
    # Whatever a library prints must not get between the lines.
    os.dup2(2, 1)
    asked = json.loads(sys.stdin.readline())
    kind = ALL_KINDS[asked["kind"]]
    if kind.gentle:
        os.nice(_GENTLE_NICE)
    watch = Watch(speaker.progress, lambda part: speaker.say("part", to_text(part, kind.part)))
    threading.Thread(target=_listen, args=(watch,), daemon=True).start()
    threading.Thread(target=_tell_silence, args=(watch, speaker), daemon=True).start()
    try:
        result = kind.perform(from_text(kind.request, asked["request"]), watch)
    except Cancelled:
        speaker.say("stopped", True)
    except DiadocheError as error:
        speaker.say("problem", error.problem.as_dict())
    except OSError as error:
        speaker.say("problem", problem_of_disk(error).as_dict())
    except Exception as error:  # noqa: BLE001  # a defect: told to the person as one, its trace kept in a file
        speaker.say("problem", unforeseen(error).as_dict())
    else:
        speaker.say("result", to_text(result, kind.result))
