"""Directions and rotations, in one frame of reference for everything about spheres.

Right-handed: x to the right, y down, z ahead, as computer vision has it [OPENCV-FISHEYE]. A rotation matrix takes the
directions of what was turned into the frame that it was turned in: `world = matrix @ own`.
"""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

Array = NDArray[np.float64]


def rotation(yaw_deg: float = 0.0, pitch_deg: float = 0.0, roll_deg: float = 0.0) -> Array:
    """The 3×3 matrix of something that was rolled clockwise, then pitched up, then turned to the right, in degrees."""
    yaw, pitch, roll = np.radians([yaw_deg, pitch_deg, roll_deg])
    turned = np.array([[np.cos(yaw), 0, np.sin(yaw)], [0, 1, 0], [-np.sin(yaw), 0, np.cos(yaw)]])
    pitched = np.array([[1, 0, 0], [0, np.cos(pitch), -np.sin(pitch)], [0, np.sin(pitch), np.cos(pitch)]])
    rolled = np.array([[np.cos(roll), -np.sin(roll), 0], [np.sin(roll), np.cos(roll), 0], [0, 0, 1]])
    matrix: Array = turned @ pitched @ rolled
    return matrix


def angles_of(matrix: Array) -> tuple[float, float, float]:
    """Yaw, pitch and roll in degrees of a rotation matrix; looking straight up or down, the roll is told as 0."""
    pitch = np.arcsin(np.clip(-matrix[1, 2], -1, 1))
    if abs(matrix[1, 2]) > 1 - 1e-12:
        yaw, roll = np.arctan2(-matrix[2, 0], matrix[0, 0]), 0.0
    else:
        yaw, roll = np.arctan2(matrix[0, 2], matrix[2, 2]), np.arctan2(matrix[1, 0], matrix[1, 1])
    return float(np.degrees(yaw)), float(np.degrees(pitch)), float(np.degrees(roll))


def angle_between_deg(one: Array, other: Array) -> float:
    """By how many degrees two rotations differ."""
    cosine = (np.trace(one.T @ other) - 1) / 2
    return float(np.degrees(np.arccos(np.clip(cosine, -1, 1))))
