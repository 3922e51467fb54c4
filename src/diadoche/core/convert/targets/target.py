"""What a target is: where encoded pictures and sound go, and how what became of them is looked at again."""

from __future__ import annotations

from collections.abc import Sequence
from contextlib import AbstractContextManager
from fractions import Fraction
from pathlib import Path
from typing import Protocol

import av

from diadoche.core.convert.check import Checks, Finding
from diadoche.core.convert.kept_boxes import Kept
from diadoche.core.convert.sound import SoundTrack
from diadoche.core.run import Sound
from diadoche.core.watch import Watch


class Target(Protocol):
    """An output that is being written."""

    # Whether it is a folder of files.
    is_folder: bool

    @property
    def sounds(self) -> Sequence[SoundTrack]:
        """Its sound tracks; known when it has begun."""

    @property
    def holds_boxes(self) -> bool:
        """Whether tracks and boxes of ISO base media can come along as they are."""

    def writing(self, part: Path) -> AbstractContextManager[None]:
        """Opens it.

        Raises:
            TargetError: the disk refused.
            MediaError: the container does not take what it would hold.
        """

    def begin(self, first: int, end_s: Fraction | None, *, with_timecode: bool) -> None:
        """Sets the encoders, before the first picture.

        Args:
            first: which picture of the recording, counted at the output's rate, becomes the first.
            end_s: where a part ends, seconds from the first picture; None for all.
            with_timecode: whether a label is written.
        """

    def picture(self, frame: av.VideoFrame) -> None:
        """Encodes the next picture."""

    def sound(self, unit: Sound, time_s: Fraction) -> None:
        """Encodes sound; its time is counted from the output's first picture."""

    def end(self) -> None:
        """Writes what encoders still hold."""

    def finish(self, part: Path, kept: Kept) -> None:
        """Adds the tracks and boxes that come along as they are, after closing and before the check."""

    def examine(self, part: Path, watch: Watch) -> tuple[Checks, tuple[Finding, ...]]:
        """Reads everything again and holds it against what is to be in it; what was looked at meanwhile counts."""
