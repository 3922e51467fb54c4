"""The person's own files are read where nobody waits for them, and never longer than a moment."""

from __future__ import annotations

import os
import threading
from collections.abc import Iterator
from pathlib import Path

import pytest

from diadoche.core.convert.recipe_heads import SUPPLIED
from diadoche.core.errors import RequestError
from diadoche.core.identify.route import load_profile, supplied_text
from diadoche.demo.faulty_folder import Faults
from diadoche.services.machine.state_places import StatePlaces
from diadoche.services.station import own_files as module
from diadoche.services.station.own_files import OwnFiles
from tests.mounts import Mounter
from tests.system_bus import wait_until

_LONG_S = 60


@pytest.fixture
def places(tmp_path: Path) -> StatePlaces:
    return StatePlaces(tmp_path / "state", tmp_path / "config", tmp_path / "cache")


@pytest.fixture
def changed() -> threading.Event:
    return threading.Event()


@pytest.fixture
def own(places: StatePlaces, changed: threading.Event) -> Iterator[OwnFiles]:
    found = OwnFiles(places, changed.set)
    yield found
    found.close()


def _put(folder: Path, name: str, text: str) -> None:
    folder.mkdir(parents=True, exist_ok=True)
    (folder / name).write_text(text)


def test_what_is_put_there_is_found_and_told(own: OwnFiles, places: StatePlaces, changed: threading.Event) -> None:
    supplied = set(own.recipes.value.known)
    assert "prores-422" in supplied
    assert (own.rigs.value, own.recipes.value.mistakes) == ({}, ())
    text = (SUPPLIED / "ffv1.toml").read_text()
    places.own_recipes.mkdir(parents=True)
    # Links that lead nowhere, as many as it takes to stand in front of what comes now.
    for number in range(30):
        (places.own_recipes / f"gone{number}").symlink_to("nowhere")
    own.recipes.now()
    changed.clear()
    _put(places.own_recipes, "mine.toml", text.replace('"ffv1"', '"mine"', 1))
    assert not changed.is_set()
    own.look_again()
    assert changed.wait(_LONG_S)
    assert set(own.recipes.value.known) == {*supplied, "mine"}
    # The same listing is not read anew: the value stays the very same.
    before = own.recipes.value
    assert own.recipes.now() is before


def test_mistakes_stand_where_they_are_and_take_nothing_else_along(own: OwnFiles, places: StatePlaces) -> None:
    _put(places.own_profiles, "general.toml", "title = ")
    _put(places.own_profiles, "mine.toml", supplied_text("general"))
    _put(places.own_recipes, "wrong.toml", "nonsense")
    _put(places.own_layouts, "wrong.toml", "nonsense")
    _put(places.own_rigs, "wrong.json", "{}")
    profiles = own.profiles.value
    assert isinstance(profiles["general"], RequestError)
    assert profiles["mine"] == load_profile("general")
    # Brackets without end are nonsense that is no mere mistake of writing.
    _put(places.own_recipes, "deep.toml", "a = " + "[" * 100_000)
    _put(places.own_layouts, "deep.toml", "a = " + "[" * 100_000)
    _put(places.own_rigs, "deep.json", "[" * 100_000)
    assert {mistake.problem.path.rpartition("/")[2] for mistake in own.recipes.value.mistakes} == {
        "deep.toml",
        "wrong.toml",
    }
    assert own.rigs.value == {"deep": None, "wrong": None}
    assert own.layouts.value


def test_a_pipe_among_them_is_not_waited_for(own: OwnFiles, places: StatePlaces) -> None:
    for folder in (places.own_recipes, places.own_profiles, places.own_layouts, places.own_rigs):
        folder.mkdir(parents=True)
        os.mkfifo(folder / "pipe.toml")
        os.mkfifo(folder / "pipe.json")
    (mistake,) = own.recipes.value.mistakes
    assert "pipe.toml" in mistake.problem.what
    assert isinstance(own.profiles.value["pipe"], RequestError)
    assert own.layouts.value
    assert own.rigs.value == {"pipe": None}


def test_a_home_that_hangs_is_asked_once_and_what_is_there_comes_late(
    places: StatePlaces, changed: threading.Event, faulty: Mounter, monkeypatch: pytest.MonkeyPatch
) -> None:
    text = (SUPPLIED / "ffv1.toml").read_text()
    _put(places.own_recipes, "mine.toml", text.replace('"ffv1"', '"mine"', 1))
    monkeypatch.setattr(module, "_FIRST_S", 0.2)
    disk = faulty(places.config)
    disk.set(Faults(hangs=True, hangs_on_metadata=True))
    own = OwnFiles(StatePlaces(places.state, disk.point, places.cache), changed.set)
    before = threading.active_count()
    for _time in range(5):
        assert "prores-422" in own.recipes.value.known
        assert "mine" not in own.recipes.now().known
        own.look_again()
    assert threading.active_count() <= before + 4, "one thread a folder at most waits for it"
    disk.set(Faults())
    wait_until(lambda: "mine" in own.recipes.value.known, _LONG_S, "it answers again")
    assert changed.wait(_LONG_S)
    own.close()
