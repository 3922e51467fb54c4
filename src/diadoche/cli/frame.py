"""What every verb of the command line is framed by: places, the ledger, failures in words, Ctrl-C."""

from __future__ import annotations

import os
import signal
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path
from typing import TYPE_CHECKING, Annotated

import typer

from diadoche.cli.output import print_json, say, say_problems
from diadoche.core.errors import DiadocheError, LedgerError, Problem, RequestError, problem_of_disk
from diadoche.core.watch import Cancelled, Watch
from diadoche.services.machine.reports import unforeseen
from diadoche.services.machine.state_places import StatePlaces, default_places

if TYPE_CHECKING:
    from diadoche.services.ledger.ledger import Ledger
    from diadoche.services.ledger.shoots import Shoot as KnownShoot

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
    except typer.Exit:
        raise
    except BrokenPipeError:
        # Whoever read the output has had enough.
        os.dup2(os.open(os.devnull, os.O_WRONLY), 1)
        raise typer.Exit(1) from None
    except Exception as error:
        problem = problem_of_disk(error) if isinstance(error, OSError) else unforeseen(error)
        if as_json:
            print_json({"problems": [problem.as_dict()]})
        say_problems([problem])
        raise typer.Exit(1) from error


def must_be_there(*paths: Path) -> None:
    """Every verb says alike of a path that is not there.

    Raises:
        RequestError: there is nothing at one of them.
    """
    for path in paths:
        try:
            path.lstat()
        except (FileNotFoundError, NotADirectoryError) as error:
            raise RequestError(
                f"There is nothing at {path}.", path=path, safe="Nothing was written.", do="Check the path."
            ) from error
        except OSError:
            # A disk that has gone is another matter: the verb says what that means for it.
            continue


def known_shoot(ledger: Ledger, name: str) -> KnownShoot:
    """A shoot that there is.

    Raises:
        RequestError: there is none of that name.
    """
    from diadoche.services.ledger.shoots import all_shoots

    found = {shoot.name: shoot for shoot in all_shoots(ledger)}
    if name not in found:
        names = ", ".join(found) or "none yet"
        raise RequestError(
            f"There is no shoot called {name}.", safe="Nothing was written.", do=f"Shoots that there are: {names}."
        )
    return found[name]


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
    from diadoche.services.ledger.ledger import Ledger

    ledger = Ledger(places().ledger)
    try:
        yield ledger
    finally:
        ledger.close()


@contextmanager
def ledger_if_sound() -> Iterator[tuple[Ledger | None, Problem | None]]:
    """The ledger; or none, and why not, for verbs that can do their work without it."""
    ledger, problem = None, None
    from diadoche.services.ledger.ledger import Ledger

    try:
        ledger = Ledger(places().ledger)
    except LedgerError as error:
        problem = error.problem
    try:
        yield ledger, problem
    finally:
        if ledger is not None:
            ledger.close()


@contextmanager
def stoppable(watch: Watch) -> Iterator[None]:
    """Ctrl-C asks the work to stop, so that it can clean up; a second one ends it at once, whatever hangs."""

    def stop(*_: object) -> None:
        if watch.stopping:
            say("Ended at once. What had arrived whole is kept; the copies say that they are not whole.")
            os._exit(1)
        watch.stop()

    # SIGTERM is how a system that shuts down asks for the same.
    before = {number: signal.signal(number, stop) for number in (signal.SIGINT, signal.SIGTERM)}
    try:
        yield
    finally:
        for number, handler in before.items():
            signal.signal(number, handler)
