"""The person's own settings of the application, one small file.

Read before the window is there, so by the standard library alone: what checks values elsewhere takes longer to load
than a bare window to open.
"""

from __future__ import annotations

import json
from collections.abc import Callable
from dataclasses import asdict, dataclass, field
from pathlib import Path
from typing import Any, Literal, cast, get_args

from diadoche.core.diskfiles import write_whole

Scheme = Literal["system", "light", "dark"]
LARGEST_PERCENT, SMALLEST_PERCENT = 200, 80
_WIDEST_PX, _LARGEST_FILE_BYTES = 100_000, 1_000_000


@dataclass(frozen=True, slots=True)
class Settings:
    """A change makes a new one."""

    scheme: Scheme = "system"
    text_percent: int = 100
    pop_ups: dict[str, str] = field(default_factory=dict)
    # How large the window was, in pixels; None where it is as large as usual.
    window_px: tuple[int, int] | None = None
    filled: bool = False
    # How wide the person made columns, in pixels at the usual text size: by a table's name, and a column's.
    columns: dict[str, dict[str, int]] = field(default_factory=dict)


def load_settings(folder: Path) -> Settings:
    """The settings; the usual ones where the file is missing, or a value of it makes no sense."""
    try:
        with (folder / "settings.json").open("rb") as file:
            kept = json.loads(file.read(_LARGEST_FILE_BYTES))
    except (OSError, ValueError, RecursionError):
        return Settings()
    return _sensible(kept) if isinstance(kept, dict) else Settings()


def save_settings(folder: Path, settings: Settings) -> None:
    """Keeps the settings."""
    folder.mkdir(parents=True, exist_ok=True)
    write_whole(folder / "settings.json", json.dumps(asdict(settings)).encode("ascii"))


def _sensible(kept: dict[str, Any]) -> Settings:
    """What of a file can be meant: anybody may have written it."""
    usual = Settings()
    scheme = kept.get("scheme")
    percent = kept.get("text_percent")
    size = kept.get("window_px")
    return Settings(
        cast(Scheme, scheme) if scheme in get_args(Scheme) else usual.scheme,
        cast(int, percent) if _whole(percent, SMALLEST_PERCENT, LARGEST_PERCENT) else usual.text_percent,
        _named(kept.get("pop_ups"), lambda value: isinstance(value, str)),
        (size[0], size[1]) if isinstance(size, list) and len(size) == 2 and all(map(_width, size)) else None,
        kept.get("filled") is True,
        {name: _named(widths, _width) for name, widths in _named(kept.get("columns"), _is_dict).items()},
    )


def _whole(value: object, least: int, most: int) -> bool:
    return isinstance(value, int) and not isinstance(value, bool) and least <= value <= most


def _width(value: object) -> bool:
    return _whole(value, 1, _WIDEST_PX)


def _is_dict(value: object) -> bool:
    return isinstance(value, dict)


def _named(value: object, fits: Callable[[object], bool]) -> dict[str, Any]:
    return {name: each for name, each in value.items() if fits(each)} if isinstance(value, dict) else {}
