"""Verbs about copies do their work in a child of the command: a hanging disk holds a process even at its end.

The system closes what a process has open when that ends, and a hanging disk does not let it: the child may stay for
as long as the disk does, the command does not.
"""

from __future__ import annotations

import ctypes
import functools
import os
import signal
import sys
import time
from collections.abc import Callable
from contextlib import suppress
from typing import ParamSpec

import typer

from diadoche.cli.output import say_problems
from diadoche.services.machine.reports import unforeseen

P = ParamSpec("P")
_PR_SET_PDEATHSIG = 1
_ENDING_S = 2.0
_STEP_S = 0.01


def in_a_child(verb: Callable[P, None]) -> Callable[P, None]:
    """The verb, done by a child; its output and its exit code are those of the command."""

    @functools.wraps(verb)
    def command(*words: P.args, **options: P.kwargs) -> None:
        sys.stdout.flush()
        sys.stderr.flush()
        heard, said = os.pipe()
        child = os.fork()
        if child == 0:
            os.close(heard)
            _work(lambda: verb(*words, **options), said)
        os.close(said)
        raise typer.Exit(_followed(child, heard))

    return command


def _work(verb: Callable[[], None], said: int) -> None:
    """Does the work, says how it ended, and ends; never returns."""
    # Whoever kills the command means the work.
    ctypes.CDLL(None).prctl(_PR_SET_PDEATHSIG, signal.SIGKILL)
    code = 1
    try:
        verb()
        code = 0
    except typer.Exit as end:
        code = end.exit_code
    except BaseException as error:  # noqa: BLE001  # a defect outside of all frames: told as one, too
        say_problems([unforeseen(error)])
    finally:
        sys.stdout.flush()
        sys.stderr.flush()
        os.write(said, bytes([code]))
        os._exit(code)


def _followed(child: int, heard: int) -> int:
    """The exit code, as soon as the child has said it, and has ended or was given a moment to."""
    # Ctrl-C goes to both, and SIGTERM to the command alone; it is the child that stops, and tells how. A second one
    # ends the command at once.
    asked = 0

    def stop(number: int, _frame: object) -> None:
        nonlocal asked
        asked += 1
        if asked > 1:
            os._exit(1)
        if number == signal.SIGTERM:
            with suppress(ProcessLookupError):
                os.kill(child, number)

    before = {number: signal.signal(number, stop) for number in (signal.SIGINT, signal.SIGTERM)}
    try:
        told = os.read(heard, 1)
        until_s = time.monotonic() + _ENDING_S
        while told and time.monotonic() < until_s:
            ended, _status = os.waitpid(child, os.WNOHANG)
            if ended:
                return told[0]
            time.sleep(_STEP_S)
        if told:
            return told[0]
        code = os.waitstatus_to_exitcode(os.waitpid(child, 0)[1])
        if code < 0:
            os.kill(os.getpid(), -code)
        return code
    finally:
        for number, handler in before.items():
            signal.signal(number, handler)
        os.close(heard)
