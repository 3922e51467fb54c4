"""Bringing a ledger to the version that this program writes; the older file is kept beside it."""

from __future__ import annotations

import sqlite3
from contextlib import closing
from pathlib import Path

from alembic import command
from alembic.config import Config
from alembic.runtime.migration import MigrationContext
from alembic.script import ScriptDirectory
from sqlalchemy import Engine

from diadoche.core.errors import LedgerError


def _config(connection: object) -> Config:
    config = Config()
    config.set_main_option("script_location", str(Path(__file__).parent / "migrations"))
    config.attributes["connection"] = connection
    return config


def _keep(path: Path, kept: Path) -> None:
    """A copy of a ledger as it is, with what stands in its write-ahead log only [SQLITE, backup]."""
    part = kept.with_name(f"{kept.name}.part")
    part.unlink(missing_ok=True)
    with closing(sqlite3.connect(path)) as source, closing(sqlite3.connect(part)) as target:
        source.backup(target)
    part.replace(kept)


def bring_up_to_date(engine: Engine, path: Path) -> None:
    """Makes the tables of a new ledger, or changes those of an older one.

    Raises:
        LedgerError: it is of a newer version; it is left as it is.
    """
    with engine.connect() as connection:
        # One transaction for all of it: SQLite's driver opens one for rows only, not for tables, and a
        # program killed between two tables would leave a ledger that no start can use.
        connection.exec_driver_sql("BEGIN IMMEDIATE")
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
            _keep(path, path.with_name(f"{path.name}.version-{current}"))
        command.upgrade(config, "head")
        connection.commit()
