"""The clips that are selected, and what is marked of them: known by their numbers, however rows are arranged."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass


@dataclass(frozen=True, slots=True)
class MarkedPart:
    """A part of a clip, in its pictures.

    Attributes:
        first: its first picture.
        end: the picture after its last one.
    """

    first: int
    end: int

    @property
    def pictures(self) -> int:
        """How many there are."""
        return self.end - self.first


class Selection:
    """Some clips of the shoot; the first of them is at hand for the player."""

    def __init__(self) -> None:
        self.clip_ids: list[int] = []
        # By clip; selected or not, of this shoot or another: a mark stays where it was set.
        self.parts: dict[int, MarkedPart] = {}

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

    def begin_part(self, clip_id: int, picture: int, pictures: int) -> None:
        """The part of a clip of so many pictures begins with one; where it ended before, it ends with the clip now."""
        part = self.parts.get(clip_id)
        self._mark(clip_id, picture, part.end if part is not None and part.end > picture else pictures, pictures)

    def end_part(self, clip_id: int, picture: int, pictures: int) -> None:
        """The part of a clip of so many pictures ends with one; where it began after, it begins with the clip now."""
        part = self.parts.get(clip_id)
        self._mark(clip_id, part.first if part is not None and part.first <= picture else 0, picture + 1, pictures)

    def _mark(self, clip_id: int, first: int, end: int, pictures: int) -> None:
        if (first, end) == (0, pictures):
            # That is all of it.
            self.parts.pop(clip_id, None)
        else:
            self.parts[clip_id] = MarkedPart(first, end)
