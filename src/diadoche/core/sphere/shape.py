"""What a stitch is to become: size, eyes, and how much of the sphere."""

from __future__ import annotations

from dataclasses import dataclass
from fractions import Fraction
from typing import Literal

from diadoche.core.spatial import Bounds, one_eye_px

Layout = Literal["mono", "top-bottom", "side-by-side"]
# Near things matched anew in each picture; in every few, for a camera and things that stand; or not matched, in haste.
Quality = Literal["best", "standing", "quick"]
# Whether the horizon is made level: not at all, by how the camera leaned most of the time, or picture by picture.
Level = Literal["no", "once", "each picture"]
# How many pixels across and down share a value of colour.
SHARED = {"4:2:0": (2, 2), "4:2:2": (2, 1), "4:4:4": (1, 1)}
# How wide seams are where nothing is said, in degrees.
USUAL_BAND_DEG = 8.0


@dataclass(frozen=True, slots=True)
class SphereShape:
    """What the result is to be: its size, how eyes lie in it, and how much of the sphere it shows.

    `width` and `height` are of the whole picture, both eyes together.
    """

    width: int
    height: int
    layout: Layout = "mono"
    width_deg: Fraction = Fraction(360)
    height_deg: Fraction = Fraction(180)

    @property
    def eye_px(self) -> tuple[int, int]:
        """Width and height of one eye's picture."""
        return one_eye_px(self.layout, self.width, self.height)

    @property
    def bounds(self) -> Bounds:
        """The part of the sphere that each eye's picture is."""
        side, above = (1 - self.width_deg / 360) / 2, (1 - self.height_deg / 180) / 2
        return Bounds(above, above, side, side)

    def mistake(self, shared: tuple[int, int]) -> str:
        """What is wrong with it, in words; nothing where it can be made.

        Args:
            shared: how many pixels across and down share a value of colour.
        """
        wide, high = self.eye_px
        if wide * (self.height // high) < 2 or wide < 16 or high < 16:
            return f"{self.width}×{self.height} is too small"
        across, down = shared
        if self.width % (self.width // wide * across) or self.height % (self.height // high * down):
            return f"{self.width}×{self.height} does not divide evenly between eyes and colour"
        if not 0 < self.width_deg <= 360 or not 0 < self.height_deg <= 180:
            return "a sphere spans 360 by 180 degrees at most"
        told, own = self.width_deg / self.height_deg, Fraction(wide, high)
        if abs(float(own / told) - 1) > 0.02:
            return (
                f"an eye's picture of {wide}×{high} does not have the shape of {float(self.width_deg):g} by "
                f"{float(self.height_deg):g} degrees: what is round would be squeezed"
            )
        return ""
