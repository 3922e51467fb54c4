"""Picture sources: what converting reads from. A file and joined spans are the first; a stitch or a
developed clip is another class with the same members.
"""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from fractions import Fraction
from pathlib import Path
from typing import Protocol

from diadoche.core.convert.kept_boxes import Kept, what_to_keep
from diadoche.core.convert.source_index import Instants, source_instants
from diadoche.core.identify.facts import Facts
from diadoche.core.run import Run, Unit


class PictureSource(Protocol):
    """Anything that pictures and sound come from, in one pass from the original."""

    facts: Facts

    @property
    def originals(self) -> tuple[Path, ...]:
        """The files it is made from."""

    def units(self, begin_s: Fraction, end_s: Fraction | None) -> Iterator[Unit]:
        """Pictures in the order of showing, what is missing among them, and sound, in about the order of time.

        Args:
            begin_s: what ends before may be left out, seconds from the first picture.
            end_s: nothing from there on is wanted; None for all.
        """

    def instants(self) -> Instants | None:
        """When its pictures are shown, found by other means than `units`; None where that is not known."""

    def kept(self) -> Kept:
        """The tracks and boxes beside picture and sound; when they begin is known after `units` was read."""


class FileSource:
    """A file, or the spans of one clip, decoded, with the sound files beside them."""

    def __init__(self, paths: Sequence[Path], facts: Facts, sounds: Sequence[Path] = ()) -> None:
        self.facts = facts
        video = facts.video[0]
        self._run = Run(paths, video.frame_rate if video.frame_rate_mode == "constant" else None, sounds)

    @property
    def originals(self) -> tuple[Path, ...]:
        """The files it is made from."""
        return (*self._run.paths, *self._run.sounds)

    def units(self, begin_s: Fraction = Fraction(0), end_s: Fraction | None = None) -> Iterator[Unit]:
        """Everything, decoded.

        Raises:
            MediaError: a span cannot be opened.
        """
        return self._run.units(begin_s, end_s)

    def instants(self) -> Instants | None:
        """When its pictures are shown, by the tables or the stamps of its files."""
        return source_instants(self._run.paths, self.facts.video[0].frame_rate)

    def kept(self) -> Kept:
        """What stands beside picture and sound in ISO base media; of other containers nothing comes along."""
        if self.facts.container not in {"MP4", "MOV"} or any(len(part) > 1 for part in self._run.parts):
            return Kept(lost=tuple(each for each in self.facts.data if each != "timecode"))
        begins_s = self._run.begins_s or [Fraction(0)] * len(self._run.parts)
        return what_to_keep(self._run.paths, begins_s)
