"""Picture sources: what converting reads from. A file and joined spans are the first; a stitch or a
developed clip is another class with the same members.
"""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from dataclasses import dataclass
from datetime import datetime
from fractions import Fraction
from pathlib import Path
from typing import Protocol

from diadoche.core.convert.formats import PictureFormat, SoundFormat
from diadoche.core.convert.kept_boxes import Kept, what_to_keep
from diadoche.core.convert.source_index import Instants, source_instants
from diadoche.core.convert.tags import NO_TAGS, Tags
from diadoche.core.errors import MediaError
from diadoche.core.identify.facts import Facts
from diadoche.core.media import opened
from diadoche.core.run import Run, Unit


@dataclass(frozen=True, slots=True)
class Provenance:
    """Where pictures come from: the files, when they were recorded, and what else lies in them, by kind.

    `more_pictures` is how many picture tracks the files hold beside the one that is taken; `span_differences`, what
    later files say otherwise than the first.
    """

    originals: tuple[Path, ...]
    start: datetime | None = None
    data: tuple[str, ...] = ()
    more_pictures: int = 0
    span_differences: tuple[str, ...] = ()
    tags: Tags = NO_TAGS


class PictureSource(Protocol):
    """Anything that pictures and sound come from, in one pass from the original."""

    @property
    def provenance(self) -> Provenance:
        """The files that it is made from."""

    @property
    def picture(self) -> PictureFormat:
        """What its pictures are like."""

    @property
    def sounds(self) -> tuple[SoundFormat, ...]:
        """What its sound tracks are like."""

    def units(self, begin_s: Fraction, end_s: Fraction | None) -> Iterator[Unit]:
        """Pictures in the order of showing, what is missing among them, and sound, in about the order of time.

        Frames are in the library's pixel formats, of the size that `picture` says; they may be written over.

        Args:
            begin_s: what ends before may be left out, seconds from the first picture.
            end_s: nothing from there on is wanted; None for all.
        """

    def instants(self) -> Instants | None:
        """When its pictures are shown, found by other means than `units`; None where that is not known."""

    def kept(self) -> Kept:
        """The tracks and boxes beside picture and sound; when they begin is known after `units` was read."""


def _tags(run: Run, facts: Facts) -> Tags:
    try:
        with opened(run.parts[0]) as media:
            return Tags.of(media, facts.container)
    except MediaError:
        # Whoever reads its pictures says why.
        return NO_TAGS


class FileSource:
    """A file, or the spans of one clip, decoded, with the sound files beside them."""

    def __init__(self, paths: Sequence[Path], facts: Facts, sounds: Sequence[Path] = ()) -> None:
        self.picture = PictureFormat.of(facts)
        self.sounds = tuple(SoundFormat.of(track) for track in facts.audio)
        self._run = Run(paths, self.picture.rate if self.picture.even else None, sounds)
        originals = (*self._run.paths, *self._run.sounds)
        self.provenance = Provenance(
            originals, facts.start, facts.data, len(facts.video) - 1, facts.span_differences, _tags(self._run, facts)
        )
        self._container = facts.container

    def units(self, begin_s: Fraction = Fraction(0), end_s: Fraction | None = None) -> Iterator[Unit]:
        """Everything, decoded.

        Raises:
            MediaError: a span cannot be opened.
        """
        return self._run.units(begin_s, end_s)

    def instants(self) -> Instants | None:
        """When its pictures are shown, by the tables or the stamps of its files."""
        return source_instants(self._run.paths, self.picture.rate)

    def kept(self) -> Kept:
        """What stands beside picture and sound in ISO base media; of other containers nothing comes along."""
        if self._container not in {"MP4", "MOV"} or any(len(part) > 1 for part in self._run.parts):
            return Kept(lost=tuple(each for each in self.provenance.data if each != "timecode"))
        begins_s = self._run.begins_s or [Fraction(0)] * len(self._run.parts)
        return what_to_keep(self._run.paths, begins_s)
