"""What this process holds of the machine's memory."""

from __future__ import annotations

import ctypes


def give_back_free_memory() -> None:
    """Gives what is free within this process back to the system, where the C library can.

    Pictures that come and go leave holes that the library keeps for later; large pictures leave gigabytes.
    """
    trim = getattr(ctypes.CDLL(None), "malloc_trim", None)
    if trim is not None:
        trim(0)
