"""What a container says of a sphere: projection, how two eyes are packed, and which part of the sphere the picture is.

Sources: [SPHERE] the Spherical Video V1 and V2 documents; [RFC9559] Matroska, where `Projection` takes over the bodies
of V2's boxes.
"""

from __future__ import annotations

import re
import struct
from dataclasses import dataclass, field
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


# -- writing -----------------------------------------------------------------------------------

V1_UUID = bytes.fromhex("ffcc8263f8554a938814587a02521fdd")
_STEREO_CODES = {"mono": 0, "top-bottom": 1, "side-by-side": 2}
_V1_STEREO = {"mono": "mono", "top-bottom": "top-bottom", "side-by-side": "left-right"}


def one_eye_px(stereo: str, width: int, height: int) -> tuple[int, int]:
    """Width and height of the picture of one eye."""
    return (width // 2 if stereo == "side-by-side" else width, height // 2 if stereo == "top-bottom" else height)


# Who says so in files.
MAKER = "Diadoche"


@dataclass(frozen=True, slots=True)
class SphereTags:
    """What a file is to say of its pictures, whatever it said before.

    `stereo`: "mono", "top-bottom" or "side-by-side"; nothing where they are flat. `bounds`: the part of the sphere.
    """

    stereo: str
    bounds: Bounds = field(default_factory=Bounds)


def v2_boxes(stereo: str, bounds: Bounds, maker: str) -> tuple[tuple[str, bytes], ...]:
    """The payloads of `st3d` and `sv3d` of an equirectangular picture [SPHERE, V2].

    Args:
        stereo: "mono", "top-bottom" or "side-by-side".
        bounds: the part of the sphere that each eye's picture is.
        maker: what made it, as text.
    """
    none = bytes(4)
    edges = (bounds.top, bounds.bottom, bounds.left, bounds.right)
    equi = none + b"".join(struct.pack(">I", min(_WHOLE - 1, round(edge * _WHOLE))) for edge in edges)
    projection = _box(b"prhd", none + bytes(12)) + _box(b"equi", equi)
    head = _box(b"svhd", none + maker.encode("utf-8") + b"\0")
    return (("st3d", none + bytes([_STEREO_CODES[stereo]])), ("sv3d", head + _box(b"proj", projection)))


def v1_box(stereo: str, bounds: Bounds, eye_px: tuple[int, int], maker: str) -> bytes:
    """The payload of the `uuid` box that older readers know [SPHERE, V1].

    Args:
        stereo: as for `v2_boxes`.
        bounds: the part of the sphere.
        eye_px: width and height of one eye's picture.
        maker: what made it.
    """
    lines = {
        "Spherical": "true",
        "Stitched": "true",
        "StitchingSoftware": maker,
        "ProjectionType": "equirectangular",
        "StereoMode": _V1_STEREO[stereo],
    }
    if bounds != Bounds():
        whole_wide = round(eye_px[0] / (1 - bounds.left - bounds.right))
        whole_high = round(eye_px[1] / (1 - bounds.top - bounds.bottom))
        lines |= {
            "CroppedAreaImageWidthPixels": str(eye_px[0]),
            "CroppedAreaImageHeightPixels": str(eye_px[1]),
            "FullPanoWidthPixels": str(whole_wide),
            "FullPanoHeightPixels": str(whole_high),
            "CroppedAreaLeftPixels": str(round(bounds.left * whole_wide)),
            "CroppedAreaTopPixels": str(round(bounds.top * whole_high)),
        }
    inner = "".join(f"<GSpherical:{name}>{value}</GSpherical:{name}>" for name, value in lines.items())
    return V1_UUID + (
        '<?xml version="1.0"?><rdf:SphericalVideo xmlns:rdf="http://www.w3.org/1999/02/22-rdf-syntax-ns#" '
        f'xmlns:GSpherical="http://ns.google.com/videos/1.0/spherical/">{inner}</rdf:SphericalVideo>'
    ).encode("ascii", "xmlcharrefreplace")


def _box(kind: bytes, payload: bytes) -> bytes:
    return struct.pack(">I4s", len(payload) + 8, kind) + payload
