"""The verbs of the demo: the window on it, and its cards alone."""

from __future__ import annotations

from pathlib import Path
from typing import Annotated

import typer

from diadoche.cli.frame import Json, places, reported
from diadoche.cli.output import print_json, say
from diadoche.cli.windows import Windows
from diadoche.demo.make import DemoCard, make_demo


def demo(folder: Annotated[Path | None, typer.Argument(help="Where the demo shoot lives.")] = None) -> None:
    """Open the window on the demo shoot; it is made where it is missing."""
    with reported(as_json=False):
        raise typer.Exit(Windows.open_demo(folder or places().demo))


def make_demo_cards(folder: Annotated[Path, typer.Argument(help="Where to write.")], json: Json = False) -> None:
    """Write the cards of the demo shoot."""
    cards: list[dict[str, str]] = []

    def ready(card: DemoCard, path: Path) -> None:
        cards.append({"name": card.name, "layout": card.layout, "path": str(path)})
        say(f"{card.name}: {path}")

    with reported(json):
        make_demo(folder, ready)
        if json:
            print_json({"cards": cards})
