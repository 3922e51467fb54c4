"""The outputs that were made of a shoot's clips, what is to be said of each, and what it takes to make it again."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from pathlib import Path

from diadoche.core.convert.outputs import Output
from diadoche.core.sizes import count_text, size_text
from diadoche.screens.lines import Line
from diadoche.screens.marks import Mark
from diadoche.screens.output_plan import OutputPlan, Request
from diadoche.screens.places import OutputPlaces, output_places
from diadoche.screens.shelf import Shelf
from diadoche.screens.stitch_group import StitchGroup
from diadoche.screens.stitching import Stitching
from diadoche.services.jobs.make_output import MakeRequest
from diadoche.services.jobs.measure_playback import gain_words
from diadoche.services.ledger.kept_clips import KeptClip


@dataclass(frozen=True, slots=True)
class MadeRow:
    """An output that was made, or one that was not delivered."""

    name: str
    path: str
    words: str
    mark: Mark
    # What there is to look at; None where nothing was delivered.
    places: OutputPlaces | None = None
    # What it takes to make it again; None where that is not known, or it is being made.
    again: Request | None = None


class MadeOutputs:
    """Outputs as the ledger knows them."""

    def __init__(
        self,
        shelf: Shelf,
        plan: OutputPlan,
        stitch: StitchGroup,
        stitching: Stitching,
        folder: Callable[[], Path | None],
    ) -> None:
        """
        Args:
            shelf: the clips with their outputs.
            plan: what is being made already.
            stitch: the takes.
            stitching: how takes are stitched.
            folder: where outputs go now.
        """
        self._shelf = shelf
        self._plan = plan
        self._stitch = stitch
        self._stitching = stitching
        self._folder = folder
        self._rows: list[MadeRow] | None = None

    def forget(self) -> None:
        """Something was made, or asked for."""
        self._rows = None

    def rows(self) -> list[MadeRow]:
        """Outputs, the newest first; computed once, for a table asks for every cell."""
        if self._rows is None:
            rows = [
                self._row(line, output)
                for line in self._shelf.lines
                for output in line.clip.outputs
                if line.clip.facts is not None
            ]
            self._rows = rows[::-1]
        return self._rows

    def _row(self, line: Line, output: Output) -> MadeRow:
        if not output.output:
            what = output.problems[0].sentence() if output.problems else "It was not delivered."
            name = f"{line.clip.card} {line.clip.clip.name}"
            return MadeRow(name, "", what, Mark.PROBLEM, again=self._again(line.clip, output))
        places = output_places(line.clip, output)
        to_look_at = f"{count_text(len(places.places), 'place')} to look at" if places.places else ""
        paces = self._shelf.paces
        gain = gain_words(paces.of_clip(line.make), paces.of_output(line.make, output.recipe))
        worst = places.seam.worst if places.seam is not None else None
        said = (
            count_text(output.frames_out, "picture"),
            # What is lacking is said of what is delivered, too.
            f"but {output.problems[0].what.rstrip('.')}" if output.problems else "",
            size_text(output.bytes),
            _proof_words(output),
            to_look_at,
            f"seams break by {worst[1]:.1f} px at worst" if worst is not None else "",
            gain,
        )
        return MadeRow(
            Path(output.output).name,
            output.output,
            ", ".join(filter(None, said)),
            Mark.DONE,
            places,
            self._again(line.clip, output),
        )

    def _again(self, clip: KeptClip, output: Output) -> Request | None:
        """The request that made an output, for the copy that is here now; by the recipe as it was then."""
        record, folder = output.record, self._folder()
        if record is None or folder is None or clip.id in self._plan.asked:
            return None
        if record.stitch is not None:
            take = next((each for each in self._stitch.takes if each.clip.id == clip.id), None)
            return self._stitching.again(take, record, folder) if take is not None else None
        return MakeRequest(
            clip.paths,
            record.recipe,
            folder,
            clip.card,
            record.marks,
            record.changes,
            sphere=record.sphere,
            clip_id=clip.id,
            sounds=clip.sounds,
            facts=clip.facts,
        )


def _proof_words(output: Output) -> str:
    """What was found when an output was read back, and no more than that."""
    if output.packets_identical:
        return "packets and pictures equal" if output.pictures_identical else "packets equal, decodes to its end"
    return "checked to the last picture" if output.checks is not None and output.checks.passed else ""
