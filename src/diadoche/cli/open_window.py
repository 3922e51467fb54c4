"""The verb by which a desktop opens the window."""

from __future__ import annotations

from pathlib import Path
from typing import Annotated

import typer

from diadoche.cli.frame import must_be_there, reported
from diadoche.cli.windows import Windows
from diadoche.core.errors import RequestError

Folder = Annotated[Path | None, typer.Argument(help="A card, or any folder with recordings.")]


def open_window(folder: Folder = None) -> None:
    """Open the window, with a folder taken as a card; where a window is open already, it takes it."""
    with reported(as_json=False):
        if folder is not None:
            must_be_there(folder)
            if not folder.is_dir():
                raise RequestError(f"{folder} is no folder.", path=folder, do="Name the folder that it lies in.")
        raise typer.Exit(Windows.open_shoot(folder.absolute() if folder is not None else None))
