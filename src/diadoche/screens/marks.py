"""Shapes that carry a state, named once for every view. Each has a word, so that colour never says it alone."""

from __future__ import annotations

from enum import Enum


class Mark(Enum):
    """What a shape says."""

    EXPECTED = "nothing yet"
    UNDER_WAY = "under way"
    PROVEN = "proven"
    DONE = "done"
    STOPPED = "stopped"
    PROBLEM = "needs a person"
