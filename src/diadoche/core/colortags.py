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


# Lines up to which a picture without tags is one of standard definition [BT601-7, BT709-6]; common practice.
_LINES_525, _LINES_625 = 486, 576
# The matrices that pictures are read by; the others have no tables here.
READ_BY = ("BT.709", "BT.601 (625)", "BT.601 (525)", "SMPTE 240M", "BT.2020")


def matrix_for(matrix: str, primaries: str, lines: int, *, rgb: bool) -> str:
    """By which matrix a picture is to be read: what it says, else what its size means to every reader.

    Args:
        matrix: the tag's name.
        primaries: the name of the other tag.
        lines: how many the picture has.
        rgb: whether it has no matrix of its own: then the one that it is to be written by.
    """
    if matrix in READ_BY:
        return matrix
    if rgb:
        return "BT.2020" if primaries == "BT.2020" else "BT.709"
    if primaries in {"BT.601 (625)", "BT.601 (525)", "BT.2020"}:
        return primaries
    if lines <= _LINES_525:
        return "BT.601 (525)"
    return "BT.601 (625)" if lines <= _LINES_625 else "BT.709"


def name_of(names: dict[int, str], code: int) -> str:
    """The name of a code point; "unspecified" where it has none here."""
    return names.get(code, "unspecified")


def code_of(names: dict[int, str], name: str, *, otherwise: int = UNSPECIFIED) -> int:
    """The code point of a name."""
    return next((code for code, known in names.items() if known == name), otherwise)
