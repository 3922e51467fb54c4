"""Where the application keeps its own state, by the XDG base directories."""

from __future__ import annotations

from dataclasses import dataclass
from pathlib import Path

import platformdirs

_NAME = "diadoche"


@dataclass(frozen=True, slots=True)
class StatePlaces:
    """The application's own folders; nothing of a person's footage lies in them."""

    state: Path
    config: Path
    cache: Path

    @property
    def ledger(self) -> Path:
        """The ledger's database."""
        return self.state / "ledger.sqlite"

    @property
    def own_layouts(self) -> Path:
        """Where the person's own card layouts belong; it may not stand yet."""
        return self.config / "layouts"

    @property
    def facts_memory(self) -> Path:
        """What was found about files, by their content; it can be made anew."""
        return self.cache / "facts.sqlite"

    @property
    def own_profiles(self) -> Path:
        """Where the person's own editor profiles belong; it may not stand yet."""
        return self.config / "profiles"

    @property
    def own_recipes(self) -> Path:
        """Where the person's own recipes belong; it may not stand yet."""
        return self.config / "recipes"

    @property
    def own_rigs(self) -> Path:
        """Where the person's own rigs belong; it may not stand yet."""
        return self.config / "rigs"

    @property
    def demo(self) -> Path:
        """The demo shoot."""
        return self.cache / "demo"


def default_places() -> StatePlaces:
    """The folders of the person who runs the application."""
    dirs = platformdirs.PlatformDirs(_NAME, appauthor=False)
    return StatePlaces(dirs.user_state_path, dirs.user_config_path, dirs.user_cache_path)
