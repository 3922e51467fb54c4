"""What each clip still needs, by route, and the outputs that are made of them."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import replace
from pathlib import Path
from typing import TYPE_CHECKING

from diadoche.core.convert.recipes import Changes, Recipe
from diadoche.core.errors import DiadocheError, RequestError
from diadoche.core.identify.route import own_profile_file, route
from diadoche.core.sizes import size_text
from diadoche.core.spatial import SphereTags
from diadoche.screens.made_outputs import MadeOutputs, MadeRow
from diadoche.screens.output_groups import OutputGroups
from diadoche.screens.output_plan import MADE, OutputPlan, Request
from diadoche.screens.output_rows import Choice, ClipRow, GroupRow
from diadoche.screens.recipe_chooser import RecipeChooser
from diadoche.screens.selection import MarkedPart
from diadoche.screens.shelf import ClipsChanged, Shelf
from diadoche.screens.stitch_group import StitchGroup
from diadoche.screens.stitching import Stitching
from diadoche.services.jobs.make_output import MakeRequest, outputs_folder
from diadoche.services.jobs.stitch import StitchRequest
from diadoche.services.ledger.kept_clips import KeptClip, record_many_facts
from diadoche.services.ledger.ledger import Ledger
from diadoche.services.ledger.takes import Take
from diadoche.services.queue.runner import Job, NewJob, Runner
from diadoche.services.station.station import Station

if TYPE_CHECKING:
    # With the library of timelines, which a start would wait for.
    from diadoche.core.handoff.timeline import HandedOff


class OutputsScreen:
    """What the outputs view shows and allows."""

    def __init__(self, station: Station, ledger: Ledger, runner: Runner, shelf: Shelf) -> None:
        self._station = station
        self._shelf = shelf
        self._ledger = ledger
        self._runner = runner
        self.on_change: Callable[[], None] = lambda: None
        self.stitching = Stitching(station, ledger, runner)
        # Clips of any shoot whose outputs are in the queue.
        self._asked: set[int] = set()
        self._begin_plan()
        self.stitching.listeners.append(self._tell)
        shelf.listeners.append(self._clips_changed)

    def _begin_plan(self) -> None:
        """Every shoot has a plan of its own."""
        self._plan = OutputPlan(self._station, self._asked)
        self._stitch = StitchGroup(self._plan, self.stitching)
        self._groups = OutputGroups(self._plan, self._stitch, self._shelf)
        self._made = MadeOutputs(self._shelf, self._plan, self._stitch, self.stitching, self.folder)

    def refresh(self) -> None:
        """Takes the clips as they are now: which files are there may have changed, too."""
        self._clips_changed(ClipsChanged())

    def _clips_changed(self, change: ClipsChanged) -> None:
        if self._plan.shoot != self._station.shoot.id:
            self._begin_plan()
        self._made.forget()
        self._stitch.take(self._known_clips, self._station.layouts())
        self._groups.clips_changed(change.clip_ids)
        self._tell()

    def _known_clips(self) -> list[KeptClip]:
        """Those that were looked at."""
        return [line.clip for line in self._shelf.lines if line.clip.facts is not None]

    @property
    def profile(self) -> str:
        """What the person's editing program is like."""
        return self._station.shoot.settings.profile

    def profiles(self) -> list[Choice]:
        """Every editor profile that can be chosen; one of the person's own that has a mistake says so."""
        found = []
        for name, profile in self._station.own.profiles.value.items():
            if isinstance(profile, RequestError):
                found.append(Choice("", profile.problem.what))
            else:
                found.append(Choice(name, profile.title))
        return found

    def choose_profile(self, name: str) -> None:
        """Judges every clip of the shoot anew for another editing program; nothing is read again for it.

        Raises:
            RequestError: it has a mistake, which is named, or is gone.
        """
        profile = self._station.own.profiles.now().get(name)
        if profile is None:
            raise RequestError(f"There is no editor profile called {name}.", do="Choose another one.")
        if isinstance(profile, RequestError):
            raise profile
        self._station.change_settings(profile=name)
        routed = [
            (clip.id, clip.facts.routed(route(clip.facts, profile, len(clip.paths))))
            for clip in self._known_clips()
            if clip.facts is not None
        ]
        record_many_facts(self._ledger, routed)
        self._shelf.refresh()

    def own_profile(self, then: Callable[[Path | Exception], None]) -> None:
        """A profile of the person's own to be edited: the chosen one, copied where it is a supplied one.

        `then` takes its path, or why it cannot be written.
        """
        folder, name = self._station.own.profiles.folder, self.profile
        self._station.in_background(lambda: own_profile_file(folder, name), then)

    def own_changed(self) -> None:
        """The person's own recipes, profiles, rigs or layouts are others than before."""
        self._plan.own_changed()
        self.refresh()

    def summary(self) -> str:
        """The words under the view's name."""
        todo = sum(row.to_make for row in self.groups())
        unknown = len(self._shelf.lines) - self._groups.known
        if unknown and not todo:
            return f"{unknown} not looked at yet"
        making = self.being_made()
        if making:
            return f"{making} being made" + (f", {todo} to make" if todo else "")
        return f"{todo} to make" if todo else "none to make"

    def _tell(self) -> None:
        self._groups.forget()
        self.on_change()

    def groups(self) -> list[GroupRow]:
        """Routes that occur, in the order of the work."""
        return self._groups.groups()

    def clips_of(self, route: str) -> list[ClipRow]:
        """The clips of a group, each by itself; lenses of one take together."""
        return self._groups.clips_of(route)

    def takes(self) -> list[Take]:
        """Takes that are to be stitched, or were."""
        return self._stitch.takes

    def made(self) -> list[MadeRow]:
        """Outputs, the newest first."""
        return self._made.rows()

    def choose(self, route: str, name: str) -> None:
        """Another container for a group."""
        self._plan.containers[route] = name
        self._tell()

    def recipe_chooser(self, route: str = "convert") -> RecipeChooser:
        """What can be chosen for the clips that are to be converted, or for the takes that are to be stitched."""
        if route == "stitch":
            takes = self.stitching.alike(self._stitch.open_takes() or self._stitch.takes)
            return RecipeChooser(
                takes, self._plan.stitch_recipe, None, self._station.own.recipes, self._station.in_background
            )
        clips = self._groups.open_clips("convert") or self._groups.of("convert")
        return RecipeChooser(
            self._groups.alike(clips),
            self._plan.recipe,
            self._plan.changes,
            self._station.own.recipes,
            self._station.in_background,
        )

    def take(self, chooser: RecipeChooser, route: str = "convert") -> None:
        """Converts, or stitches, by what was chosen from now on."""
        if route == "stitch":
            self._plan.stitch_recipe = chooser.chosen[0]
            self._tell()
            return
        self._plan.recipe, self._plan.changes = chooser.chosen
        self._station.change_settings(recipe=self._plan.recipe.name)
        self._tell()

    def include(self, route: str, included: bool) -> None:
        """Whether a group is made with the next start."""
        (self._plan.left_out.discard if included else self._plan.left_out.add)(route)
        self._tell()

    def to_make(self) -> int:
        """How many outputs one start would make."""
        return sum(row.to_make for row in self.groups() if row.included) if self.folder() is not None else 0

    def folder(self) -> Path | None:
        """Where outputs go: the shoot's own folder, or beside the first copy's originals."""
        settings = self._station.shoot.settings
        place = settings.outputs or (settings.places[0] if settings.places else None)
        return outputs_folder(place, self._station.shoot.name) if place else None

    def room(self) -> tuple[str, float, float]:
        """Words, the share of the disk in use, and the share these outputs would take."""
        folder = self.folder()
        if folder is None:
            return "Add a place for copies first.", 0.0, 0.0
        usage = self._station.room(folder)
        if usage is None or not usage.here:
            words = "is not known to be here." if usage is None else "is not here now."
            return f"The disk of {folder} {words}", 0.0, 0.0
        total = max(1, usage.total)
        coming = sum(row.size_bytes for row in self.groups() if row.included)
        if not coming:
            return (
                f"{size_text(usage.free)} free. Originals stay where they are, untouched.",
                1 - usage.free / total,
                0.0,
            )
        words = f"About {size_text(coming)} of {size_text(usage.free)} free. Originals stay where they are, untouched."
        return words, 1 - usage.free / total, coming / total

    def being_made(self) -> int:
        """How many outputs of this shoot are in the queue, or at work."""
        return self._groups.asked

    def make(self) -> int:
        """Has every output put into the queue, and gives how many."""
        folder, left_out = self.folder(), self._plan.left_out
        if folder is None:
            return 0
        ways: dict[str, Recipe | str] = {**self._plan.containers, "convert": self._plan.recipe}
        changes = {"convert": self._plan.changes}
        clips = [
            (clip, ways[route], changes.get(route))
            for route in MADE
            if route not in left_out and route != "stitch"
            for clip in self._groups.can_be_made(route)
        ]
        takes = self._stitch.can_be_made() if "stitch" not in left_out else []
        stitches = [self.stitching.request(take, self._plan.stitch_recipe, folder) for take in takes]
        return self._ask(
            [*(clip for clip, _way, _changes in clips), *(take.clip for take in takes)],
            lambda: [*(_request(clip, way, folder, changes) for clip, way, changes in clips), *stitches],
        )

    def _ask(
        self, clips: Sequence[KeptClip], requests: Callable[[], Sequence[Request]], *, of_parts: bool = False
    ) -> int:
        """Has requests put together and into the queue where nobody waits for it: they may be thousands.

        With `of_parts` the clips themselves are not being made: what waits for them goes on waiting.
        """
        names = {clip.id: f"{clip.card} {clip.clip.name}" for clip in clips}
        asked = set() if of_parts else set(names)
        if not names:
            return 0

        def add() -> None:
            self._runner.add_all([_job(request, names[request.clip_id]) for request in requests()])

        def added(outcome: Exception | None) -> None:
            if outcome is not None:
                self._asked -= asked
                self._tell()
                raise outcome

        self._made.forget()
        self._asked |= asked
        # Told first: while thousands of requests are put together beside it, the window has half of the interpreter.
        self._tell()
        self._station.in_background(add, added)
        return len(names)

    def taken_up(self, jobs: Sequence[Job]) -> None:
        """What an earlier run of the application left in the queue is being made, too: it is not asked for again."""
        self._asked.update(
            job.request.clip_id for job in jobs if job.kind in {"make", "stitch"} and job.request.marks is None
        )
        self._tell()

    def job_ended(self, request: Request) -> None:
        """An output was made or not; a failed one may be asked for again."""
        if request.marks is None:
            self._plan.asked.discard(request.clip_id)
        self.refresh()

    def convert_parts(self, parts: Sequence[tuple[KeptClip, MarkedPart]]) -> None:
        """Converts parts of clips by the recipe that is chosen: each becomes an output beside those of its clip."""
        folder, recipe, changes = self.folder(), self._plan.recipe, self._plan.changes
        if folder is None:
            return

        def requests() -> list[MakeRequest]:
            return [
                replace(_request(clip, recipe, folder, changes), marks=(str(part.first), str(part.end)))
                for clip, part in parts
            ]

        self._ask([clip for clip, _part in parts], requests, of_parts=True)

    def write_spheres(self, clips: Sequence[KeptClip], stereo: str) -> None:
        """Rewraps clips so that they say what they are: nothing of the pictures is touched.

        Args:
            clips: each becomes an output beside those that it has.
            stereo: "mono", "top-bottom" or "side-by-side"; nothing for flat.
        """
        folder = self.folder()
        if folder is None:
            return

        def requests() -> list[MakeRequest]:
            return [
                replace(_request(clip, _container(clip), folder, None), sphere=SphereTags(stereo)) for clip in clips
            ]

        self._ask(clips, requests)

    def make_again(self, row: int) -> None:
        """Makes one output again, beside the one that stands: nothing is written over."""
        request = self.made()[row].again
        if request is not None:
            clips = [line.clip for line in self._shelf.chosen([request.clip_id])]
            self._ask(clips, lambda: [request], of_parts=request.marks is not None)

    def hand_off(self, target: Path, say: Callable[[str], None]) -> None:
        """Writes the hand-off, and says what it holds."""

        def written(handed: HandedOff | Exception) -> None:
            if isinstance(handed, DiadocheError):
                say(problem_words(handed))
            elif isinstance(handed, Exception):
                say(f"The hand-off could not be written: {handed}.")
            else:
                say(f"{target.name}: {handed.words()}")

        shoot, layouts = self._station.shoot, self._station.layouts()

        def write() -> HandedOff:
            # Loaded only here: a start would wait for the library of timelines.
            from diadoche.services.ledger.hand_off import hand_off_shoot

            return hand_off_shoot(self._ledger, shoot, target, layouts)

        self._station.in_background(write, written)

    @property
    def can_hand_off(self) -> bool:
        """Whether there is anything to hand off."""
        return self._groups.known > 0

    @property
    def proposed_hand_off(self) -> str:
        """Where the hand-off would go."""
        folder = self.folder()
        return str(folder.parent / f"{self._station.shoot.name}.otio") if folder else ""


def problem_words(error: DiadocheError) -> str:
    """A failure in one line for a status text."""
    return error.problem.sentence()


def _request(clip: KeptClip, way: Recipe | str, folder: Path, changes: Changes | None) -> MakeRequest:
    return MakeRequest(
        clip.paths, way, folder, clip.card, changes=changes, clip_id=clip.id, sounds=clip.sounds, facts=clip.facts
    )


def _container(clip: KeptClip) -> str:
    return "mp4" if clip.facts is not None and clip.facts.container == "MP4" else "mov"


def _job(request: Request, name: str) -> NewJob:
    if isinstance(request, StitchRequest):
        return NewJob("stitch", f"Stitch {name}", "encode", request)
    if request.marks is not None:
        return NewJob("make", f"Convert a part of {name}", "encode", request)
    verb = "Convert" if request.way == "convert" else "Join" if len(request.paths) > 1 else "Rewrap"
    return NewJob("make", f"{verb} {name}", "encode", request)
