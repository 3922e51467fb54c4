"""Puts the application together; the one module that knows every floor."""

from __future__ import annotations

from pathlib import Path

from diadoche.cli.app import Windows, app
from diadoche.demo.bench import bench_of
from diadoche.demo.opening import SHOOT, begin_making, demo_places, demo_settings, still_coming
from diadoche.services.machine.state_places import default_places


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
    try:
        return run(
            Opening(
                demo_places(folder),
                SHOOT,
                demo_settings(folder),
                bench_of(folder / "bench", cards, coming=lambda: still_coming(making, cards)),
            )
        )
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
