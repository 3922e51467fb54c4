"""The clips of one route, counted as they come and go: ten thousand are not counted anew because one was judged."""

from __future__ import annotations

from collections import Counter
from enum import Enum, auto
from typing import NamedTuple

from diadoche.core.identify.facts import Facts
from diadoche.screens.clip_formats import ClipFormats, FormatCount


class Kind(Enum):
    """What a clip counts as, once: what has an output is made, whatever else was said of it."""

    MADE = auto()
    UNWANTED = auto()
    ASKED = auto()
    OPEN = auto()


def kind_of(*, made: bool, unwanted: bool, asked: bool) -> Kind:
    """What a clip counts as; what is listed, counted and made goes by this alone.

    Args:
        made: whether an output of it is there.
        unwanted: whether a person said no to it.
        asked: whether an output of it is in the queue.
    """
    return Kind.MADE if made else Kind.UNWANTED if unwanted else Kind.ASKED if asked else Kind.OPEN


class Standing(NamedTuple):
    """How a clip was counted.

    Attributes:
        facts: what is known of it, its route among that.
        kind: what it counts as.
        unwanted: whether a person said no to it.
        asked: whether an output of it is in the queue.
        sound_apart: whether a second sound of it lies in files of its own.
    """

    facts: Facts
    kind: Kind
    unwanted: bool
    asked: bool
    sound_apart: bool


class RouteTally:
    """How many clips of a route there are, how they stand, and what those that are open amount to.

    What was put in is taken out by the very same standing, so that nothing is left of it.
    """

    def __init__(self, formats: ClipFormats) -> None:
        self._formats = formats
        self.clips = self.made = self.unwanted = self.asked = 0
        # Of those that are open: how many, their bytes, their formats, and which have sound in files of its own.
        self.open = self.open_bytes = 0
        self.open_formats: dict[int, FormatCount] = {}
        self.sounds_apart: set[int] = set()
        # Why clips are of this route.
        self.reasons: Counter[tuple[str, ...]] = Counter()

    def put_in(self, clip_id: int, standing: Standing) -> None:
        """Counts a clip."""
        self.clips += 1
        self.reasons[standing.facts.route.reasons] += 1
        self._count(clip_id, standing, 1)

    def take_out(self, clip_id: int, standing: Standing) -> None:
        """Counts a clip no more that was counted with this standing."""
        reasons = standing.facts.route.reasons
        self.clips -= 1
        self.reasons[reasons] -= 1
        if not self.reasons[reasons]:
            del self.reasons[reasons]
        self._count(clip_id, standing, -1)

    def change(self, clip_id: int, before: Standing, now: Standing) -> None:
        """Counts a clip otherwise, of which the very same is known as before."""
        if before.kind is now.kind and before.sound_apart == now.sound_apart:
            self.asked += now.asked - before.asked
            return
        self._count(clip_id, before, -1)
        self._count(clip_id, now, 1)

    def _count(self, clip_id: int, standing: Standing, by: int) -> None:
        """By what a clip counts as."""
        facts, kind, _unwanted, asked, sound_apart = standing
        self.asked += by * asked
        if kind is Kind.MADE:
            self.made += by
        elif kind is Kind.UNWANTED:
            self.unwanted += by
        elif kind is Kind.OPEN:
            self.open += by
            self.open_bytes += by * facts.size_bytes
            if facts.video:
                self._count_format(clip_id, facts, by)
            if sound_apart:
                (self.sounds_apart.add if by > 0 else self.sounds_apart.discard)(clip_id)

    def _count_format(self, clip_id: int, facts: Facts, by: int) -> None:
        number, pictures = self._formats.of(clip_id, facts)
        count = self.open_formats.get(number)
        if count is None:
            count = self.open_formats[number] = FormatCount()
        count.clips += by
        count.pictures += by * pictures
        if not count.clips:
            del self.open_formats[number]
