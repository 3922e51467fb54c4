"""Which way is down while a camera records, from the motion track it keeps beside the picture.

Read from Camera Motion Metadata [CAMM]: little-endian packets, each with its kind. Axes are those of `rotation`: x to
the right, y down, z ahead of the camera. An orientation takes the camera's directions into a world whose y points down;
an accelerometer at rest shows the push from below, so that it points up.
"""

from __future__ import annotations

import itertools
import struct
from collections.abc import Sequence
from dataclasses import dataclass
from fractions import Fraction
from pathlib import Path

import av
import numpy as np
from numpy.typing import NDArray

from diadoche.core.boxes import movie_payload, track_heads
from diadoche.core.media import opened
from diadoche.core.spans import parts

Array = NDArray[np.float64]
_ENTRY = "camm"
_ORIENTATION, _TURNING, _ACCELERATION = 0, 2, 3
_WORLD_DOWN = np.array([0.0, 1.0, 0.0])
# A camera that is shaken is pushed every way: over this time it evens out, and the turning tells what is between.
_STEADY_S = 1.0
# Values that come faster are taken together: what is lower than this is still the sway of a hand.
_STEP_S = 0.02
# Outside of that, what pushes is no weight [m/s²].
_LEAST_PUSH, _MOST_PUSH = 5.0, 15.0
_LEAST_SAMPLES = 2
# Of a day of footage at 1000 values a second, no more is kept.
_MOST_SAMPLES = 2_000_000


@dataclass(frozen=True)
class MotionTrack:
    """Which way was down, moment by moment.

    Args:
        times_s: from the first picture, rising, shape (n,).
        down: unit directions in the camera's frame, shape (n, 3).
    """

    times_s: Array
    down: Array

    def at(self, time_s: float) -> Array:
        """Down at a moment, a unit vector; before the first and behind the last, these."""
        between = np.array([np.interp(time_s, self.times_s, self.down[:, axis]) for axis in range(3)])
        length = float(np.linalg.norm(between))
        if length < 1e-6:  # opposite directions have no mean
            between, length = self.down[int(np.searchsorted(self.times_s, time_s)) - 1], 1.0
        found: Array = between / length
        return found

    def between(self, begin_s: float, end_s: float) -> MotionTrack:
        """That of a part; where nothing lies in it, what holds in its middle."""
        own = (self.times_s >= begin_s) & (self.times_s <= end_s)
        if own.sum() >= _LEAST_SAMPLES:
            return MotionTrack(self.times_s[own], self.down[own])
        middle = (begin_s + end_s) / 2
        return MotionTrack(np.array([middle]), self.at(middle)[None])

    @property
    def usual(self) -> Array:
        """Down as it is most of the time: the mean of all directions within twice their usual distance from it."""
        mean = _unit(self.down.mean(axis=0)[None])[0]
        apart = 1 - self.down @ mean
        near = apart <= 4 * max(float(np.median(apart)), 1e-9)
        found: Array = _unit(self.down[near].mean(axis=0)[None])[0]
        return found


def read_motion(paths: Sequence[Path]) -> MotionTrack | None:
    """The motion track of a recording in one or more spans; None where it has none that tells which way is down.

    Raises:
        MediaError: a file cannot be read.
    """
    times: list[Array] = []
    downs: list[Array] = []
    begins_s = 0.0
    for part in parts(paths):
        with opened(part) as media:
            found = _down_of(_packets(media, _tracks_of_motion(part[0])))
            lasts_s = _lasts_s(media)
        if found is not None:
            times.append(found.times_s + begins_s)
            downs.append(found.down)
        begins_s += lasts_s
    if not times:
        return None
    return MotionTrack(np.concatenate(times), np.concatenate(downs))


def _lasts_s(media: av.container.InputContainer) -> float:
    stream = media.streams.video[0] if media.streams.video else None
    if stream is None or stream.duration is None or stream.time_base is None:
        return 0.0
    return float(stream.duration * Fraction(stream.time_base))


def _tracks_of_motion(path: Path) -> set[int]:
    """Which tracks of an ISO file are of motion, counted from 0: the media library does not tell."""
    movie = movie_payload(path)
    if movie is None:
        return set()
    return {number for number, head in enumerate(track_heads(movie)) if head.entry == _ENTRY}


def _packets(media: av.container.InputContainer, numbers: set[int]) -> list[tuple[float, int, Array]]:
    """Time in seconds from the first picture, kind and values; of packets that are whole and of sense."""
    tracks = [each for each in media.streams.data if each.index in numbers]
    if not tracks or not media.streams.video:
        return []
    picture = media.streams.video[0]
    first_s = Fraction(picture.start_time or 0) * Fraction(picture.time_base or 1)
    found: list[tuple[float, int, Array]] = []
    for packet in media.demux(tracks[0]):
        if packet.pts is None or packet.time_base is None or len(found) >= _MOST_SAMPLES:
            continue
        values = _values(bytes(packet))
        if values is not None:
            found.append((float(packet.pts * Fraction(packet.time_base) - first_s), *values))
    return sorted(found, key=lambda each: each[0])


def _values(data: bytes) -> tuple[int, Array] | None:
    """Kind and three values of a packet of one of the kinds that are wanted; None of any other, or of nonsense."""
    if len(data) < 16:  # two bytes reserved, two of the kind, three floats
        return None
    _reserved, kind, *values = struct.unpack_from("<HH3f", data)
    if kind not in {_ORIENTATION, _TURNING, _ACCELERATION} or not np.isfinite(values).all():
        return None
    return kind, np.array(values, np.float64)


def _down_of(packets: Sequence[tuple[float, int, Array]]) -> MotionTrack | None:
    kinds = {kind: [(time_s, values) for time_s, own, values in packets if own == kind] for kind in range(4)}
    if len(kinds[_ORIENTATION]) >= _LEAST_SAMPLES:
        # The camera's own reckoning has all of its sensors in it.
        times = np.array([time_s for time_s, _ in kinds[_ORIENTATION]])
        return MotionTrack(times, np.stack([_seen_down(values) for _, values in kinds[_ORIENTATION]]))
    pushes = [
        (time_s, values) for time_s, values in kinds[_ACCELERATION] if _LEAST_PUSH < np.linalg.norm(values) < _MOST_PUSH
    ]
    if len(pushes) < _LEAST_SAMPLES:
        return None
    times, pushed = _taken_together(pushes)
    down = _unit(-pushed)
    turning = kinds[_TURNING]
    if len(turning) < _LEAST_SAMPLES:
        return MotionTrack(times, _unit(_evened(times, down)))
    turns, rates = _taken_together(turning)
    own_rates = np.stack([np.interp(times, turns, rates[:, axis]) for axis in range(3)], axis=-1)
    return MotionTrack(times, _with_turning(times, down, own_rates))


def _taken_together(samples: Sequence[tuple[float, Array]]) -> tuple[Array, Array]:
    """Times and values of samples, those within one step by their means."""
    times, values = np.array([time_s for time_s, _ in samples]), np.stack([value for _, value in samples])
    _, first, counts = np.unique(np.floor(times / _STEP_S), return_index=True, return_counts=True)
    return np.add.reduceat(times, first) / counts, np.add.reduceat(values, first) / counts[:, None]


def _seen_down(angle_axis: Array) -> Array:
    """The world's down in the camera's frame; `angle_axis` in radians takes the camera's directions into the world."""
    angle = float(np.linalg.norm(angle_axis))
    if angle < 1e-9:
        return _WORLD_DOWN
    # The other way round: by Rodrigues' formula with the opposite angle.
    axis, cosine, sine = angle_axis / angle, np.cos(angle), -np.sin(angle)
    along = axis * (axis @ _WORLD_DOWN) * (1 - cosine)
    turned: Array = _WORLD_DOWN * cosine + np.cross(axis, _WORLD_DOWN) * sine + along
    return turned


def _evened(times: Array, down: Array) -> Array:
    """Directions evened out over time, forth and back, so that nothing lags."""
    found = down.copy()
    for order in (range(1, len(times)), range(len(times) - 2, -1, -1)):
        for place in order:
            before = place - 1 if order.step > 0 else place + 1
            kept = np.exp(-abs(times[place] - times[before]) / (_STEADY_S / 2))
            found[place] = kept * found[before] + (1 - kept) * found[place]
    return found


def _with_turning(times: Array, pushed: Array, rates: Array) -> Array:
    """Down by how the camera turned from one moment to the next, drawn slowly to where it was pushed from.

    Forth and back in time, and the mean of both: each alone begins with one push that may have been any.
    """
    both = []
    for sign in (1, -1):
        order = np.arange(len(times))[::sign]
        found = np.empty_like(pushed)
        found[order[0]] = pushed[order[0]]
        for before, place in itertools.pairwise(order):
            step_s = times[place] - times[before]
            rate = (rates[before] + rates[place]) / 2
            # What stands still in the world turns the other way in the camera's frame.
            turned = found[before] - np.cross(rate, found[before]) * step_s
            kept = np.exp(-abs(step_s) / _STEADY_S)
            found[place] = kept * turned + (1 - kept) * pushed[place]
            found[place] /= np.linalg.norm(found[place])
        both.append(found)
    # Near an end, the pass that comes from the other end has seen more.
    return _unit(both[0] * (times - times[0] + 0.05)[:, None] + both[1] * (times[-1] - times + 0.05)[:, None])


def _unit(directions: Array) -> Array:
    found: Array = directions / np.maximum(np.linalg.norm(directions, axis=-1, keepdims=True), 1e-12)
    return found


def level_matrix(down: Array) -> Array:
    """What takes the camera's directions into a frame whose y points down; what it looks at stays ahead.

    Where it looks straight up or down, nothing is ahead: what lies to its right stays there.
    """
    y = down / np.linalg.norm(down)
    ahead = np.array([0.0, 0.0, 1.0])
    ahead = ahead - (ahead @ y) * y
    if np.linalg.norm(ahead) < 0.02:  # about a degree
        right = np.array([1.0, 0.0, 0.0])
        ahead = np.cross(right - (right @ y) * y, y)
    z = ahead / np.linalg.norm(ahead)
    found: Array = np.stack((np.cross(y, z), y, z))
    return found
