"""The matrix in the head of a VC-3 picture: its encoder here always writes BT.709, and readers believe it.

Source: [ST2019-1] SMPTE ST 2019-1, the picture header. Place and codes are from memory, checked against FFmpeg's
decoder.
"""

from __future__ import annotations

from typing import Any

import av

_PLACE, _SHIFT, _MASK = 0x2C, 1, 3
# Matrices without a code are told by the container alone.
_CODES = {"BT.709": 0, "BT.2020": 1, "BT.2020 (constant)": 2}
_TOLD_OUTSIDE = 3


def name_matrix(packet: av.Packet[Any], matrix: str) -> None:
    """Writes the matrix of a progressive picture into its head.

    Args:
        packet: one coded picture; changed.
        matrix: its published name.
    """
    code = _CODES.get(matrix, _TOLD_OUTSIDE)
    if code == 0 or packet.size <= _PLACE:
        return
    data = bytearray(bytes(packet))
    data[_PLACE] = data[_PLACE] & ~(_MASK << _SHIFT) | code << _SHIFT
    packet.update(bytes(data))
