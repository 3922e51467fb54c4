"""Pictures of a clip as they play: read ahead on a thread of their own, each given out at its time.

What plays is the clip's own time. A picture that comes too late to be seen is not made ready, though others may rest on
it; one that nothing rests on is not even decoded; and where decoding from a later place is sooner there, it goes there.
"""

from __future__ import annotations

import math
import threading
import time
from collections import deque
from collections.abc import Callable
from dataclasses import dataclass

from diadoche.core.footage.display import Rgb
from diadoche.core.footage.frames import Pictures

# More a second no screen shows, when it runs faster than it was recorded.
_SEEN_A_SECOND = 60
# However late all of them are, so often one is seen.
_SEEN_AT_LEAST_S = 0.1
# So late, what nothing rests on is left out for a while; and later still it goes on from another place.
_HURRY_S, _HURRIES_FOR_S, _LEAP_S = 0.2, 3.0, 1.0
_AHEAD = 8
_BACK_BYTES = 96_000_000
# What took so long will take longer when something else is at work.
_SLOWER = 1.1
_ROUNDING_S = 1e-6


@dataclass(frozen=True, slots=True)
class Played:
    """A picture whose time has come."""

    moment: int
    picture: Rgb


class PictureStream:
    """Plays from one moment on, forwards or backwards; nobody else may use its pictures until it is closed."""

    def __init__(
        self,
        pictures: Pictures,
        first: int,
        speed: float,
        ready: Callable[[], None],
        clock: Callable[[], float] = time.monotonic,
    ) -> None:
        """
        Args:
            pictures: of the clip.
            first: the moment that is seen first.
            speed: 1 is as recorded; negative runs backwards; not 0.
            ready: called on another thread when there is a picture after there was none, and at the end.
            clock: tells the time, in seconds.
        """
        self._pictures = pictures
        self._first = first
        self._back = speed < 0
        self._moments_a_second = abs(speed) * float(pictures.shape.moments_a_second)
        fast = self._moments_a_second / _SEEN_A_SECOND if abs(speed) > 1 else 1
        self._step = max(1, math.ceil(fast))
        self._ready = ready
        self._clock = clock
        self._news = threading.Condition()
        self._waiting: deque[Played] = deque()
        self._room = _AHEAD
        # When the first picture was seen; time begins with it, however long it took to get there.
        self._began_s: float | None = None
        # The last picture that was made ready, and when.
        self._wanted, self._wanted_s = -math.inf, 0.0
        self._closed = self._at_end = False
        self._error: Exception | None = None
        # The moment that was read last, seen or not: at the end, the last one of the clip or the first.
        self.reached = first
        pictures.stopped = self._is_closed
        self._thread = threading.Thread(target=self._read, name="pictures", daemon=True)
        self._thread.start()

    @property
    def ended(self) -> bool:
        """Whether every picture was given out, and nothing is left to be told."""
        with self._news:
            return self._at_end and not self._waiting and self._error is None

    def wait_s(self) -> float | None:
        """How long until the next picture is due; None while there is none."""
        with self._news:
            if self._at_end and not self._waiting:
                return 0.0
            return max(0.0, -self._late_s(self._waiting[0].moment)) if self._waiting else None

    def take(self) -> Played | None:
        """The newest picture whose time has come, if there is one.

        Raises:
            MediaError: the file fails, after all pictures before that were given out.
            OSError: it cannot be read any more.
        """
        with self._news:
            newest = None
            while self._waiting and self._late_s(self._waiting[0].moment) >= -_ROUNDING_S:
                newest = self._waiting.popleft()
                if self._began_s is None:
                    self._began_s = self._clock()
            self._news.notify()
            if newest is None and not self._waiting and self._error is not None:
                raise self._error
        return newest

    def close(self) -> None:
        """Ends reading; the pictures are free for others afterwards."""
        with self._news:
            self._closed = True
            self._news.notify()
        self._thread.join()
        self._pictures.stopped = lambda: False

    def _is_closed(self) -> bool:
        return self._closed

    # -- on the thread that reads ---------------------------------------------------------------

    def _read(self) -> None:
        try:
            if self._back:
                self._read_back()
            else:
                self._read_ahead()
        except Exception as error:  # noqa: BLE001  # told to whoever takes the pictures, on that thread
            self._error = error
        with self._news:
            self._at_end = True
        self._ready()

    def _read_ahead(self) -> None:
        moment, until_s = self._first, -math.inf
        while True:
            for at, picture in self._pictures.ahead(moment, self._wants):
                if not self._put(at, picture):
                    return
                late_s = self._late_s(at)
                if late_s > _HURRY_S:
                    until_s = self._clock() + _HURRIES_FOR_S
                self._pictures.hurry(self._clock() < until_s)
                moment = self._moment_in(0.0)
                if late_s > _LEAP_S and self._pictures.leads_on(moment):
                    break
            else:
                return

    def _read_back(self) -> None:
        # While one part is shown the next one is read. Each is decoded from the key picture before it: as many at once
        # as there is room for, and where that takes longer than they are seen for, fewer of a longer part.
        self._room = max(_AHEAD, _BACK_BYTES // self._pictures.picture_bytes)
        usual, takes_s, last = self._step, 0.0, self._first
        while last >= 0:
            if self._began_s is not None and self._late_s(last) > -takes_s:
                # Those that will have come too late by then are passed over.
                last = max(0, self._moment_in(takes_s))
            self._pictures.hurry(self._step > usual)
            begun_s = self._clock()
            found = self._pictures.before(last, self._room * self._step, self._wants)
            takes_s = _SLOWER * (self._clock() - begun_s)
            self._step = max(usual, math.ceil(takes_s * self._moments_a_second / self._room))
            for at, picture in reversed(found):
                if not self._put(at, picture):
                    return
            last = found[0][0] - 1 if found else last - self._room

    def _put(self, moment: int, picture: Rgb | None) -> bool:
        """Whether it goes on."""
        with self._news:
            self.reached = moment
            if picture is None:
                return not self._closed
            while len(self._waiting) >= self._room and not self._closed:
                self._news.wait()
            if self._closed:
                return False
            was_empty = not self._waiting
            self._waiting.append(Played(moment, picture))
        if was_empty:
            self._ready()
        return True

    # -- time -----------------------------------------------------------------------------------

    def _wants(self, moment: int) -> bool:
        """Whether the picture of a moment is to be seen, now that it has been decoded."""
        if abs(moment - self._wanted) < self._step:
            return False
        now_s = self._clock()
        if self._late_s(moment) > 1 / _SEEN_A_SECOND and now_s - self._wanted_s < _SEEN_AT_LEAST_S:
            return False
        self._wanted, self._wanted_s = moment, now_s
        return True

    def _late_s(self, moment: int) -> float:
        """By how much a moment's time has passed, in seconds; negative before it."""
        if self._began_s is None:
            return 0.0
        return self._clock() - self._began_s - abs(moment - self._first) / self._moments_a_second

    def _moment_in(self, seconds: float) -> int:
        """The moment that is due after so many seconds."""
        passed_s = 0.0 if self._began_s is None else self._clock() + seconds - self._began_s
        passed = int(passed_s * self._moments_a_second)
        return self._first - passed if self._back else self._first + passed
