"""The ledger locked, cut off, of another version, gone: nothing is lost that a manifest still tells."""

from __future__ import annotations

import json
import os
import shutil
import signal
import sqlite3
from contextlib import closing
from itertools import count
from pathlib import Path

import pytest
from sqlalchemy import Engine, event

from diadoche.services.ledger.ledger import Ledger
from tests.conftest import diadoche
from tests.snapshots import snapshot

# What takes a ledger of today back to the first version.
_TO_THE_FIRST_VERSION = (
    "alter table copies drop column disk", "alter table copies drop column disk_words",
    "alter table copies drop column last_check", "alter table clips drop column shoot_id",
    "alter table clips drop column verdict", "alter table clips drop column tags",
    "alter table clips drop column note", "drop table happenings", "drop table remembered",
    "drop table evidence", "drop index ix_copies_copy_id", "drop index ix_waybills_taking",
    "alter table copies drop column taking", "alter table copies drop column copy_id",
    "alter table copies drop column renamed", "alter table waybills drop column taking",
    "alter table files drop column source", "update alembic_version set version_num = '0001'",
)  # fmt: skip


def ledger_of(state: Path) -> Path:
    return next(state.rglob("ledger.sqlite"))


@pytest.fixture
def kept(own_state: Path, drone: Path, tmp_path: Path) -> Path:
    """A card, offloaded to two places."""
    done = diadoche("offload", drone, "--to", tmp_path / "a", "--to", tmp_path / "b", "--shoot", "Rock", "--json")
    assert done.returncode == 0, done.stderr
    return own_state


def known(card: Path) -> dict[str, int]:
    found: dict[str, int] = json.loads(diadoche("look", card, "--json").stdout)["proven_before"]
    return found


def test_a_ledger_that_is_gone_comes_back_from_the_manifests(
    kept: Path, drone: Path, camcorder: Path, tmp_path: Path
) -> None:
    done = diadoche("offload", camcorder, "--to", tmp_path / "a", "--shoot", "Rock", "--json")
    assert done.returncode == 0, done.stderr
    before = {card: known(card) for card in (drone, camcorder)}
    assert all(each["files"] for each in before.values())
    copies = snapshot(tmp_path / "a")
    for file in ledger_of(kept).parent.glob("ledger.sqlite*"):
        file.unlink()
    assert known(drone)["files"] == 0
    done = diadoche("rebuild", tmp_path / "a", tmp_path / "b", "--json")
    told = json.loads(done.stdout)
    assert (told["waybills"], told["problems"]) == (2, [])
    # Nothing was read for it: the files are listed, and count as proven when they were read back.
    assert all(known(card)["files"] == 0 for card in (drone, camcorder))
    for root in sorted(path.parent for place in ("a", "b") for path in (tmp_path / place).rglob("ascmhl")):
        assert diadoche("verify", root, "--json").returncode == 0
    assert {card: known(card) for card in (drone, camcorder)} == before
    again = json.loads(diadoche("rebuild", tmp_path / "a", tmp_path / "b", "--json").stdout)
    assert (again["waybills"], again["files"]) == (0, 0)
    assert snapshot(tmp_path / "a").keys() == copies.keys()


def test_a_ledger_cut_off_is_named_and_left(kept: Path, drone: Path, tmp_path: Path) -> None:
    file = ledger_of(kept)
    for side in file.parent.glob("ledger.sqlite-*"):
        side.unlink()
    data = file.read_bytes()
    file.write_bytes(data[: len(data) // 3])
    cut = file.read_bytes()
    done = diadoche("offload", drone, "--to", tmp_path / "c", "--shoot", "Rock", "--json")
    assert done.returncode == 1
    assert "ledger" in done.stderr
    assert file.read_bytes() == cut
    file.unlink()
    for side in file.parent.glob("ledger.sqlite-*"):
        side.unlink()
    assert json.loads(diadoche("rebuild", tmp_path / "a", "--json").stdout)["waybills"] == 1


def test_a_ledger_of_a_newer_version_is_refused_and_left(kept: Path, drone: Path) -> None:
    file = ledger_of(kept)
    with closing(sqlite3.connect(file)) as database, database:
        database.execute("update alembic_version set version_num = '9999'")
    done = diadoche("look", drone, "--json")
    assert done.returncode == 1
    assert "9999" in done.stderr
    with closing(sqlite3.connect(file)) as database, database:
        assert database.execute("select count(*) from waybills").fetchone() == (1,)


def test_a_ledger_of_the_first_version_is_brought_up_and_kept_beside(kept: Path, drone: Path) -> None:
    file = ledger_of(kept)
    with closing(sqlite3.connect(file)) as database, database:
        for statement in _TO_THE_FIRST_VERSION:
            database.execute(statement)
    assert known(drone)["files"] == 10
    assert file.with_name("ledger.sqlite.version-0001").exists()
    with closing(sqlite3.connect(file)) as database, database:
        assert database.execute("select version_num from alembic_version").fetchone() == ("0004",)


def _killed_before_statement(number: int, path: Path) -> bool:
    """Opens a ledger in a process that is killed before its so-manieth statement: whether it came that far."""
    child = os.fork()
    if child == 0:
        left = count(number, -1)

        def kill_at_the_last(*_: object) -> None:
            if next(left) == 0:
                os.kill(os.getpid(), signal.SIGKILL)

        event.listen(Engine, "before_cursor_execute", kill_at_the_last)
        try:
            Ledger(path).close()
        finally:
            os._exit(0)
    _, status = os.waitpid(child, 0)
    return os.WIFSIGNALED(status)


@pytest.mark.parametrize("older", [False, True], ids=["new", "of the first version"])
def test_a_ledger_killed_at_any_statement_of_its_making_opens_again(tmp_path: Path, older: bool) -> None:
    begun = tmp_path / "begun.sqlite"
    if older:
        Ledger(begun).close()
        with closing(sqlite3.connect(begun)) as database, database:
            for statement in _TO_THE_FIRST_VERSION:
                database.execute(statement)
    for number in count():
        path = tmp_path / str(number) / "ledger.sqlite"
        path.parent.mkdir()
        if older:
            shutil.copy(begun, path)
        killed = _killed_before_statement(number, path)
        Ledger(path).close()
        with closing(sqlite3.connect(path)) as database, database:
            assert database.execute("select version_num from alembic_version").fetchall() == [("0004",)]
        if not killed:
            break
    assert number > 10


@pytest.mark.long
def test_a_ledger_that_another_program_holds_is_waited_for_then_named(kept: Path, drone: Path, tmp_path: Path) -> None:
    holder = sqlite3.connect(ledger_of(kept), isolation_level=None)
    holder.execute("begin exclusive")
    # It is waited for half a minute; what is offloaded meanwhile stands with its manifest.
    copy = diadoche("offload", drone, "--to", tmp_path / "c", "--shoot", "Held", "--json")
    holder.execute("rollback")
    holder.close()
    assert copy.returncode == 1
    assert "ledger" in copy.stderr
    shutil.rmtree(tmp_path / "c", ignore_errors=True)
    assert diadoche("offload", drone, "--to", tmp_path / "c", "--shoot", "Held", "--json").returncode == 0
