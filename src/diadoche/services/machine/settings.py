"""The person's own settings of the application, one small file."""

from __future__ import annotations

from dataclasses import dataclass, field
from pathlib import Path
from typing import Literal

from pydantic import ValidationError

from diadoche.core.diskfiles import write_whole
from diadoche.services.wire import from_text, to_text

Scheme = Literal["system", "light", "dark"]


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
    """The settings, or the usual ones where the file is missing or makes no sense."""
    try:
        return from_text(Settings, (folder / "settings.json").read_text("ascii"))
    except (OSError, ValueError, ValidationError):
        return Settings()


def save_settings(folder: Path, settings: Settings) -> None:
    """Keeps the settings."""
    folder.mkdir(parents=True, exist_ok=True)
    write_whole(folder / "settings.json", to_text(settings).encode("ascii"))
