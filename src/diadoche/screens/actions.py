"""What a person can do, said once: shortcuts, context menus and the list of keys are made of it."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass


def always() -> bool:
    """For what can be done at any time."""
    return True


@dataclass(frozen=True, slots=True)
class Action:
    """Something that can be done.

    Attributes:
        title: the words of a menu.
        do: does it.
        keys: the shortcut in portable words ("Ctrl+H"); nothing where there is none.
        enabled: whether it can be done now.
        chosen: whether it is what holds now, of a choice; None where it is no choice.
    """

    title: str
    do: Callable[[], object]
    keys: str = ""
    enabled: Callable[[], bool] = always
    chosen: Callable[[], bool] | None = None
