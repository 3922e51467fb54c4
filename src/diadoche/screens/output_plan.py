"""What is to be made of a shoot's clips: by which recipe, what is left out, and what was asked for already."""

from __future__ import annotations

from functools import partial
from pathlib import Path

from diadoche.core.convert.recipes import Changes
from diadoche.screens.route_tally import Kind, kind_of
from diadoche.services.jobs.make_output import MakeRequest
from diadoche.services.jobs.stitch import StitchRequest
from diadoche.services.ledger.kept_clips import KeptClip, delivered
from diadoche.services.station.station import Station

Request = MakeRequest | StitchRequest
# Routes by which something is made.
MADE = ("rewrap", "join", "convert", "stitch")


class OutputPlan:
    """What a start would make, and by what; it begins with what the shoot's settings say."""

    def __init__(self, station: Station, asked: set[int]) -> None:
        """
        Args:
            station: tells the shoot, and which files are there.
            asked: clips whose outputs are in the queue; shared by the plans of all shoots, for jobs outlive them.
        """
        self._station = station
        settings = station.shoot.settings
        self.shoot = station.shoot.id
        self.containers = {"rewrap": settings.container, "join": settings.container}
        self.recipe = station.recipe_named(settings.recipe)
        # Instead of the recipe's own; None where those stand.
        self.changes: Changes | None = None
        self.stitch_recipe = self.recipe
        # Routes that the next start leaves out.
        self.left_out: set[str] = set()
        self.asked = asked

    def own_changed(self) -> None:
        """The person's own recipes are read: later than the plan was made, where their disk did not answer at once.

        One that was only edited counts from the next time that it is chosen.
        """
        wanted = self._station.shoot.settings.recipe
        if self.recipe.name != wanted:
            self.recipe = self.stitch_recipe = self._station.recipe_named(wanted)

    def delivered(self, clip: KeptClip) -> Path | None:
        """Its newest output that is there, as far as that is known; nobody waits for a disk here."""
        return delivered(clip, partial(self._station.is_there, wait=False))

    def is_open(self, clip: KeptClip) -> bool:
        """Whether something is to be made of it still."""
        # What is quickly known first: there may be ten thousand.
        asked, unwanted = clip.id in self.asked, is_unwanted(clip)
        made = not (asked or unwanted) and self.delivered(clip) is not None
        return kind_of(made=made, unwanted=unwanted, asked=asked) is Kind.OPEN


def is_unwanted(clip: KeptClip) -> bool:
    """Whether a person said no to it: nothing is made of it unasked."""
    return clip.opinion.verdict == "no"
