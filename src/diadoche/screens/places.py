"""Suspect places of an output: what to look at, one by one, beside the same moment of the original."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from fractions import Fraction
from itertools import groupby
from pathlib import Path

from diadoche.core.convert.check import Finding
from diadoche.core.convert.outputs import Output
from diadoche.core.sizes import count_text
from diadoche.core.sphere.seam_curve import SeamCurve
from diadoche.services.ledger.kept_clips import KeptClip

_WORDS = {
    "repeated": "the picture before stands on",
    "missing": "one does not decode in the original; the one before stands there",
    "left out": "one came too soon after another",
    "damaged": "damaged",
    "black": "black",
    "frozen": "nothing moves",
    "changed": "another picture than went in",
    "out of step": "out of step",
}


@dataclass(frozen=True, slots=True)
class Place:
    """A stretch of an output: its first picture, its time, how many pictures, and what is there."""

    picture: int
    time_s: float
    pictures: int
    words: str

    @property
    def place(self) -> str:
        """When it is, and which picture."""
        minutes, seconds = divmod(self.time_s, 60)
        return f"{int(minutes)}:{seconds:05.2f}, picture {self.picture}"


@dataclass(frozen=True, slots=True)
class OutputPlaces:
    """An output with its places."""

    path: Path
    clip: KeptClip
    places: tuple[Place, ...]
    # Of a stitch: how well its seams fit.
    seam: SeamCurve | None = None

    @property
    def heading(self) -> str:
        """What is looked at."""
        if self.seam is not None and not self.places:
            return f"How well the seams of {self.path.name} fit"
        return f"{count_text(len(self.places), 'place')} to look at in {self.path.name}"

    @property
    def can_be_looked_at(self) -> bool:
        """Whether there is anything to look at."""
        return bool(self.places) or self.seam is not None

    @property
    def rate(self) -> Fraction:
        """Pictures a second."""
        facts = self.clip.facts
        return facts.video[0].frame_rate if facts is not None and facts.video else Fraction(25)


def places_of(findings: Sequence[Finding]) -> tuple[Place, ...]:
    """Findings as places: what holds of pictures in a row is one place."""
    found: list[Place] = []
    numbered = enumerate(sorted(findings, key=lambda each: (each.kind, each.words, each.picture)))
    for _key, group in groupby(numbered, key=lambda pair: (pair[1].kind, pair[1].words, pair[1].picture - pair[0])):
        row = [finding for _number, finding in group]
        first = row[0]
        words = _WORDS.get(first.kind, first.kind)
        detail = f", {first.words}" if first.words else ""
        count = f", {count_text(len(row), 'picture')}" if len(row) > 1 else ""
        found.append(Place(first.picture, first.time_s, len(row), f"{words}{detail}{count}"))
    return tuple(sorted(found, key=lambda place: place.picture))


def output_places(clip: KeptClip, output: Output) -> OutputPlaces:
    """The places of an output that was delivered."""
    seam = SeamCurve(output.seam_px) if output.seam_px else None
    return OutputPlaces(Path(output.output), clip, places_of(output.findings), seam)
