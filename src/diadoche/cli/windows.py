"""How the window is opened; set by the one module that knows every floor."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path


class Windows:
    """Both ways, each with the exit code that it gives."""

    # With a folder that is taken as a card, where there is one.
    open_shoot: Callable[[Path | None], int]
    open_demo: Callable[[Path], int]
