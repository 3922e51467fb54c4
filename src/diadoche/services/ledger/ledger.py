"""Opening the ledger: made where it is missing, brought up to date where it is older, refused where it is newer."""

from __future__ import annotations

import shutil
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path

from alembic import command
from alembic.config import Config
from alembic.runtime.migration import MigrationContext
from alembic.script import ScriptDirectory
from sqlalchemy import Engine, create_engine, event
from sqlalchemy.exc import DatabaseError, OperationalError
from sqlalchemy.orm import Session

from diadoche.core.errors import LedgerError

_WAIT_S = 30


class Ledger:
    """The memory of all offloads. Every thread opens sessions of its own; each is one transaction."""

    def __init__(self, path: Path) -> None:
        """Opens the ledger at `path`, and brings it up to date.

        Raises:
            LedgerError: it is locked, damaged, or of a newer version. It is left as it is.
        """
        self.path = path
        path.parent.mkdir(parents=True, exist_ok=True)
        self._engine = create_engine(f"sqlite:///{path}", connect_args={"timeout": _WAIT_S})
        event.listen(self._engine, "connect", _prepare)
        with _translated(path):
            _bring_up_to_date(self._engine, path)

    @contextmanager
    def session(self) -> Iterator[Session]:
        """A transaction: kept when the block ends well, undone when it does not."""
        with _translated(self.path), Session(self._engine) as session, session.begin():
            yield session

    def close(self) -> None:
        """Closes every connection."""
        self._engine.dispose()


def _prepare(connection: object, _record: object) -> None:
    cursor = connection.cursor()  # type: ignore[attr-defined]  # a DB-API connection
    for pragma in ("journal_mode=WAL", "foreign_keys=ON", "synchronous=FULL"):
        cursor.execute(f"PRAGMA {pragma}")
    cursor.close()


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
    except DatabaseError as error:
        raise LedgerError(
            f"The ledger at {path} is damaged: {error.orig}.",
            path=path,
            safe=safe,
            do="Move the file away: a new ledger is begun.",
        ) from error


def _config(connection: object) -> Config:
    config = Config()
    config.set_main_option("script_location", str(Path(__file__).parent / "migrations"))
    config.attributes["connection"] = connection
    return config


def _bring_up_to_date(engine: Engine, path: Path) -> None:
    with engine.connect() as connection:
        config = _config(connection)
        script = ScriptDirectory.from_config(config)
        newest = script.get_current_head()
        current = MigrationContext.configure(connection).get_current_revision()
        if current == newest:
            return
        known = {revision.revision for revision in script.walk_revisions()}
        if current is not None and current not in known:
            raise LedgerError(
                f"The ledger at {path} is of version {current}; this program knows versions up to {newest}.",
                path=path,
                safe="Nothing in it was changed.",
                do="Use the newer program that wrote it.",
            )
        if current is not None:
            shutil.copy2(path, path.with_name(f"{path.name}.version-{current}"))
        command.upgrade(config, "head")
        connection.commit()
