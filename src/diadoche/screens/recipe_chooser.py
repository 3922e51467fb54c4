"""Choosing a recipe for a group of clips: what each one holds of them, how large it becomes, what may change."""

from __future__ import annotations

from collections.abc import Callable, Iterable
from dataclasses import dataclass
from pathlib import Path

from diadoche.core.convert.lookup_table import LookUpTable, read_table, unread_table
from diadoche.core.convert.plan import Plan, plan_conversion
from diadoche.core.convert.recipes import Changes, Recipe, ScanChange, own_recipe_file
from diadoche.core.errors import DiadocheError, RequestError
from diadoche.core.rates import spoken_rate
from diadoche.core.sizes import count_text, size_text
from diadoche.screens.clip_formats import Alike
from diadoche.screens.marks import Mark
from diadoche.services.background import InBackground, at_once
from diadoche.services.station.own_files import OwnFolder, OwnRecipes


@dataclass(frozen=True, slots=True)
class Outlook:
    """What comes of clips by a recipe: bytes, what is lost or changed, and why some cannot be held."""

    size_bytes: int
    losses: tuple[str, ...]
    refused: int
    refusal: str


def outlook(clips: Iterable[Alike], recipe: Recipe, changes: Changes | None) -> Outlook:
    """Plans every kind of clip. Nothing is read: whoever makes outputs reads a look-up table, and refuses nonsense."""
    size, losses, refused, refusal = 0, list[str](), 0, ""
    for each in clips:
        try:
            plan: Plan = plan_conversion(recipe, each.picture, each.sounds, changes, unread_table)
        except RequestError as error:
            refused += each.clips
            refusal = refusal or error.problem.what
            continue
        size += plan.estimated_bytes
        losses += [words for words in (*plan.losses, *plan.changed) if words not in losses]
    return Outlook(size, tuple(losses), refused, refusal)


@dataclass(frozen=True, slots=True)
class RecipeRow:
    """A recipe to choose."""

    name: str
    title: str
    purpose: str
    size: str
    words: str
    mark: Mark | None


@dataclass(frozen=True, slots=True)
class FieldChoice:
    """What may be done with fields."""

    value: ScanChange
    words: str


class RecipeChooser:
    """What the dialog shows and allows. Nothing is decided before `chosen` is taken over."""

    def __init__(
        self,
        clips: list[Alike],
        recipe: Recipe,
        changes: Changes | None,
        own: OwnFolder[OwnRecipes],
        in_background: InBackground = at_once,
    ) -> None:
        """
        Args:
            clips: that the choice reaches.
            recipe: the one that stands.
            changes: instead of its own; None where they stand.
            own: the person's own recipes, beside those that come with the program.
            in_background: does what may hang.
        """
        self._clips = clips
        self._own_folder = own.folder
        self._in_background = in_background
        # The look-up table that is being read, and what was wrong with the last one.
        self.reading: Path | None = None
        self.table_mistake = ""
        found = own.now()
        self._recipes = sorted(found.known.values(), key=lambda each: each.title)
        self._mistakes = found.mistakes
        self._recipe = next((each for each in self._recipes if each.name == recipe.name), recipe)
        self._scan: ScanChange | None = changes.scan if changes is not None else None
        self._table = changes.table if changes is not None else None
        self._table_gives = changes.table_gives if changes is not None else "BT.709"

    @property
    def heading(self) -> str:
        """How many clips the choice reaches."""
        return f"Recipe for {count_text(sum(each.clips for each in self._clips), 'clip')}"

    @property
    def mistakes(self) -> str:
        """What is wrong with recipes of the person's own."""
        return " ".join(error.problem.what for error in self._mistakes)

    def rows(self) -> list[RecipeRow]:
        """All recipes, with what each makes of these clips."""
        return [self._row(recipe) for recipe in self._recipes]

    def _row(self, recipe: Recipe) -> RecipeRow:
        found = outlook(self._clips, recipe, self._changes_for(recipe))
        count = sum(each.clips for each in self._clips)
        size = size_text(found.size_bytes) if found.refused < count else ""
        if found.refused:
            few = f"{found.refused} of {count}: " if found.refused < count else ""
            return RecipeRow(recipe.name, recipe.title, recipe.purpose, size, f"{few}{found.refusal}", Mark.PROBLEM)
        # The title stands in front already.
        losses = [loss.removeprefix(f"{recipe.title} ") for loss in found.losses]
        words = " ".join(f"{loss[:1].upper()}{loss[1:]}" for loss in losses) or "Size, depth and colour stay."
        return RecipeRow(recipe.name, recipe.title, recipe.purpose, size, words, None)

    @property
    def current(self) -> int:
        """Which row is chosen."""
        return self._recipes.index(self._recipe)

    def choose(self, row: int) -> None:
        """Another recipe."""
        self._recipe = self._recipes[row]

    def choose_named(self, name: str) -> None:
        """Another recipe, by its name; nothing where there is none."""
        self._recipe = next((each for each in self._recipes if each.name == name), self._recipe)

    def field_choices(self) -> list[FieldChoice]:
        """What may be done with fields; nothing where no clip has any."""
        fields = [each for each in self._clips if each.picture.interlaced]
        if not fields:
            return []
        rates = sorted({each.picture.rate for each in fields})
        found = [
            FieldChoice("keep", "stay as they are"),
            FieldChoice("frame", f"each frame a picture, {_spoken(rates)} a second"),
            FieldChoice("field", f"each field a picture, {_spoken([2 * rate for rate in rates])} a second"),
        ]
        film = sorted({each.picture.rate for each in fields if each.picture.pulldown})
        if film:
            found.append(FieldChoice("film", f"film off its video clock, {_spoken([rate * 4 / 5 for rate in film])}"))
        return found

    @property
    def fields(self) -> ScanChange:
        """What is done with fields."""
        return self._scan if self._scan is not None else self._recipe.changes.scan

    def choose_fields(self, value: ScanChange) -> None:
        """Something else to be done with fields, whatever the recipe proposes."""
        self._scan = value

    @property
    def reach(self) -> str:
        """How many clips have fields."""
        fields = sum(each.clips for each in self._clips if each.picture.interlaced)
        film = sum(each.clips for each in self._clips if each.picture.interlaced and each.picture.pulldown)
        count = sum(each.clips for each in self._clips)
        return f"reaches {film if self.fields == 'film' else fields} of {count_text(count, 'clip')}"

    @property
    def table(self) -> str:
        """The look-up table's name, or nothing."""
        return self._table.name if self._table is not None else ""

    @property
    def table_gives(self) -> str:
        """The colours that come out of the look-up table."""
        return self._table_gives

    def choose_table(self, path: Path | None, then: Callable[[], None] = lambda: None) -> None:
        """A look-up table for all of them, or none.

        It is read to its end first; until then, and where it holds nonsense (`table_mistake`), the one before stands.

        Args:
            path: of a .cube file; another choice meanwhile counts instead of this one.
            then: is done when it was read.
        """
        self.reading, self.table_mistake = path, ""
        if path is None:
            self._table = None
            return

        def came(found: LookUpTable | Exception) -> None:
            if self.reading != path:
                return
            self.reading = None
            if isinstance(found, DiadocheError):
                self.table_mistake = found.problem.sentence()
            elif isinstance(found, Exception):
                raise found
            else:
                self._table = path
            then()

        self._in_background(lambda: read_table(path), came)

    def choose_table_gives(self, name: str) -> None:
        """The colours that it gives."""
        self._table_gives = "BT.2020" if name == "BT.2020" else "BT.709"

    def own_file(self, then: Callable[[Path | Exception], None]) -> None:
        """The chosen recipe as a text file of the person's own; it counts from the next time a recipe is chosen.

        `then` takes its path, or why it cannot be written.
        """
        folder, name = self._own_folder, self._recipe.name
        self._in_background(lambda: own_recipe_file(folder, name), then)

    @property
    def chosen(self) -> tuple[Recipe, Changes | None]:
        """What was chosen: the recipe, and what is changed instead of its own proposal."""
        return self._recipe, self._changes_for(self._recipe)

    def _changes_for(self, recipe: Recipe) -> Changes | None:
        if self._scan is None and self._table is None:
            return None
        return Changes(scan=self._scan or recipe.changes.scan, table=self._table, table_gives=self._table_gives)


def _spoken(rates: Iterable[object]) -> str:
    return " or ".join(spoken_rate(rate) for rate in rates)  # type: ignore[arg-type]  # fractions
