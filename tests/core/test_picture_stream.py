"""Pictures as they play: each at its time, by a clock that only moves when it is told to."""

from __future__ import annotations

import itertools
import threading
from collections.abc import Callable, Iterator
from fractions import Fraction

import numpy as np
import pytest

from diadoche.core.errors import MediaError
from diadoche.core.footage.display import Rgb
from diadoche.core.footage.frames import Shape, Wants
from diadoche.core.footage.picture_stream import PictureStream

RATE = 25
_LONG_S = 60


class Clock:
    """Time as a test has it."""

    def __init__(self) -> None:
        self.now_s = 100.0
        self._lock = threading.Lock()

    def __call__(self) -> float:
        return self.now_s

    def passes(self, seconds: float) -> None:
        with self._lock:
            self.now_s += seconds


class Counted:
    """A clip whose pictures hold their own number; each takes some time of the clock to decode."""

    picture_bytes = 3_000_000

    def __init__(self, clock: Clock, count: int = 100, takes_s: float = 0.0, fails_at: int = -1) -> None:
        self.shape = Shape(count, Fraction(RATE), 1, 16, 9)
        self._clock, self._takes_s, self._fails_at = clock, takes_s, fails_at
        self.hurried = False
        self.stopped: Callable[[], bool] = lambda: False
        self.made_ready: list[tuple[int, float]] = []

    def close(self) -> None:
        """Nothing is open."""

    def at(self, moment: int) -> Rgb | None:
        return np.full((1, 1, 3), moment, np.uint8)

    def _decoded(self, moment: int, wants: Wants) -> tuple[int, Rgb | None]:
        if moment == self._fails_at:
            raise MediaError("It ends here.")
        self._clock.passes(self._takes_s)
        if not wants(moment):
            return moment, None
        self.made_ready.append((moment, self._clock()))
        return moment, self.at(moment)

    def ahead(self, moment: int, wants: Wants) -> Iterator[tuple[int, Rgb | None]]:
        for at in range(moment, self.shape.moments):
            yield self._decoded(at, wants)

    def before(self, last: int, count: int, wants: Wants) -> list[tuple[int, Rgb | None]]:
        return [self._decoded(at, wants) for at in range(max(0, last - count + 1), last + 1)]

    def hurry(self, late: bool) -> None:
        self.hurried = self.hurried or late

    def leads_on(self, moment: int) -> bool:
        return False


class Playing:
    """A stream, and what it gives."""

    def __init__(self, pictures: Counted, first: int, speed: float, clock: Clock) -> None:
        self._ready = threading.Event()
        self._clock = clock
        self.stream = PictureStream(pictures, first, speed, self._ready.set, clock)

        self.seen: list[tuple[int, float]] = []

    def all(self) -> list[tuple[int, float]]:
        """Every picture with the time at which it was seen; time passes where none is due.

        Raises:
            MediaError: the clip fails.
        """
        while not self.stream.ended:
            wait_s = self.stream.wait_s()
            if wait_s is None:
                assert self._ready.wait(_LONG_S)
                self._ready.clear()
                continue
            self._clock.passes(wait_s)
            came = self.stream.take()
            if came is not None:
                assert came.picture[0, 0, 0] == came.moment
                self.seen.append((came.moment, self._clock.now_s))
        self.stream.close()
        return self.seen


@pytest.mark.parametrize(("first", "speed"), [(0, 1.0), (40, 1.0), (0, 2.0), (99, -1.0), (40, -2.0)])
def test_each_picture_is_seen_at_its_time(first: int, speed: float) -> None:
    clock = Clock()
    pictures = Counted(clock)
    seen = Playing(pictures, first, speed, clock).all()
    ahead = speed > 0
    assert [moment for moment, _s in seen] == (list(range(first, 100)) if ahead else list(range(first, -1, -1)))
    begun_s = seen[0][1]
    for moment, at_s in seen:
        assert at_s - begun_s == pytest.approx(abs(moment - first) / (RATE * abs(speed)), abs=1e-6)


def test_faster_than_a_screen_shows_only_some_are_made_ready() -> None:
    clock = Clock()
    pictures = Counted(clock)
    seen = [moment for moment, _s in Playing(pictures, 0, 8.0, clock).all()]
    # 200 a second: every fourth.
    assert seen == list(range(0, 100, 4)) == [moment for moment, _s in pictures.made_ready]


def test_what_comes_too_late_is_not_made_ready_but_something_is_seen_and_it_ends_in_time() -> None:
    """Decoding takes twice as long as the clip."""
    clock = Clock()
    pictures = Counted(clock, takes_s=2 / RATE)
    begun_s = clock.now_s
    seen = Playing(pictures, 0, 1.0, clock).all()
    assert pictures.hurried
    assert 10 < len(seen) < 99
    assert len(pictures.made_ready) < 99
    for (_one, one_s), (_other, other_s) in itertools.pairwise(pictures.made_ready):
        # Two are decoded in a tenth of a second at most; whoever takes them turns the clock too.
        assert other_s - one_s < 0.5
    assert clock.now_s - begun_s < 100 * 2 / RATE + 1


def test_backwards_slower_than_it_plays_fewer_pictures_of_longer_parts_are_seen() -> None:
    clock = Clock()
    pictures = Counted(clock, count=250, takes_s=1.5 / RATE)
    seen = Playing(pictures, 249, -1.0, clock).all()
    moments = [moment for moment, _s in seen]
    assert moments == sorted(moments, reverse=True)
    assert 20 < len(moments) < 200
    # None of them is seen before its time.
    begun_s = seen[0][1]
    assert all(at_s - begun_s >= (249 - moment) / RATE - 1e-6 for moment, at_s in seen)


def test_a_failure_is_told_after_what_was_seen_before_it() -> None:
    clock = Clock()
    playing = Playing(Counted(clock, fails_at=12), 5, 1.0, clock)
    with pytest.raises(MediaError, match="It ends here"):
        playing.all()
    playing.stream.close()
    assert [moment for moment, _s in playing.seen] == list(range(5, 12))


def test_it_is_closed_while_nobody_takes_anything() -> None:
    clock = Clock()
    pictures = Counted(clock, count=10_000)
    stream = PictureStream(pictures, 0, 1.0, lambda: None, clock)
    while stream.wait_s() is None:
        pass
    stream.close()
    # No more than there is room for was made ready.
    assert len(pictures.made_ready) < 12
