"""Files that readers know at once for films, with nothing but noise in them."""

from __future__ import annotations

import os
import struct
from collections.abc import Callable

_HEAD = 16


def cut_off(size_bytes: int, noise: Callable[[int], bytes] = os.urandom) -> bytes:
    """A recording that was cut off before its index was written [14496-12, 4.3 and 8.1.1].

    Of noise alone, a reader tries each format that it knows, which takes it longer than all else that is done.
    """
    head = struct.pack(">I4s4sI", _HEAD, b"ftyp", b"isom", 0) + struct.pack(">I4s", max(8, size_bytes - _HEAD), b"mdat")
    return head[:size_bytes] + noise(max(0, size_bytes - len(head)))
