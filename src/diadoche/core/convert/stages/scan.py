"""Scan: fields become whole pictures, where that is wanted and where there are fields at all.

`frame` gives a picture for each frame, `field` one for each field: each has the lines of its own field, the others come
from what stands around them. Where a clip is mixed, a picture that is progressive by sight stays as it is.
"""

from __future__ import annotations

import itertools
from collections import deque
from collections.abc import Iterator
from dataclasses import replace

import av
import av.error
import av.filter

from diadoche.core.convert.formats import PictureFormat
from diadoche.core.convert.recipes import ScanChange
from diadoche.core.convert.stages.film import FilmPictures
from diadoche.core.convert.stages.stage import Stage
from diadoche.core.identify.looks import luma_of
from diadoche.core.identify.scan import Fields, fields_of, seen_as
from diadoche.core.run import Missing, Picture

# A picture of a mixed clip is judged with so many on either side of it.
_AROUND = 2
_PARITY = {"top": "tff", "bottom": "bff"}


class AsItIs:
    """Leaves the scan as it is."""

    def format_out(self, format_in: PictureFormat) -> PictureFormat:
        """The same."""
        return format_in

    def push(self, unit: Picture | Missing) -> Iterator[Picture | Missing]:
        """The same."""
        yield unit

    def flush(self) -> Iterator[Picture | Missing]:
        """Nothing is held."""
        return iter(())


class Deinterlacing:
    """Whole pictures out of fields."""

    def __init__(self, format_in: PictureFormat, *, each_field: bool) -> None:
        """
        Args:
            format_in: of the fields.
            each_field: a picture for each field, at twice the rate; else one for each frame.
        """
        self._each_field = each_field
        self._rate = format_in.rate
        self._order = format_in.field_order or "top"
        # Only where some pictures are progressive is every one looked at.
        self._looks = format_in.scan == "mixed"
        self._graph: av.filter.Graph | None = None
        self._waiting: dict[int, Picture] = {}
        self._number = 0
        self._seen: Fields | None = None
        # By sight, from the first picture on; one behind, for each is held against the next.
        self._kinds: list[str | None] = []
        self._made: deque[tuple[int, int, av.VideoFrame]] = deque()

    def format_out(self, format_in: PictureFormat) -> PictureFormat:
        """Progressive pictures; twice as many where each field becomes one."""
        times = 2 if self._each_field else 1
        labels = replace(format_in.labels, picture_rate=format_in.rate * times) if format_in.labels else None
        return replace(
            format_in,
            rate=format_in.rate * times,
            pictures=format_in.pictures * times,
            scan="progressive",
            field_order=None,
            labels=labels,
        )

    def push(self, unit: Picture | Missing) -> Iterator[Picture | Missing]:
        """Pictures come out one later than they go in, for the next one is looked at too."""
        if isinstance(unit, Missing):
            yield unit
            if self._each_field:
                yield Missing(unit.time_s + 1 / self._rate / 2)
            return
        frame, number = unit.frame, self._number
        self._number += 1
        if self._graph is None:
            self._graph = self._filter(frame)
        self._waiting[number] = unit
        if self._looks:
            self._look(unit)
        frame.pts, frame.time_base = number, 1 / self._rate
        self._graph.push(frame)
        self._pull(self._graph)
        yield from self._ready(len(self._kinds) - _AROUND if self._looks else number + 1)

    def flush(self) -> Iterator[Picture | Missing]:
        """The last pictures."""
        if self._graph is not None:
            self._graph.push(None)
            self._pull(self._graph)
            yield from self._ready(self._number)

    def _look(self, unit: Picture) -> None:
        luma, bits = luma_of(unit.frame)
        fields = fields_of(float(unit.time_s), luma, bits)
        if self._seen is not None:
            self._kinds.append(seen_as(self._seen, fields))
        self._seen = fields

    def _is_whole(self, number: int) -> bool:
        """Whether a picture of a mixed clip is progressive, by the company it is in: one alone may be misjudged."""
        around = self._kinds[max(0, number - _AROUND) : number + _AROUND + 1]
        whole = sum(kind == "progressive" for kind in around)
        fields = sum(kind in {"top", "bottom"} for kind in around)
        # Where nothing moves, nothing combs.
        return whole > fields or not (whole or fields)

    def _pull(self, graph: av.filter.Graph) -> None:
        while True:
            try:
                made = graph.pull()
            except (av.error.BlockingIOError, av.error.EOFError):
                return
            assert isinstance(made, av.VideoFrame)
            # The filter counts in half frames.
            self._made.append((*divmod(made.pts or 0, 2), made))

    def _ready(self, known: int) -> Iterator[Picture]:
        """Pictures before number `known`, of which it can be told what they are."""
        half_s = 1 / self._rate / 2
        while self._made and self._made[0][0] < known:
            number, second, made = self._made.popleft()
            for past in [each for each in self._waiting if each < number]:
                del self._waiting[past]
            unit = self._waiting[number]
            # In a progressive picture both fields are of one moment: it stands as it is for both.
            frame = unit.frame if self._looks and self._is_whole(number) else made
            length_s = half_s if self._each_field else unit.length_s
            yield Picture(frame, unit.time_s + second * half_s, unit.damaged, length_s)

    def _filter(self, frame: av.VideoFrame) -> av.filter.Graph:
        graph = av.filter.Graph()
        mode = "send_field" if self._each_field else "send_frame"
        chain = (
            graph.add_buffer(width=frame.width, height=frame.height, format=frame.format, time_base=1 / self._rate),
            graph.add("bwdif", f"mode={mode}:parity={_PARITY[self._order]}:deint=all"),
            graph.add("buffersink"),
        )
        for before, after in itertools.pairwise(chain):
            before.link_to(after)
        graph.configure()
        return graph


def scan_stage(format_in: PictureFormat, change: ScanChange) -> Stage[Picture | Missing]:
    """The stage for a wish; what is progressive stays as it is, and so does what holds no film where film is wanted."""
    if not format_in.interlaced or change == "keep":
        return AsItIs()
    if change == "film":
        return FilmPictures(format_in) if format_in.pulldown else AsItIs()
    return Deinterlacing(format_in, each_field=change == "field")
