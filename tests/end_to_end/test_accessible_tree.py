"""What a screen reader is told, view by view: every control has a name of its own, every table its cells."""

from __future__ import annotations

import asyncio
import os
import shutil
import subprocess
import sys
from collections import Counter
from collections.abc import Iterator
from pathlib import Path

import pytest

from tests.accessible_tree import LAUNCHER, Node, Tree, accessible_session, tree_of

# What can be worked with, by the role names of AT-SPI.
_CONTROLS = {"push button", "check box", "text", "entry", "combo box", "table", "toggle button", "radio button", "link"}
# Of these, no two are called alike.
_NAMED_APART = {"push button", "check box", "text", "table"}
# What is on show in each view in the middle of the demo's day.
_VIEWS = {
    "Cards": ["Card Drone", "Card Keeper's camcorder", "Place for copies Shuttle A", "Offload"],
    "Footage": ["Clips", "Find clips", "Keep"],
    "Outputs": ["Outputs that were made", "Make"],
    "Work": ["Jobs", "Do it again"],
    "Ledger": ["Waybills", "Search the ledger", "Check the copies again"],
}

# What opens upon a button: the view, the button, what is told then, and what closes it.
_DIALOGS = (
    ("Cards", "Offload…", ["Name of the card Drone", "Pattern of the folders", "Start"], "Back"),
    ("Outputs", "recipe for the clips to convert", ["Recipes", "Look-up table: None", "Take this recipe"], "Back"),
)


@pytest.fixture
def session(demo_cards: dict[str, Path], tmp_path: Path) -> Iterator[dict[str, str]]:
    """The demo, as it is opened, in a session that listens to what it tells a screen reader."""
    if not LAUNCHER.exists() or "DISPLAY" not in os.environ:
        pytest.skip("no accessibility bus here: at-spi2-core or a screen is missing")
    demo = tmp_path / "demo"
    demo.mkdir()
    drawn = next(iter(demo_cards.values())).parent
    (demo / "cards").symlink_to(drawn)
    shutil.copy(drawn.parent / ".demo-version", demo)
    with accessible_session(tmp_path) as found:
        words = [sys.executable, "-m", "diadoche.main", "demo", str(demo)]
        quiet = subprocess.DEVNULL
        with subprocess.Popen(words, env={**os.environ, **found}, stdout=quiet, stderr=quiet) as program:
            try:
                yield found
            finally:
                program.terminate()
                program.wait()


def _unnamed(nodes: list[Node]) -> list[Node]:
    return [node for node in nodes if node.role in _CONTROLS and not node.name.strip()]


def _told_twice(nodes: list[Node]) -> set[str]:
    names = Counter((node.role, node.name) for node in nodes if node.role in _NAMED_APART)
    return {name for (_role, name), count in names.items() if count > 1}


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
            await tree.press(next(node for node in await tree.shown() if node.name.startswith(f"{view}: ")))
            nodes = await tree.waits_for(_VIEWS[view])
            await tree.press(next(node for node in nodes if opener in node.name))
            nodes = await tree.waits_for(names)
            assert _unnamed(nodes) == [], opener
            assert _told_twice(nodes) == set(), opener
            await tree.press(next(node for node in nodes if node.name == leave))


async def _read_tables(tree: Tree, view: str, nodes: list[Node]) -> None:
    for table in (node for node in nodes if node.role == "table"):
        cells = await tree.cells(table)
        assert any(cells), (view, table.name)


def test_every_view_is_told_to_a_screen_reader(session: dict[str, str]) -> None:
    asyncio.run(_walk(session))
