"""The ledger: made, brought up to date, refused, damaged, locked; and what it remembers."""

from __future__ import annotations

import sqlite3
from contextlib import closing
from pathlib import Path

import pytest
from alembic.autogenerate import compare_metadata
from alembic.runtime.migration import MigrationContext
from sqlalchemy import create_engine
from sqlalchemy.pool import NullPool

from diadoche.core.errors import LedgerError
from diadoche.core.watch import Watch
from diadoche.services.jobs.list_card import ListCardRequest, perform_list_card
from diadoche.services.jobs.offload import OffloadRequest, perform_offload
from diadoche.services.ledger.job_results import record_outcome
from diadoche.services.ledger.kept_clips import kept_clips
from diadoche.services.ledger.known_copies import familiar
from diadoche.services.ledger.ledger import Ledger
from diadoche.services.ledger.models import NEWEST_VERSION, Base
from diadoche.services.ledger.shoots import ShootSettings, change_shoot, latest_shoot, open_shoot
from diadoche.services.ledger.waybills import waybills
from diadoche.services.machine.settings import Settings, load_settings, save_settings
from diadoche.services.wire import from_text, to_text


def test_the_migrations_make_what_the_models_say(tmp_path: Path) -> None:
    Ledger(tmp_path / "l.sqlite").close()
    engine = create_engine(f"sqlite:///{tmp_path / 'l.sqlite'}", poolclass=NullPool)
    with engine.connect() as connection:
        differences = compare_metadata(MigrationContext.configure(connection), Base.metadata)
        assert MigrationContext.configure(connection).get_current_revision() == NEWEST_VERSION
    assert [each for each in differences if "type" not in str(each[0])] == []


def test_a_newer_ledger_is_refused_and_left_alone(tmp_path: Path) -> None:
    path = tmp_path / "l.sqlite"
    Ledger(path).close()
    with closing(sqlite3.connect(path)) as database, database:
        database.execute("update alembic_version set version_num = '9999'")
    with pytest.raises(LedgerError, match=r"version 9999.*up to"):
        Ledger(path)
    with closing(sqlite3.connect(path)) as database, database:
        assert database.execute("select version_num from alembic_version").fetchone() == ("9999",)


def test_a_damaged_ledger_is_named_and_left_as_it_is(tmp_path: Path) -> None:
    path = tmp_path / "l.sqlite"
    path.write_bytes(b"this is no database at all" * 100)
    with pytest.raises(LedgerError, match="damaged"):
        Ledger(path)
    assert path.read_bytes() == b"this is no database at all" * 100


def test_shoots_keep_their_settings(tmp_path: Path) -> None:
    ledger = Ledger(tmp_path / "l.sqlite")
    shoot = open_shoot(ledger, "Rock", ShootSettings(places=(Path("/a"),)))
    assert open_shoot(ledger, "Rock").settings.places == (Path("/a"),)
    changed = change_shoot(ledger, shoot, name="Tern Rock", settings=ShootSettings(places=(Path("/a"), Path("/b"))))
    assert latest_shoot(ledger) == changed
    ledger.close()


def test_an_offload_is_remembered_and_its_card_recognised(tmp_path: Path, drone: Path) -> None:
    ledger = Ledger(tmp_path / "l.sqlite")
    shoot = open_shoot(ledger, "Rock")
    card = perform_list_card(ListCardRequest(drone), Watch())
    assert familiar(ledger, card).files == 0
    request = OffloadRequest(drone, (tmp_path / "a", tmp_path / "b"), shoot.id, shoot.name)
    record_outcome(ledger, request, perform_offload(request, Watch()))
    assert (familiar(ledger, card).clips, familiar(ledger, card).files) == (3, 10)
    entry = waybills(ledger)[0]
    assert (entry.card, entry.clips, entry.files, entry.proven) == ("Drone", 3, 10, 2)
    clips = kept_clips(ledger, shoot.id)
    assert [clip.clip.name for clip in clips] == ["DRON0001", "DRON0002", "DRON0003"]
    assert all(path.is_file() for clip in clips for path in clip.paths)
    ledger.close()


def test_a_copy_that_is_not_proven_gives_no_clips(tmp_path: Path, drone: Path) -> None:
    ledger = Ledger(tmp_path / "l.sqlite")
    shoot = open_shoot(ledger, "Rock")
    request = OffloadRequest(drone, (tmp_path / "a",), shoot.id, shoot.name)
    watch = Watch()
    outcome = perform_offload(request, watch)
    stopped = from_text(type(outcome.result), to_text(outcome.result).replace('"proven"', '"incomplete"'))
    record_outcome(ledger, request, type(outcome)(outcome.card, outcome.name, outcome.fingerprint, stopped, ""))
    assert kept_clips(ledger, shoot.id) == []
    ledger.close()


def test_names_that_are_no_text_pass_the_wire() -> None:
    settings = ShootSettings(places=(Path("/bad\udcff"),))
    assert from_text(ShootSettings, to_text(settings)) == settings


def test_settings_with_nonsense_become_the_usual_ones(tmp_path: Path) -> None:
    save_settings(tmp_path, Settings("dark", 120))
    assert load_settings(tmp_path) == Settings("dark", 120)
    kept = Settings("light", 200, {"a": "b"}, (900, 700), True, {"Clips": {"Name": 300}})
    save_settings(tmp_path, kept)
    assert load_settings(tmp_path) == kept
    # What makes no sense does not take along what does.
    (tmp_path / "settings.json").write_text(
        '{"scheme": "pink", "text_percent": 100000, "window_px": [1, -5], "filled": 1, "pop_ups": {"a": 1, "b": "c"}, '
        '"columns": {"Clips": {"Name": 50, "Length": true}, "Jobs": 7}}'
    )
    assert load_settings(tmp_path) == Settings(pop_ups={"b": "c"}, columns={"Clips": {"Name": 50}})
    for nonsense in (b"", b"[1]", b"[" * 100_000, b"\xff\xfe", b'{"columns": []}'):
        (tmp_path / "settings.json").write_bytes(nonsense)
        assert load_settings(tmp_path) == Settings()
