"""Colour tags: code points and the names they are published under.

Source: [H273] ITU-T H.273 (07/2021), tables 2 (primaries), 3 (transfer) and 4 (matrix).
"""

from __future__ import annotations

PRIMARIES = {1: "BT.709", 5: "BT.601 (625)", 6: "BT.601 (525)", 9: "BT.2020", 11: "DCI-P3", 12: "Display P3"}
TRANSFERS = {
    1: "BT.709",
    4: "gamma 2.2",
    5: "gamma 2.8",
    6: "BT.601",
    7: "SMPTE 240M",
    8: "linear",
    13: "sRGB",
    14: "BT.2020 (10 bits)",
    15: "BT.2020 (12 bits)",
    16: "PQ",
    18: "HLG",
}
MATRICES = {
    0: "RGB",
    1: "BT.709",
    5: "BT.601 (625)",
    6: "BT.601 (525)",
    7: "SMPTE 240M",
    9: "BT.2020",
    10: "BT.2020 (constant)",
}
RANGES = {1: "limited", 2: "full"}
UNSPECIFIED = 2


def name_of(names: dict[int, str], code: int) -> str:
    """The name of a code point; "unspecified" where it has none here."""
    return names.get(code, "unspecified")


def code_of(names: dict[int, str], name: str, *, otherwise: int = UNSPECIFIED) -> int:
    """The code point of a name."""
    return next((code for code, known in names.items() if known == name), otherwise)
