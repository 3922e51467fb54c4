"""What a list of recipes tells of each.

Supplied recipes ship with the program: their heads are read here without the library that checks recipes, for loading
it takes longer than all the rest. A person's own are read whole, and their mistakes are named.
"""

from __future__ import annotations

import tomllib
from dataclasses import asdict, dataclass
from pathlib import Path
from typing import Any

SUPPLIED = Path(__file__).with_name("recipes")


@dataclass(frozen=True, slots=True)
class RecipeHead:
    """One recipe in the list. `files` is `film` or `stills`; `scan` is what is done to fields on purpose."""

    name: str
    title: str
    purpose: str
    container: str
    files: str
    video: str
    audio: str
    lossless: bool
    scan: str

    def as_dict(self) -> dict[str, object]:
        """The recipe as the command line's JSON has it."""
        return asdict(self)


def own_files(folder: Path | None) -> list[Path]:
    """The recipes in a person's own folder."""
    return sorted(folder.glob("*.toml")) if folder is not None and folder.is_dir() else []


def supplied_heads() -> dict[str, RecipeHead]:
    """Those of the recipes that ship with the program, by name."""
    read = (tomllib.loads(path.read_text("utf-8")) for path in sorted(SUPPLIED.glob("*.toml")))
    return {head.name: head for head in map(_head_of, read)}


def _head_of(recipe: dict[str, Any]) -> RecipeHead:
    container, picture = recipe["container"], recipe["picture"]
    return RecipeHead(
        recipe["name"],
        recipe["title"],
        recipe.get("purpose", ""),
        container["name"],
        container.get("files", "film"),
        picture["codec"],
        recipe.get("sound", {}).get("codec", "pcm"),
        picture.get("lossless", False),
        recipe.get("changes", {}).get("scan", "keep"),
    )
