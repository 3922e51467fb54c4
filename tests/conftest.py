"""Fixtures that all tests share."""

from __future__ import annotations

import atexit
import os
import subprocess
import threading
from collections.abc import Iterator
from contextlib import contextmanager
from functools import cache
from pathlib import Path

import pytest

from tests.screen import screen_of_its_own

if "PYTEST_XDIST_WORKER" in os.environ and "DISPLAY" in os.environ:
    # Two windows on one screen would take the keyboard from each other.
    os.environ["DISPLAY"] = screen_of_its_own()
# One locale for all machines. Qt would change one without UTF-8, and warn; a warning of Qt's fails a test here.
os.environ["LC_ALL"] = "C.UTF-8"
os.environ.setdefault("QT_QPA_PLATFORM", "offscreen" if "DISPLAY" not in os.environ else "xcb")

from diadoche.core.disks import mount_of
from diadoche.demo.make import make_demo
from diadoche.services.machine.state_places import StatePlaces
from diadoche.services.station.own_files import OwnFiles, OwnFolder, OwnRecipes
from tests.left_over import await_end_of_threads, await_end_of_timers
from tests.loaded import Loaded
from tests.mounts import faulty, image, small_card

__all__ = ["faulty", "image", "small_card"]

_CACHE = Path(__file__).parent.parent / "build" / "test-demo"


def pytest_configure(config: pytest.Config) -> None:
    """Draws the demo's cards before several processes ask for them."""
    if getattr(config.option, "numprocesses", None) and "PYTEST_XDIST_WORKER" not in os.environ:
        make_demo(_CACHE, at_once=os.cpu_count() or 1)


@pytest.fixture(autouse=True)
def _nothing_is_left_over(request: pytest.FixtureRequest) -> Iterator[None]:
    """A test ends what it started: else the next one's failure would be this one's."""
    before = threading.enumerate()
    yield
    assert await_end_of_threads(before) == []
    if "qapp" in request.fixturenames:
        assert await_end_of_timers() == []


@pytest.fixture(scope="session")
def demo_cards() -> dict[str, Path]:
    """The demo's cards, drawn once and kept between runs; tests only read them."""
    paths = make_demo(_CACHE)
    return {path.name: path for path in paths}


@pytest.fixture
def own_recipes(tmp_path: Path) -> Iterator[OwnFolder[OwnRecipes]]:
    """A person's own recipes: none yet."""
    own = OwnFiles(StatePlaces(tmp_path / "state", tmp_path / "config", tmp_path / "cache"))
    yield own.recipes
    own.close()


@pytest.fixture(scope="session")
def drone(demo_cards: dict[str, Path]) -> Path:
    return demo_cards["Drone"]


@pytest.fixture(scope="session")
def camcorder(demo_cards: dict[str, Path]) -> Path:
    return demo_cards["Keeper's camcorder"]


@pytest.fixture
def known_disk(tmp_path: Path) -> None:
    """Skips a test that needs to know on which disk files lie."""
    if mount_of(tmp_path) is None:
        pytest.skip("the kernel's table of mounts does not have this root, as in a chroot: no disk is known")


@pytest.fixture
def own_state(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> Path:
    """XDG folders of its own, for the application and for processes that it starts."""
    for name in ("STATE", "CONFIG", "CACHE", "DATA"):
        monkeypatch.setenv(f"XDG_{name}_HOME", str(tmp_path / "xdg" / name.lower()))
    return tmp_path / "xdg"


@contextmanager
def _mounted(place: Path, options: str) -> Iterator[Path]:
    """A real filesystem in memory; the test is skipped where mounting is not allowed."""
    place.mkdir()
    words = ["mount", "-t", "tmpfs", "-o", options, "tmpfs", str(place)]
    if subprocess.run(words, capture_output=True, check=False).returncode != 0:
        pytest.skip(f"mounting a tmpfs with {options} is not allowed here")
    try:
        yield place
    finally:
        subprocess.run(["umount", "-l", str(place)], check=True)


@pytest.fixture
def small_disk(tmp_path: Path) -> Iterator[Path]:
    """A filesystem of 8 MB."""
    with _mounted(tmp_path / "small-disk", "size=8m") as place:
        yield place


@pytest.fixture
def read_only_disk(tmp_path: Path) -> Iterator[Path]:
    """A filesystem that is mounted read-only."""
    with _mounted(tmp_path / "read-only-disk", "ro") as place:
        yield place


@cache
def _loaded() -> Loaded:
    made = Loaded()
    atexit.register(made.close)
    return made


@pytest.fixture(scope="session")
def loaded() -> Loaded:
    """The application in a process that has loaded everything, ready to be run and killed."""
    return _loaded()


def diadoche(*words: str | Path) -> subprocess.CompletedProcess[str]:
    """Runs the command line in a process of its own."""
    return _loaded().run([str(word) for word in words])
