"""Clips by what a recipe gets of them: a thousand of one camera are one question to it, not a thousand."""

from __future__ import annotations

from collections.abc import Iterable, Mapping
from dataclasses import dataclass, replace

from diadoche.core.convert.formats import PictureFormat, SoundFormat
from diadoche.core.identify.facts import Facts

# A picture's format but for how many there are and their labels, and those of all sound tracks.
_Format = tuple[PictureFormat, tuple[SoundFormat, ...]]


@dataclass(frozen=True, slots=True)
class Alike:
    """Clips of one format: how many, and how many pictures they have together."""

    picture: PictureFormat
    sounds: tuple[SoundFormat, ...]
    clips: int


@dataclass(slots=True)
class FormatCount:
    """How many clips there are of a format, and how many pictures they have together."""

    clips: int = 0
    pictures: int = 0


def _format_of(facts: Facts) -> tuple[_Format, int]:
    """The format of a clip with a picture, and how many pictures it has."""
    picture = PictureFormat.of(facts)
    sounds = tuple(SoundFormat.of(track) for track in facts.audio)
    return (replace(picture, pictures=0, timecode=None, labels=None), sounds), picture.pictures


class ClipFormats:
    """Numbers formats. Each clip is looked at once, and again when something else was found of it."""

    def __init__(self) -> None:
        self._numbers: dict[_Format, int] = {}
        self._formats: list[_Format] = []
        # By clip: what was known of it when it was looked at, the number of its format, and its pictures.
        self._known: dict[int, tuple[Facts, int, int]] = {}

    def of(self, clip_id: int, facts: Facts) -> tuple[int, int]:
        """The number of a clip's format, and how many pictures it has; it must have a picture track."""
        known = self._known.get(clip_id)
        if known is None or known[0] is not facts:
            found, pictures = _format_of(facts)
            number = self._numbers.setdefault(found, len(self._formats))
            if number == len(self._formats):
                self._formats.append(found)
            known = self._known[clip_id] = facts, number, pictures
        return known[1], known[2]

    def count(self, clips: Iterable[tuple[int, Facts]]) -> dict[int, FormatCount]:
        """How many of some clips with a picture, by their ids, there are of each format, by its number."""
        found: dict[int, FormatCount] = {}
        for clip_id, facts in clips:
            number, pictures = self.of(clip_id, facts)
            count = found.setdefault(number, FormatCount())
            count.clips += 1
            count.pictures += pictures
        return found

    def alike(self, counts: Mapping[int, FormatCount]) -> list[Alike]:
        """Formats with their clips, in the order in which formats were first met."""
        return [self.alike_of(number, counts[number]) for number in sorted(counts)]

    def alike_of(self, number: int, count: FormatCount) -> Alike:
        """Clips of one format."""
        picture, sounds = self._formats[number]
        return Alike(replace(picture, pictures=count.pictures), sounds, count.clips)
