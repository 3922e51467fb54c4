"""The clips that are selected: known by their numbers, so that they stay selected however rows are arranged."""

from __future__ import annotations

from collections.abc import Callable, Sequence


class Selection:
    """Some clips of the shoot; the first of them is at hand for the player."""

    def __init__(self) -> None:
        self.clip_ids: list[int] = []

    @property
    def current(self) -> int | None:
        """The clip at hand."""
        return self.clip_ids[0] if self.clip_ids else None

    def choose(self, clip_ids: Sequence[int]) -> None:
        """Selects clips and no others, the one at hand first."""
        self.clip_ids = list(clip_ids)

    def keep(self, is_there: Callable[[int], bool]) -> None:
        """Lets go of clips that are no longer there."""
        self.clip_ids = [clip_id for clip_id in self.clip_ids if is_there(clip_id)]
