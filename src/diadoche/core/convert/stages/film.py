"""Film taken off its video clock: of each ten fields, in which four film pictures stood for two and for three fields in
turns, the four pictures are woven again.

Fields that follow each other belong to one film picture where they do not comb. The turns of two and three are kept
where nothing moves, and found anew where the film was cut.
"""

from __future__ import annotations

import math
from collections import deque
from collections.abc import Iterator
from dataclasses import dataclass, replace
from fractions import Fraction

import av
import numpy as np

from diadoche.core.convert.formats import PictureFormat
from diadoche.core.identify.looks import luma_of
from diadoche.core.identify.scan import Fields, combing_between, fields_of
from diadoche.core.run import Missing, Picture
from diadoche.core.timecode import PictureLabels, Timecode, counting_base

# Four film pictures in five video pictures [13818-2, 6.3.10 shows the turns].
_FILM_SHARE = Fraction(4, 5)
# So many fields are looked at before the next film picture is cut off: two whole turns.
_AHEAD = 10
# One way of taking turns is believed against the other when it combs less by this share.
_CLEARER = 0.9
_FEWEST_PAIRS = 4


@dataclass(frozen=True, slots=True)
class _Field:
    picture: Picture
    fields: Fields
    is_top: bool
    time_s: Fraction
    # How far it combs with the field after it; known when that has come.
    combs: float = 0.0


class FilmPictures:
    """Four pictures out of five."""

    def __init__(self, format_in: PictureFormat) -> None:
        self._rate = format_in.rate
        self._top_first = format_in.field_order != "bottom"
        self._held: deque[_Field] = deque()
        # How many fields the film picture before had: turns are taken where nothing moves.
        self._before = 3
        self._begun = False
        # When the next film picture is shown, on an even clock.
        self._next_s: Fraction | None = None

    def format_out(self, format_in: PictureFormat) -> PictureFormat:
        """Progressive pictures at four fifths of the rate; labels count on from the first one's moment."""
        rate = format_in.rate * _FILM_SHARE
        return replace(
            format_in,
            rate=rate,
            pictures=round(format_in.pictures * _FILM_SHARE),
            scan="progressive",
            field_order=None,
            pulldown=False,
            labels=_film_labels(format_in.labels, rate),
        )

    def push(self, unit: Picture | Missing) -> Iterator[Picture | Missing]:
        """Film pictures that are settled by one more video picture."""
        if isinstance(unit, Missing):
            # The turns are broken there; they are found anew behind.
            yield from self.flush()
            yield unit
            return
        luma, bits = luma_of(unit.frame)
        fields, half_s = fields_of(float(unit.time_s), luma, bits), 1 / self._rate / 2
        for place, is_top in enumerate((self._top_first, not self._top_first)):
            self._take(_Field(unit, fields, is_top, unit.time_s + place * half_s))
        while len(self._held) > _AHEAD:
            yield from self._next()

    def flush(self) -> Iterator[Picture | Missing]:
        """What is left: a single field that belongs to nothing is no picture."""
        while len(self._held) > 1:
            yield from self._next()
        self._held.clear()
        self._before, self._begun, self._next_s = 3, False, None

    def _take(self, field: _Field) -> None:
        if self._held:
            last = self._held[-1]
            upper, between = (last, field) if last.is_top else (field, last)
            self._held[-1] = replace(last, combs=combing_between(upper.fields.top, between.fields.bottom))
        self._held.append(field)

    def _next(self) -> Iterator[Picture]:
        count = self._length()
        taken = [self._held.popleft() for _ in range(min(count, len(self._held)))]
        self._before, self._begun = count, True
        if len(taken) < 2:
            return
        first, second = taken[:2]
        length_s = 1 / (self._rate * _FILM_SHARE)
        # Turns of two and three fields fall to either side of the film's own even clock, by half a field.
        even_s = self._next_s if self._next_s is not None else first.time_s
        if abs(even_s - first.time_s) > 1 / self._rate / 2:
            even_s = first.time_s
        self._next_s = even_s + length_s
        frame = _woven(*((first, second) if first.is_top else (second, first)))
        yield Picture(frame, even_s, first.picture.damaged or second.picture.damaged, length_s)

    def _length(self) -> int:
        """How many fields the next film picture has: that of the two ways of taking turns that combs less inside."""
        combs = [field.combs for field in self._held]
        cost = {}
        for first in (2, 3) if self._begun else (1, 2, 3):
            inside, begin, length = [], 0, first
            while begin + length <= min(len(combs), _AHEAD):
                inside += combs[begin : begin + length - 1]
                begin, length = begin + length, 5 - length if length > 1 else 2
            # Too few pairs tell nothing: then turns are simply taken.
            cost[first] = float(np.mean(inside)) if len(inside) >= _FEWEST_PAIRS else math.inf
        usual = (3 if self._before == 2 else 2) if self._begun else 2
        best = min(cost, key=lambda first: cost[first])
        return best if cost[best] < cost[usual] * _CLEARER else usual


def _woven(top: _Field, bottom: _Field) -> av.VideoFrame:
    """A picture of the upper lines of one field and the lower lines of another, to the sample."""
    if top.picture is bottom.picture:
        return top.picture.frame
    frame, other = top.picture.frame, bottom.picture.frame
    made = av.VideoFrame(frame.width, frame.height, frame.format.name)
    for out, upper, lower in zip(made.planes, frame.planes, other.planes, strict=True):
        lines = np.frombuffer(out, np.uint8).reshape(-1, out.line_size)  # type: ignore[call-overload]  # a buffer
        wide = min(out.line_size, upper.line_size, lower.line_size)
        for first, plane in ((0, upper), (1, lower)):
            given = np.frombuffer(plane, np.uint8)  # type: ignore[call-overload]  # a buffer
            given = given[: plane.line_size * plane.height].reshape(plane.height, plane.line_size)
            lines[first : plane.height : 2, :wide] = given[first::2, :wide]
    return made


def _film_labels(labels: PictureLabels | None, rate: Fraction) -> PictureLabels | None:
    """The label of the first picture at the film's rate: the same second, and the nearest picture in it."""
    if labels is None:
        return None
    base, film = counting_base(labels.first.rate), counting_base(rate)
    text = str(labels.first).replace(";", ":")
    seconds, _, frames = text.rpartition(":")
    label = f"{seconds}:{min(film - 1, int(frames) * film // base):02}"
    return PictureLabels(Timecode.parse(label, rate), rate)
