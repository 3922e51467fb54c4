"""Sizes and lengths of time as people read them."""

from __future__ import annotations

_UNITS = ("bytes", "kB", "MB", "GB", "TB", "PB")


def size_text(size_bytes: float) -> str:
    """Decimal units, as disks and cards are sold: 31.2 GB."""
    value = float(size_bytes)
    for unit in _UNITS:
        if value < 1000 or unit == _UNITS[-1]:
            break
        value /= 1000
    if unit == "bytes":
        return "1 byte" if value == 1 else f"{int(value)} bytes"
    return f"{value:.0f} {unit}" if value >= 100 else f"{value:.1f} {unit}"


def clock_text(seconds: float) -> str:
    """The length of a clip: 0:42, 11:58, 1:02:03."""
    whole = round(seconds)
    hours, rest = divmod(whole, 3600)
    return f"{hours}:{rest // 60:02}:{rest % 60:02}" if hours else f"{rest // 60}:{rest % 60:02}"


def wait_text(seconds: float) -> str:
    """How long something still takes, no more exact than an estimate is: about 6 min."""
    if seconds < 10:
        return "a few seconds"
    if seconds < 55:
        return f"about {round(seconds / 10) * 10} s"
    if seconds < 3600:
        return f"about {max(1, round(seconds / 60))} min"
    return f"about {int(seconds // 3600)} h {round(seconds % 3600 / 60)} min"


def count_text(number: int, one: str, many: str = "") -> str:
    """1 clip, 2 clips, 12,000 files."""
    return f"{number:,} {one if number == 1 else many or one + 's'}"
