"""A clip: one recording as the person who pressed the button thinks of it."""

from __future__ import annotations

from dataclasses import dataclass, replace
from datetime import datetime
from typing import Literal

ClipKind = Literal["recording", "sequence"]


@dataclass(frozen=True, slots=True)
class Companion:
    """A file that belongs to a clip, and what it is for."""

    path: str
    role: str


@dataclass(frozen=True, slots=True)
class Clip:
    """One recording. Paths are relative to the card's top; spans are in order of time.

    A `sequence` has a picture a frame as its spans; `gaps` are the numbers that are missing among them.
    Of several lenses that recorded together, the first one's files are the spans, the others companions.
    """

    name: str
    spans: tuple[str, ...]
    companions: tuple[Companion, ...]
    size_bytes: int
    duration_s: float | None = None
    start: datetime | None = None
    kind: ClipKind = "recording"
    gaps: tuple[int, ...] = ()

    @property
    def files(self) -> tuple[str, ...]:
        """All files of the clip."""
        return (*self.spans, *(companion.path for companion in self.companions))

    @property
    def lenses(self) -> tuple[str, ...]:
        """The files of the other lenses, in their order."""
        return tuple(each.path for each in self.companions if each.role.startswith("lens "))

    def as_dict(self) -> dict[str, object]:
        """The clip as the command line's JSON has it."""
        return {
            "name": self.name,
            "kind": self.kind,
            "spans": list(self.spans),
            "companions": [{"path": each.path, "role": each.role} for each in self.companions],
            "files": list(self.files),
            "bytes": self.size_bytes,
            "duration_s": self.duration_s,
            "start": self.start.isoformat() if self.start else None,
            "first": self.spans[0].rpartition("/")[2],
            "last": self.spans[-1].rpartition("/")[2],
            "count": len(self.spans),
            "gaps": list(self.gaps),
        }


def with_times(clip: Clip, duration_s: float | None, start: datetime | None) -> Clip:
    """The clip with what its headers told."""
    return replace(clip, duration_s=clip.duration_s if clip.duration_s is not None else duration_s, start=start)


def joined(before: Clip, clip: Clip) -> Clip:
    """Two clips as one, the second's files after the first's."""
    known = before.duration_s is not None and clip.duration_s is not None
    return replace(
        before,
        spans=before.spans + clip.spans,
        companions=before.companions + clip.companions,
        size_bytes=before.size_bytes + clip.size_bytes,
        duration_s=(before.duration_s or 0) + (clip.duration_s or 0) if known else None,
    )
