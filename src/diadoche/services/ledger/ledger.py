"""Opening the ledger: made where it is missing, brought up to date where it is older, refused where it is newer."""

from __future__ import annotations

import fcntl
import time
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path

from sqlalchemy import Engine, create_engine, event, inspect, text
from sqlalchemy.exc import DatabaseError, DataError, IntegrityError, OperationalError, ProgrammingError
from sqlalchemy.orm import Session

from diadoche.core.errors import LedgerError, LedgerRefuses
from diadoche.services.ledger.models import NEWEST_VERSION
from diadoche.services.ledger.writer import LedgerWriter

_WAIT_S = 30
_LOOK_S = 0.05


class Ledger:
    """The memory of all offloads. Every thread opens sessions of its own; each is one transaction."""

    def __init__(self, path: Path, wait_s: float = _WAIT_S) -> None:
        """Opens the ledger at `path`, and brings it up to date.

        Args:
            path: the database.
            wait_s: how long a transaction waits for another program's.

        Raises:
            LedgerError: it is locked, damaged, or of a newer version. It is left as it is.
        """
        self.path = path
        # For what somebody who must not wait wants written.
        self.writer = LedgerWriter()
        with _translated(path), writing_state(path):
            path.parent.mkdir(parents=True, exist_ok=True)
        self._engine = create_engine(f"sqlite:///{path}", connect_args={"timeout": wait_s})
        event.listen(self._engine, "connect", _prepare)
        try:
            with _translated(path):
                if _version(self._engine) != NEWEST_VERSION:
                    # Two first starts at once would both make the tables: one of them waits, and finds them made.
                    with _held_alone(path):
                        self._bring_up_to_date()
        except LedgerError:
            self.close()
            raise

    def _bring_up_to_date(self) -> None:
        if _version(self._engine) != NEWEST_VERSION:
            # Loaded only here: it takes longer than all the rest, and nearly every start goes without.
            from diadoche.services.ledger.upgrade import bring_up_to_date

            bring_up_to_date(self._engine, self.path)

    @contextmanager
    def session(self) -> Iterator[Session]:
        """A transaction: kept when the block ends well, undone when it does not."""
        with _translated(self.path), Session(self._engine) as session, session.begin():
            yield session

    def make_durable(self) -> None:
        """Everything written so far outlives a power cut; waits for the disk, so never on the window's thread."""
        with _translated(self.path), self._engine.connect() as connection:
            connection.execute(text("PRAGMA wal_checkpoint(PASSIVE)"))

    def close(self) -> None:
        """Closes every connection; what is still to be written opens one of its own."""
        self.writer.close()
        self._engine.dispose()


def _prepare(connection: object, _record: object) -> None:
    cursor = connection.cursor()  # type: ignore[attr-defined]  # a DB-API connection
    # A power cut may undo the last transactions, never damage the rest; what must outlive it is made durable by name.
    for pragma in ("journal_mode=WAL", "foreign_keys=ON", "synchronous=NORMAL"):
        cursor.execute(f"PRAGMA {pragma}")
    cursor.close()


@contextmanager
def writing_state(path: Path) -> Iterator[None]:
    """Turns an OSError of the ledger's own folder into one of ours."""
    try:
        yield
    except OSError as error:
        raise LedgerError(
            f"The ledger at {path} cannot be used: {error.strerror or error}.",
            path=path,
            safe="The copies and their manifests do not depend on it.",
            do="Make room on its disk, and look whether its folder may be written to.",
        ) from error


@contextmanager
def _held_alone(path: Path) -> Iterator[None]:
    """Held by one process at a time, through a file beside the ledger; waits for the others, for a while.

    Raises:
        LedgerError: another one did not let it go.
    """
    until_s = time.monotonic() + _WAIT_S
    with writing_state(path), path.with_name(f"{path.name}.lock").open("wb") as file:
        while True:
            try:
                fcntl.flock(file, fcntl.LOCK_EX | fcntl.LOCK_NB)
                break
            except BlockingIOError:
                if time.monotonic() > until_s:
                    raise LedgerError(
                        f"The ledger at {path} is being brought up to date by another program.",
                        path=path,
                        safe="Nothing in it was changed by this one.",
                        do="Wait for the other one, and start again.",
                    ) from None
                time.sleep(_LOOK_S)
        yield


@contextmanager
def _translated(path: Path) -> Iterator[None]:
    safe = "The copies and their manifests do not depend on it."
    try:
        yield
    except OperationalError as error:
        raise LedgerError(
            f"The ledger at {path} cannot be used: {error.orig}.",
            path=path,
            safe=safe,
            do="Close other programs that use it, make room on its disk, and try again.",
        ) from error
    except (IntegrityError, ProgrammingError, DataError) as error:
        # What was to be written makes no sense: that is no damage, and nothing that moving the file away would mend.
        raise LedgerRefuses(
            f"The ledger at {path} does not take what was to be written: {error.orig}.",
            path=path,
            safe=safe,
            do="Keep the ledger as it is, and report this.",
        ) from error
    except DatabaseError as error:
        raise LedgerRefuses(
            f"The ledger at {path} is damaged: {error.orig}.",
            path=path,
            safe=safe,
            do="Move the file away: a new ledger is begun.",
        ) from error


def _version(engine: Engine) -> str:
    """The version that a ledger says it is of; nothing for one that is new."""
    with engine.connect() as connection:
        if not inspect(connection).has_table("alembic_version"):
            return ""
        return connection.execute(text("select version_num from alembic_version")).scalar() or ""
