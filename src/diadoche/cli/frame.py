"""What every verb of the command line is framed by: places, the ledger, failures in words, Ctrl-C."""

from __future__ import annotations

import os
import signal
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path
from typing import Annotated

import typer

from diadoche.cli.output import print_json, say, say_problems
from diadoche.core.errors import DiadocheError, RequestError
from diadoche.core.watch import Cancelled, Watch
from diadoche.services.ledger.ledger import Ledger
from diadoche.services.machine.state_places import StatePlaces, default_places

Json = Annotated[bool, typer.Option("--json", help="Print one JSON document on standard output, nothing else there.")]
Shoot = Annotated[str, typer.Option("--shoot", help="The shoot it belongs to; begun where it is new.")]
To = Annotated[Path, typer.Option("--to", help="The folder outputs go to.")]
Paths = Annotated[list[Path], typer.Argument(help="Files, or cards; spans of one recording are joined.")]


@contextmanager
def reported(as_json: bool) -> Iterator[None]:
    """Turns expected failures into words, JSON and an exit code."""
    try:
        yield
    except Cancelled:
        say("Stopped. What had arrived whole is kept; nothing half-made stands under a final name.")
        raise typer.Exit(1) from None
    except DiadocheError as error:
        if as_json:
            print_json({"problems": [error.problem.as_dict()]})
        say_problems([error.problem])
        raise typer.Exit(2 if isinstance(error, RequestError) else 1) from error


def ended(problems: bool) -> None:
    """Ends with exit code 1 where something went less than well."""
    if problems:
        raise typer.Exit(1)


def places() -> StatePlaces:
    """Where the application keeps its own state."""
    return default_places()


@contextmanager
def opened_ledger() -> Iterator[Ledger]:
    """The ledger, closed at the end."""
    ledger = Ledger(places().ledger)
    try:
        yield ledger
    finally:
        ledger.close()


@contextmanager
def stoppable(watch: Watch) -> Iterator[None]:
    """Ctrl-C asks the work to stop, so that it can clean up; a second one ends it at once, whatever hangs."""

    def stop(*_: object) -> None:
        if watch.stopping:
            say("Ended at once. What had arrived whole is kept; the copies say that they are not whole.")
            os._exit(1)
        watch.stop()

    before = signal.signal(signal.SIGINT, stop)
    try:
        yield
    finally:
        signal.signal(signal.SIGINT, before)
