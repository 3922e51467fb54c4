"""What a screen reader is told, view by view: every control has a name of its own, every table its cells."""

from __future__ import annotations

import asyncio
import os
import shutil
import subprocess
import sys
from collections import Counter
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path

import pytest

from diadoche.demo.opening import demo_settings
from diadoche.services.ledger.ledger import Ledger
from diadoche.services.ledger.shoots import open_shoot
from diadoche.services.machine.state_places import default_places
from tests.accessible_tree import LAUNCHER, Node, Tree, accessible_session, tree_of
from tests.end_to_end.conftest import copied_and_known

# What can be worked with, by the role names of AT-SPI.
_CONTROLS = {"push button", "check box", "text", "entry", "combo box", "table", "toggle button", "radio button", "link"}
# Of these, no two are called alike.
_NAMED_APART = {"push button", "check box", "text", "table"}
# What is on show in each view in the middle of the demo's day.
_VIEWS = {
    "Cards": ["Card Drone", "Card Keeper's camcorder", "Place for copies Shuttle A", "Drone to Shuttle A: ", "Offload"],
    "Footage": ["Clips", "Find clips", "Keep"],
    "Outputs": ["Outputs that were made", "Make"],
    "Work": ["Jobs", "Do it again"],
    "Ledger": ["Waybills", "Search the ledger", "Check the copies again"],
}

# What opens upon a button: the view, the button, what is told then, and what closes it.
_DIALOGS = (
    ("Cards", "Offload…", ["Name of the card Drone", "Pattern of the folders", "DRON0001, ", "Start"], "Back"),
    ("Outputs", "recipe for the clips to convert", ["Recipes", "Look-up table: None", "Take this recipe"], "Back"),
)


@contextmanager
def _listening(folder: Path, *words: str, module: str = "diadoche.main") -> Iterator[dict[str, str]]:
    """A program, in a session that listens to what it tells a screen reader."""
    if not LAUNCHER.exists() or "DISPLAY" not in os.environ:
        pytest.skip("no accessibility bus here: at-spi2-core or a screen is missing")
    with accessible_session(folder) as found:
        quiet = subprocess.DEVNULL
        command = [sys.executable, "-m", module, *words]
        with subprocess.Popen(command, env={**os.environ, **found}, stdout=quiet, stderr=quiet) as program:
            try:
                yield found
            finally:
                program.terminate()
                program.wait()


@pytest.fixture
def session(demo_cards: dict[str, Path], tmp_path: Path) -> Iterator[dict[str, str]]:
    """The demo, as it is opened."""
    demo = tmp_path / "demo"
    demo.mkdir()
    drawn = next(iter(demo_cards.values())).parent
    (demo / "cards").symlink_to(drawn)
    shutil.copy(drawn.parent / ".demo-version", demo)
    with _listening(tmp_path, "demo", str(demo)) as found:
        yield found


@pytest.fixture
def sphere_session(own_state: Path, demo_cards: dict[str, Path], tmp_path: Path) -> Iterator[dict[str, str]]:
    """A shoot of a camera with two lenses, copied and looked at."""
    ledger = Ledger(default_places().ledger)
    assert ledger.path.is_relative_to(own_state)
    shoot = open_shoot(ledger, "Spheres", demo_settings(tmp_path))
    copied_and_known(ledger, shoot, {"Lamp room": demo_cards["Lamp room"]})
    ledger.close()
    with _listening(tmp_path) as found:
        yield found


def _unnamed(nodes: list[Node]) -> list[Node]:
    return [node for node in nodes if node.role in _CONTROLS and not node.name.strip()]


def _told_twice(nodes: list[Node]) -> set[str]:
    names = Counter((node.role, node.name) for node in nodes if node.role in _NAMED_APART)
    return {name for (_role, name), count in names.items() if count > 1}


async def _look_at_dialog(tree: Tree, view: str, opener: str, names: list[str], leave: str) -> None:
    """Opens a dialog, reads all that it tells, and leaves it."""
    await tree.press(next(node for node in await tree.shown() if node.name.startswith(f"{view}: ")))
    await tree.press(await tree.waits_for_part(opener))
    nodes = await tree.waits_for(names)
    assert _unnamed(nodes) == [], opener
    assert _told_twice(nodes) == set(), opener
    await tree.press(next(node for node in nodes if node.name == leave))


async def _read_alone(session: dict[str, str], names: list[str]) -> None:
    async with tree_of(session) as tree:
        nodes = await tree.waits_for(names)
        assert _unnamed(nodes) == []
        assert _told_twice(nodes) == set()
        await _read_tables(tree, names[0], nodes)


async def _walk_stitching(session: dict[str, str]) -> None:
    names = ["Takes", "Rig", "Quality", "Eyes", "Size", "Level", "Moment of the take", "Align here", "Right in degrees"]
    async with tree_of(session) as tree:
        await tree.waits_for(["Outputs: "])
        await _look_at_dialog(tree, "Outputs", "How: ", names, "Done")


async def _walk(session: dict[str, str]) -> None:
    async with tree_of(session) as tree:
        await tree.waits_for(_VIEWS["Cards"])
        for view, names in _VIEWS.items():
            nodes = await tree.shown()
            item = next(node for node in nodes if node.name.startswith(f"{view}: "))
            await tree.press(item)
            nodes = await tree.waits_for(names)
            assert _unnamed(nodes) == [], view
            assert _told_twice(nodes) == set(), view
            await _read_tables(tree, view, nodes)
        for view, opener, names, leave in _DIALOGS:
            await _look_at_dialog(tree, view, opener, names, leave)


async def _read_tables(tree: Tree, view: str, nodes: list[Node]) -> None:
    for table in (node for node in nodes if node.role == "table"):
        cells = await tree.cells(table)
        assert any(cells), (view, table.name)


def test_every_view_is_told_to_a_screen_reader(session: dict[str, str]) -> None:
    asyncio.run(_walk(session))


def test_the_dialog_of_takes_is_told_to_a_screen_reader(sphere_session: dict[str, str]) -> None:
    asyncio.run(_walk_stitching(sphere_session))


@pytest.mark.parametrize(
    ("dialog", "names"),
    [
        ("help", ["Keys", "Guide", "Keys and what they do", "Close"]),
        ("address", ["Address", "User, if it asks for one", "Password", "Connect", "Back"]),
        ("places", ["Places to look at", "Output", "Original, at the same moment", "Done"]),
    ],
)
def test_dialogs_from_menus_and_tables_are_told_to_a_screen_reader(
    tmp_path: Path, dialog: str, names: list[str]
) -> None:
    with _listening(tmp_path, dialog, str(tmp_path), module="tests.dialogs_on_show") as session:
        asyncio.run(_read_alone(session, names))
