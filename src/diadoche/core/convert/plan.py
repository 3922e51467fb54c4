"""What becomes of a source by a recipe: the stages, what is lost on the way, how large it becomes."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, replace
from pathlib import Path

from diadoche.core.convert.formats import PictureFormat, SoundFormat
from diadoche.core.convert.lookup_table import LookUpTable, read_table
from diadoche.core.convert.recipes import Changes, Recipe, Variant
from diadoche.core.convert.stages.levels import Levels
from diadoche.core.convert.stages.scan import scan_stage
from diadoche.core.convert.stages.stage import Stage
from diadoche.core.convert.stages.timing import ConstantRate
from diadoche.core.identify.facts import Facts
from diadoche.core.rates import spoken_rate
from diadoche.core.run import Missing, Picture


@dataclass(frozen=True, slots=True)
class Plan:
    """How a source becomes an output. `whole` is the picture after scan and timing, `out` what the encoder takes."""

    recipe: Recipe
    changes: Changes
    source: PictureFormat
    sounds: tuple[SoundFormat, ...]
    whole: PictureFormat
    out: PictureFormat
    variant: Variant
    pixel_format: str
    table: LookUpTable | None
    # What is lost though nobody asked for it, and what is changed on purpose, in words to be read before the start.
    losses: tuple[str, ...]
    changed: tuple[str, ...]
    estimated_bytes: int

    def scan(self) -> Stage[Picture | Missing]:
        """A new scan stage."""
        return scan_stage(self.source, self.changes.scan)

    def timing(self, first: int, end: int | None) -> ConstantRate:
        """A new timing stage, for the places from `first` to before `end` of the output's rate."""
        return ConstantRate(self.whole.rate, first, end, even=self.source.even)

    def levels(self) -> Levels:
        """A new levels stage."""
        return _levels(self.recipe, self.changes, self.whole, self.pixel_format, self.table)


def plan_conversion(
    recipe: Recipe,
    picture: PictureFormat,
    sounds: tuple[SoundFormat, ...],
    changes: Changes | None = None,
    read: Callable[[Path], LookUpTable] = read_table,
) -> Plan:
    """Chains the formats.

    Args:
        recipe: by which it is made.
        picture: the source's pictures.
        sounds: and its sound tracks.
        changes: instead of the recipe's own.
        read: gives the look-up table of a path.

    Raises:
        RequestError: the recipe cannot hold the source, or a look-up table holds nonsense.
    """
    changes = changes or recipe.changes
    scanned = scan_stage(picture, changes.scan).format_out(picture)
    whole = replace(scanned, even=True)
    variant = recipe.variant_for(whole)
    recipe.refuse_sounds(sounds)
    pixel_format = variant.pixel_format_for(whole)
    table = read(changes.table) if changes.table is not None else None
    out = _levels(recipe, changes, whole, pixel_format, table).format_out(whole)
    losses = recipe.losses(whole, sounds)
    if changes.scan == "film" and picture.interlaced and not picture.pulldown:
        losses = (*losses, "No film on a video clock was found in it: its fields stay as they are.")
    kept = () if recipe.sound.codec == "none" else sounds
    return Plan(
        recipe,
        changes,
        picture,
        sounds,
        whole,
        out,
        variant,
        pixel_format,
        table,
        losses,
        _changed(changes, picture, whole, table),
        recipe.estimated_bytes(whole, kept),
    )


def plan_of(recipe: Recipe, facts: Facts, changes: Changes | None = None) -> Plan:
    """The plan for a clip whose facts are known.

    Raises:
        RequestError: see `plan_conversion`.
    """
    sounds = tuple(SoundFormat.of(track) for track in facts.audio)
    return plan_conversion(recipe, PictureFormat.of(facts), sounds, changes)


def _levels(
    recipe: Recipe, changes: Changes, whole: PictureFormat, pixel_format: str, table: LookUpTable | None
) -> Levels:
    return Levels(
        whole,
        pixel_format,
        holds_full_range=recipe.picture.holds_full_range,
        matrices=recipe.picture.matrices,
        table=table,
        table_gives=changes.table_gives,
    )


def _changed(
    changes: Changes, source: PictureFormat, whole: PictureFormat, table: LookUpTable | None
) -> tuple[str, ...]:
    told = []
    if source.interlaced and not whole.interlaced:
        each = {"frame": "Each frame becomes one picture", "field": "Each field becomes one picture"}.get(
            changes.scan, "Film is taken off its video clock"
        )
        told.append(f"{each}: {spoken_rate(whole.rate)} a second.")
    if table is not None:
        told.append(f"Colours go through {table.path.name}, and are told as {changes.table_gives}.")
    return tuple(told)
