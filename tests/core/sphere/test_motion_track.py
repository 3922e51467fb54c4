"""Which way is down, from motion whose truth is known; the packets are written here by hand."""

from __future__ import annotations

import struct

import numpy as np
import pytest

from diadoche.core.sphere.motion_track import MotionTrack, _down_of, _values, level_matrix
from diadoche.core.sphere.rotation import rotation

DOWN = np.array([0.0, 1.0, 0.0])


def swaying(times: np.ndarray) -> list[np.ndarray]:
    """How a camera leans: its matrix in a world whose y is down."""
    return [rotation(30 * t, 8 * np.sin(2 * t), 12 + 10 * np.sin(1.3 * t)) for t in times]


def packet(kind: int, values: np.ndarray) -> bytes:
    return struct.pack("<HH3f", 0, kind, *(float(value) for value in values))


def angle_axis(matrix: np.ndarray) -> np.ndarray:
    angle = np.arccos(np.clip((np.trace(matrix) - 1) / 2, -1, 1))
    axis = np.array([matrix[2, 1] - matrix[1, 2], matrix[0, 2] - matrix[2, 0], matrix[1, 0] - matrix[0, 1]])
    return axis / np.linalg.norm(axis) * angle if angle > 1e-9 else np.zeros(3)


def read(samples: list[tuple[float, bytes]]) -> MotionTrack:
    found = _down_of([(time_s, *values) for time_s, data in samples if (values := _values(data)) is not None])
    assert found is not None
    return found


def off_deg(found: MotionTrack, times: np.ndarray, matrices: list[np.ndarray]) -> np.ndarray:
    """By how much down is wrong, of moments."""
    true = np.stack([matrix.T @ DOWN for matrix in matrices])
    own = np.stack([found.at(time_s) for time_s in times])
    return np.degrees(np.arccos(np.clip((true * own).sum(axis=1), -1, 1)))


def test_an_orientation_tells_down_at_once() -> None:
    times = np.arange(0, 4, 0.02)
    matrices = swaying(times)
    samples = [(t, packet(0, angle_axis(m))) for t, m in zip(times, matrices, strict=True)]
    assert off_deg(read(samples), times, matrices).max() < 0.01


@pytest.mark.parametrize("shaken", [0.0, 1.0])
def test_pushes_and_turning_tell_down_together(shaken: float) -> None:
    """A camera that sways by ten degrees, shaken by a tenth of its weight."""
    times, step = np.arange(0, 8, 0.01), 1e-4
    matrices, dice = swaying(times), np.random.default_rng(5)
    samples = []
    for t, matrix in zip(times, matrices, strict=True):
        push = matrix.T @ (-9.81 * DOWN) + shaken * dice.normal(0, 1, 3)
        turned = matrix.T @ swaying(np.array([t + step]))[0]
        samples += [(t, packet(3, push)), (t, packet(2, angle_axis(turned) / step))]
    assert np.percentile(off_deg(read(samples), times, matrices), 95) < (0.3 if not shaken else 1.2)
    # By pushes alone it lags behind, but is still about right on the mean.
    alone = read([each for each in samples if each[1][2] == 3])
    assert np.median(off_deg(alone, times, matrices)) < 8


def test_nonsense_and_what_is_not_about_down_is_left_out() -> None:
    assert _values(b"\0\0\3\0") is None
    assert _values(packet(5, np.zeros(3))) is None
    assert _values(packet(3, np.array([np.nan, 0, 0]))) is None
    falling = [(t, packet(3, np.array([0, 0.1, 0]))) for t in (0.0, 0.1, 0.2)]
    assert _down_of([(t, *values) for t, data in falling if (values := _values(data)) is not None]) is None


def test_level_keeps_what_is_ahead_ahead_whichever_way_it_leans() -> None:
    for angles in ((0.0, 0.0, 0.0), (0.0, 25.0, -70.0), (0.0, -10.0, 180.0), (0.0, 60.0, 179.0)):
        leaning = rotation(*angles)
        level = level_matrix(leaning.T @ DOWN)
        assert np.allclose(level @ (leaning.T @ DOWN), DOWN)
        ahead = level @ np.array([0.0, 0.0, 1.0])
        assert ahead[0] == pytest.approx(0, abs=1e-9)
        assert ahead[2] > 0
        assert np.linalg.det(level) == pytest.approx(1)
    straight_up = level_matrix(rotation(0.0, 90.0, 0.0).T @ DOWN)
    assert np.isfinite(straight_up).all()
    assert np.linalg.det(straight_up) == pytest.approx(1)


def test_down_is_what_it_is_most_of_the_time() -> None:
    times = np.linspace(0, 10, 101)
    down = np.stack([rotation(0, 0, 15.0).T @ DOWN] * 90 + [rotation(0, 0, 120.0).T @ DOWN] * 11)
    track = MotionTrack(times, down)
    assert np.degrees(np.arccos(track.usual @ down[0])) < 1
    assert np.allclose(track.between(0, 5).usual, down[0])
    assert np.allclose(track.between(9.951, 9.952).usual, down[-1])
