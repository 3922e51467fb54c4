"""Puts the application together; the one module that knows every floor."""

from __future__ import annotations

import time
from pathlib import Path

from diadoche.cli.app import Windows, app
from diadoche.demo.opening import SHOOT, begin_making, demo_places, demo_settings
from diadoche.services.places import default_places

_FIRST_CARD_WITHIN_S = 120


def _open_shoot() -> int:
    # Qt is loaded only when a window is wanted: the command line must run where there is no screen.
    from diadoche.ui.application import Opening, run

    return run(Opening(default_places()))


def _open_demo(folder: Path) -> int:
    from diadoche.ui.application import Opening, run

    folder = folder.absolute()
    folder.mkdir(parents=True, exist_ok=True)
    making = begin_making(folder)
    cards = folder / "cards"
    began = time.monotonic()
    while making.poll() is None and time.monotonic() - began < _FIRST_CARD_WITHIN_S:
        if cards.is_dir() and any(not path.name.startswith(".") for path in cards.iterdir()):
            break
        time.sleep(0.2)
    try:
        return run(Opening(demo_places(folder), SHOOT, demo_settings(folder), folder / "bench", cards))
    finally:
        making.terminate()
        making.wait()


def main() -> None:
    """The program's entry: verbs go to the command line, none opens the window."""
    Windows.open_shoot = staticmethod(_open_shoot)
    Windows.open_demo = staticmethod(_open_demo)
    app()


if __name__ == "__main__":
    main()
