"""Work that may take long or hang, done away from the thread that shows things."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any

from diadoche.core.errors import DiadocheError

# Does work elsewhere, and then something with what came of it, or with its error, on the thread that asked.
InBackground = Callable[[Callable[[], Any], Callable[[Any], None]], None]


def outcome_of(work: Callable[[], Any]) -> Any:
    """What comes of work, or the error by which it failed."""
    try:
        return work()
    except (DiadocheError, OSError) as error:
        return error


def at_once(work: Callable[[], Any], then: Callable[[Any], None]) -> None:
    """Here and now, for whoever has no window to keep quick."""
    then(outcome_of(work))
