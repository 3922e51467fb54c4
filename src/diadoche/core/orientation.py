"""How pictures are to be shown that a camera recorded lying, or in a mirror: mirrored first, then turned clockwise."""

from __future__ import annotations

import math
from dataclasses import dataclass

# Fixed point with sixteen bits behind it, and with thirty in the last column [14496-12, 6.2.2].
_ONE, _LAST_ONE = 1 << 16, 1 << 30
# [TIFF6, Orientation]: which side of the scene the first row and the first column show.
_BY_EXIF = {
    2: (0, True),
    3: (180, False),
    4: (180, True),
    5: (270, True),
    6: (90, False),
    7: (90, True),
    8: (270, False),
}


@dataclass(frozen=True, slots=True)
class Orientation:
    """By how much pictures are turned clockwise, 0, 90, 180 or 270, and whether left and right change places before."""

    rotation_deg: int = 0
    mirrored: bool = False

    @classmethod
    def of_matrix(cls, a: int, b: int, c: int, d: int) -> Orientation:
        """From the first two rows of a matrix that takes a point (x, y), y downwards, to (ax + cy, bx + dy).

        Source: [14496-12, 6.2.2]. One that also leans or scales tells what is nearest.
        """
        mirrored = a * d - b * c < 0
        if mirrored:
            # Undone before the turn is read.
            a, b = -a, -b
        if not (a or b):
            return cls()
        return cls(round(math.degrees(math.atan2(b, a)) / 90) * 90 % 360, mirrored)

    @classmethod
    def of_exif(cls, value: int) -> Orientation:
        """From the tag of a picture's file [TIFF6, Orientation]; as it lies where that makes no sense."""
        return cls(*_BY_EXIF.get(value, (0, False)))

    @classmethod
    def of_pose(cls, yaw_deg: float, roll_deg: float) -> Orientation:
        """From the pose of a flat picture in Matroska [RFC9559, 5.1.4.1.28.44 and 46].

        A yaw of half a turn shows it from behind; the roll goes counterclockwise.
        """
        if not (math.isfinite(yaw_deg) and math.isfinite(roll_deg)):
            return cls()
        return cls(round(-roll_deg / 90) * 90 % 360, abs(abs(yaw_deg) - 180) < 1)

    @property
    def matrix(self) -> tuple[int, ...]:
        """As a track's head holds it [14496-12, 8.3.2]: nine numbers in fixed point, row by row."""
        along, across = {0: (1, 0), 90: (0, 1), 180: (-1, 0), 270: (0, -1)}[self.rotation_deg % 360]
        side = -_ONE if self.mirrored else _ONE
        return (side * along, side * across, 0, -_ONE * across, _ONE * along, 0, 0, 0, _LAST_ONE)


AS_RECORDED = Orientation()
