"""Puts the application together; the one module that knows every floor."""

from __future__ import annotations

import os
import sys
from pathlib import Path

from diadoche.cli.windows import Windows

# Nothing here is a plugin of the library that checks values: looking for some takes longer than all it checks.
os.environ.setdefault("PYDANTIC_DISABLE_PLUGINS", "__all__")


def _open_shoot(folder: Path | None) -> int:
    # Qt is loaded only when a window is wanted: the command line must run where there is no screen.
    from diadoche.services.machine.state_places import default_places
    from diadoche.ui.start import Fill, run

    places = default_places()

    def load() -> Fill:
        from diadoche.ui.application import Application, Opening

        return lambda app, window: Application(app, Opening(places), window)

    return run(places, load, folder)


def _open_demo(folder: Path) -> int:
    from diadoche.demo.make import fresh_cards_folder
    from diadoche.demo.opening import DAY, SHOOT, begin_making, demo_places, demo_settings, still_coming
    from diadoche.ui.start import Fill, run

    folder = folder.absolute()
    cards = fresh_cards_folder(folder)
    making = begin_making(folder)

    def load() -> Fill:
        from diadoche.demo.bench import bench_of
        from diadoche.ui.application import Application, Opening

        bench = bench_of(folder / "bench", cards, coming=lambda: still_coming(making, cards))
        opening = Opening(demo_places(folder), SHOOT, demo_settings(folder), bench, DAY)
        return lambda app, window: Application(app, opening, window)

    try:
        return run(demo_places(folder), load)
    finally:
        making.terminate()
        making.wait()


def main() -> None:
    """The program's entry: verbs go to the command line, none opens the window."""
    Windows.open_shoot = staticmethod(_open_shoot)
    Windows.open_demo = staticmethod(_open_demo)
    try:
        if len(sys.argv) == 1:
            # Without a word the window opens: it does not wait for the command line's library.
            sys.exit(_open_shoot(None))
        from diadoche.cli.app import app

        app()
    except Exception as error:  # noqa: BLE001  # whatever it is, it is told as a problem
        # Verbs have a frame of their own; this is for what fails around it.
        from diadoche.cli.output import say_problems
        from diadoche.services.machine.reports import unforeseen

        say_problems([unforeseen(error)])
        sys.exit(1)


if __name__ == "__main__":
    main()
