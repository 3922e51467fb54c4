"""How fast a clip decodes and is made ready for the screen on this machine: whether it plays in real time."""

from __future__ import annotations

import time
from collections.abc import Callable, Sequence
from dataclasses import dataclass
from fractions import Fraction
from pathlib import Path

from diadoche.core.errors import MediaError
from diadoche.core.footage.frames import reader_for
from diadoche.core.identify.facts import Facts
from diadoche.core.names import shown
from diadoche.core.watch import Watch

# Long enough to pass several groups of pictures, short enough to be done before anybody wonders.
_LONGEST_S = 1.5


@dataclass(frozen=True, slots=True)
class Pace:
    """What was reached: pictures a second, of a clip that wants `rate` of them."""

    pictures_a_second: float
    rate: Fraction

    @property
    def times_rate(self) -> float:
        """How many times its own rate was reached."""
        return self.pictures_a_second / float(self.rate)

    @property
    def in_real_time(self) -> bool:
        """Whether it plays in real time here."""
        return self.times_rate >= 1.0


def measure_pace(
    paths: Sequence[Path],
    facts: Facts,
    view: tuple[int, int],
    watch: Watch,
    longest_s: float = _LONGEST_S,
    clock: Callable[[], float] = time.perf_counter,
) -> Pace:
    """Decodes pictures one after another, as the player does, and counts.

    Args:
        paths: the spans of the clip.
        facts: of the clip, with its scan decided.
        view: the size in pixels that pictures are fitted into.
        watch: stops it.
        longest_s: how long to go on at most, in seconds.
        clock: tells the time, in seconds.

    Raises:
        MediaError: nothing here decodes it, or it fails before enough pictures were seen.
        Cancelled: the watch was stopped.
    """
    reader = reader_for(paths, facts, view)
    try:
        # Opening and the first picture are no part of playing.
        reader.at(0)
        begun_s = clock()
        shown_moments, passed_s = 0, 0.0
        for _moment, picture in reader.ahead(1, lambda _moment: True):
            watch.check()
            if picture is not None:
                shown_moments += 1
            passed_s = clock() - begun_s
            if passed_s >= longest_s:
                break
    finally:
        reader.close()
    if not shown_moments:
        raise MediaError(
            f"{shown(paths[0].name)} is too short, or too damaged, to tell how fast it plays.",
            path=paths[0],
            safe="It is untouched.",
            do="Play it to see.",
        )
    return Pace(shown_moments / reader.shape.fields / passed_s, facts.video[0].frame_rate)
