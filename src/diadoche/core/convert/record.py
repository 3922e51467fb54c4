"""The record of an output: all that is needed to make it again, and to tell where it came from."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field, replace

from diadoche.core.convert.recipes import Changes, Recipe
from diadoche.core.spatial import SphereTags


@dataclass(frozen=True, slots=True)
class SourceFile:
    """An original: its path and size when it was read, and the digests that are known of it, by name."""

    path: str
    size_bytes: int
    digests: dict[str, str] = field(default_factory=dict)


@dataclass(frozen=True, slots=True)
class OutputRecord:
    """From which files, by which recipe, as it was then, which part; a rewrap has a container instead of a recipe."""

    sources: tuple[SourceFile, ...]
    recipe: Recipe | str
    changes: Changes | None = None
    marks: tuple[str, str] | None = None
    # What a rewrap was made to say of a sphere.
    sphere: SphereTags | None = None
    # Of a stitch: its rig and its settings, each as text.
    stitch: dict[str, str] | None = None

    def with_digests(self, known: Mapping[str, dict[str, str]]) -> OutputRecord:
        """The same with the digests that are known of its sources, by path."""
        return replace(
            self, sources=tuple(replace(each, digests=known.get(each.path, each.digests)) for each in self.sources)
        )

    def as_dict(self) -> dict[str, object]:
        """The record as the command line's JSON has it."""
        recipe = self.recipe.model_dump(mode="json") if isinstance(self.recipe, Recipe) else self.recipe
        return {
            "sources": [
                {"path": each.path, "size_bytes": each.size_bytes, "digests": each.digests} for each in self.sources
            ],
            "recipe": recipe,
            "changes": self.changes.model_dump(mode="json") if self.changes is not None else None,
            "marks": list(self.marks) if self.marks is not None else None,
            "sphere": None if self.sphere is None else self.sphere.stereo or "flat",
            "stitch": self.stitch,
        }
