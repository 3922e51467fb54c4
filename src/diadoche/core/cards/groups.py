"""Groups of clips by day and by gaps in time: a card often holds two jobs."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from datetime import datetime, timedelta

from diadoche.core.cards.clips import Clip

# Longer than a meal, shorter than a night's sleep.
GAP = timedelta(hours=5)


@dataclass(frozen=True, slots=True)
class ClipGroup:
    """Clips that follow each other without a long gap. Clips that tell no time are a group of their own."""

    clips: tuple[Clip, ...]

    @property
    def first(self) -> datetime | None:
        """When its first clip began."""
        return self.clips[0].start


def groups_of(clips: Sequence[Clip], gap: timedelta = GAP) -> tuple[ClipGroup, ...]:
    """The groups of a card in order of time, the clips without a time last."""
    timed = sorted(((clip.start, clip) for clip in clips if clip.start), key=lambda each: each[0])
    groups: list[list[Clip]] = []
    until: datetime | None = None
    for start, clip in timed:
        if until is None or start - until > gap or start.date() != until.date():
            groups.append([])
        groups[-1].append(clip)
        until = start + timedelta(seconds=clip.duration_s or 0)
    untimed = [clip for clip in clips if clip.start is None]
    return tuple(ClipGroup(tuple(group)) for group in (*groups, untimed) if group)
