"""The takes of several lenses in the outputs view."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import replace

from diadoche.core.cards.layout import Layout
from diadoche.core.sizes import count_text, size_text
from diadoche.screens.marks import Mark
from diadoche.screens.output_plan import OutputPlan, is_unwanted
from diadoche.screens.output_rows import ClipRow, GroupRow
from diadoche.screens.recipe_chooser import outlook
from diadoche.screens.stitching import Stitching
from diadoche.services.ledger.kept_clips import KeptClip
from diadoche.services.ledger.takes import Take, takes_of

_TITLE, _REASON = "Stitch", "A round picture for each lens becomes one picture of all around."


class StitchGroup:
    """Takes that are to be stitched, or were; lenses of one press of the button are one take."""

    def __init__(self, plan: OutputPlan, stitching: Stitching) -> None:
        self._plan = plan
        self._stitching = stitching
        self._clips: Callable[[], Sequence[KeptClip]] = tuple
        self._layouts: Sequence[Layout] = ()
        self._takes: list[Take] | None = []

    def take(self, clips: Callable[[], Sequence[KeptClip]], layouts: Sequence[Layout]) -> None:
        """Clips may be others now; they are asked for, and put together, when somebody asks for takes."""
        self._clips, self._layouts, self._takes = clips, layouts, None

    @property
    def takes(self) -> list[Take]:
        """In their order."""
        if self._takes is None:
            self._takes = takes_of(self._clips(), self._layouts)
        return self._takes

    def rows(self) -> list[ClipRow]:
        """Each take by itself."""
        return [replace(self._row(take), path=take.clip.first_file) for take in self.takes]

    def _row(self, take: Take) -> ClipRow:
        reason = take.lens_words + (", and the camera's own stitched version" if take.stitched is not None else "")
        if self._plan.delivered(take.clip) is not None:
            return ClipRow(take.name, reason, "", "made", Mark.DONE)
        if is_unwanted(take.clip):
            return ClipRow(take.name, reason, "", "marked no: left out", Mark.EXPECTED)
        size, warning = self._outlook_of([take])
        if take.clip.id in self._plan.asked:
            return ClipRow(take.name, reason, size_text(size), "being stitched", Mark.UNDER_WAY)
        row = self._stitching.row(take)
        words = self._stitching.mistake(take) or warning or f"{row.size}, {row.rig}"
        return ClipRow(take.name, reason, size_text(size) if size else "", words, row.mark)

    def open_takes(self) -> list[Take]:
        """Those of which something is to be made still, and can be."""
        return [take for take in self.takes if self._plan.is_open(take.clip) and not self._stitching.mistake(take)]

    def can_be_made(self) -> list[Take]:
        """Those of which the next start would make something: a recipe may not hold all of them."""
        takes = self.open_takes()
        recipe, alike = self._plan.stitch_recipe, self._stitching.alike
        return [take for take in takes if outlook(alike([take]), recipe, None).refused == 0]

    def _outlook_of(self, takes: Sequence[Take]) -> tuple[int, str]:
        """How large takes become, and what their recipe does not hold of them."""
        found = outlook(self._stitching.alike(takes), self._plan.stitch_recipe, None)
        return found.size_bytes, " ".join(filter(None, (found.refusal, *found.losses)))

    def group(self) -> GroupRow:
        """All takes together."""
        takes, open_takes, to_make = self.takes, self.open_takes(), self.can_be_made()
        size, warning = self._outlook_of(open_takes)
        wrong = [words for take in takes if self._plan.is_open(take.clip) and (words := self._stitching.mistake(take))]
        few = f"{len(wrong)} of {len(takes)}: " if len(wrong) < len(takes) else ""
        warning = " ".join(filter(None, (f"{few}{wrong[0]}" if wrong else "", warning)))
        made = sum(self._plan.delivered(take.clip) is not None for take in takes)
        unwanted = sum(is_unwanted(take.clip) and self._plan.delivered(take.clip) is None for take in takes)
        left_out = f"{count_text(unwanted, 'take')} marked no: left out." if unwanted else ""
        mark = Mark.DONE if made == len(takes) and made else Mark.EXPECTED
        if any(take.clip.id in self._plan.asked for take in takes):
            mark = Mark.UNDER_WAY
        return GroupRow(
            "stitch",
            _TITLE,
            f"{_REASON} {left_out}".strip(),
            len(takes),
            len(to_make),
            made,
            f"about {size_text(size)}" if to_make else "",
            size,
            (),
            "",
            self._plan.stitch_recipe.title,
            "stitch" not in self._plan.left_out,
            warning,
            mark,
            self._how(open_takes or takes),
        )

    def _how(self, takes: Sequence[Take]) -> str:
        """How some takes are stitched, in the words of a button."""
        aligned = sum(self._stitching.aligned(take) is not None for take in takes)
        return f"How: {aligned} of {len(takes)} aligned"
