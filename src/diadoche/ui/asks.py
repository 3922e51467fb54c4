"""What the window asks the application for, which alone owns devices and settings."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass


@dataclass(frozen=True, slots=True)
class Asks:
    """What the window asks the application for.

    Args:
        scheme: changes between light and dark.
        text: makes text larger (1), smaller (-1), or as usual (0).
        connect: connects to a share, by address, user and password.
        quiet: keeps the desktop from opening windows of its own on cards, or lets it again; None where it cannot.
        is_quiet: whether the desktop is kept from it now.
    """

    scheme: Callable[[], None]
    text: Callable[[int], None]
    connect: Callable[[str, str, str], None]
    quiet: Callable[[bool], None] | None = None
    is_quiet: Callable[[], bool] = lambda: False
