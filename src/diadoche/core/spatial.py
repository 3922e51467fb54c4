"""What a container says of a sphere: projection, how two eyes are packed, and which part of the sphere the picture is.

Sources: [SPHERE] the Spherical Video V1 and V2 documents; [RFC9559] Matroska, where `Projection` takes over the bodies
of V2's boxes.
"""

from __future__ import annotations

import re
from dataclasses import dataclass
from fractions import Fraction

_WHOLE = 1 << 32


@dataclass(frozen=True, slots=True)
class Bounds:
    """How much of a whole equirectangular picture is missing at each side, as parts of its width or height."""

    top: Fraction = Fraction(0)
    bottom: Fraction = Fraction(0)
    left: Fraction = Fraction(0)
    right: Fraction = Fraction(0)

    @property
    def width_deg(self) -> Fraction:
        """How many degrees of arc the picture spans from left to right."""
        return 360 * (1 - self.left - self.right)

    @property
    def height_deg(self) -> Fraction:
        """How many degrees of arc it spans from top to bottom."""
        return 180 * (1 - self.top - self.bottom)


@dataclass(frozen=True, slots=True)
class SphereHead:
    """What a track's own metadata says. `told` is whether there is any; `bounds` only for equirectangular pictures."""

    projection: str = "flat"
    stereo: str = "mono"
    told: bool = False
    bounds: Bounds | None = None


def equirectangular_bounds(payload: bytes) -> Bounds:
    """Bounds from the body of an `equi` box [SPHERE, V2]: version and flags, then four parts of 2^32."""
    if len(payload) < 20:
        return Bounds()
    top, bottom, left, right = (
        Fraction(int.from_bytes(payload[place : place + 4], "big"), _WHOLE) for place in range(4, 20, 4)
    )
    # Nonsense leaves nothing of the picture; such a box tells nothing.
    return Bounds(top, bottom, left, right) if top + bottom < 1 and left + right < 1 else Bounds()


def from_v1(document: bytes) -> SphereHead:
    """What the XML of V1 says: always equirectangular; a part of the sphere as pixels of the whole [SPHERE, V1]."""
    words = document.decode("utf-8", "replace")
    stereo = {"top-bottom": "top-bottom", "left-right": "side-by-side"}.get(_element(words, "StereoMode"), "mono")
    whole_wide, whole_high = _number(words, "FullPanoWidthPixels"), _number(words, "FullPanoHeightPixels")
    wide, high = _number(words, "CroppedAreaImageWidthPixels"), _number(words, "CroppedAreaImageHeightPixels")
    left, top = _number(words, "CroppedAreaLeftPixels"), _number(words, "CroppedAreaTopPixels")
    bounds = Bounds()
    if 0 < wide <= whole_wide - left and 0 < high <= whole_high - top:
        bounds = Bounds(
            Fraction(top, whole_high),
            Fraction(whole_high - top - high, whole_high),
            Fraction(left, whole_wide),
            Fraction(whole_wide - left - wide, whole_wide),
        )
    return SphereHead("equirectangular", stereo, True, bounds)


def _element(words: str, name: str) -> str:
    found = re.search(rf"<GSpherical:{name}>\s*([^<]*?)\s*<", words)
    return found[1] if found else ""


def _number(words: str, name: str) -> int:
    text = _element(words, name)
    return int(text) if text.isascii() and text.isdigit() and len(text) < 9 else 0
