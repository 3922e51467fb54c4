"""What each clip still needs, by route, and the outputs that are made of them."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass
from pathlib import Path

from diadoche.core.convert.outputs import Output
from diadoche.core.convert.recipes import Changes
from diadoche.core.errors import DiadocheError, RequestError
from diadoche.core.identify.facts import Facts
from diadoche.core.identify.route import load_profile, own_profile_file, profile_names, route
from diadoche.core.sizes import count_text, size_text
from diadoche.core.spatial import SphereTags
from diadoche.screens.lines import Line
from diadoche.screens.marks import Mark
from diadoche.screens.places import OutputPlaces, output_places
from diadoche.screens.recipe_chooser import Alike, Outlook, RecipeChooser, alike, outlook
from diadoche.screens.shelf import Shelf
from diadoche.screens.stitching import Stitching
from diadoche.services.jobs.make_output import MakeRequest, outputs_folder
from diadoche.services.jobs.measure_playback import gain_words
from diadoche.services.jobs.stitch import StitchRequest
from diadoche.services.ledger.hand_off import delivered, hand_off_shoot
from diadoche.services.ledger.kept_clips import KeptClip, record_many_facts
from diadoche.services.ledger.ledger import Ledger
from diadoche.services.ledger.shoots import known_recipe
from diadoche.services.ledger.takes import Take, takes_of
from diadoche.services.queue.runner import Runner
from diadoche.services.station.station import Station

_ORDER = ("ready", "rewrap", "join", "convert", "stitch", "develop", "unsupported")
_WORDS = {
    "ready": ("Ready", "Nothing to do: they play as they are."),
    "rewrap": ("Rewrap", "Only the container is in the way; packets are proven equal."),
    "join": ("Join", "Cut by the camera into several files; joined without encoding."),
    "convert": ("Convert", "An editor would render these at every step."),
    "stitch": ("Stitch", "A round picture for each lens becomes one picture of all around."),
    "develop": ("Develop", "The sensor's own values; they are kept as they are until they are developed."),
    "unsupported": ("Unsupported", "Nothing here can decode them; they are kept as they are."),
}
_NOTHING_TO_MAKE = {"ready": "nothing to make", "develop": "waits", "unsupported": "kept as it is"}
_MADE = ("rewrap", "join", "convert", "stitch")
_CONTAINERS = {
    "mov": "MOV, picture and sound as they are",
    "mp4": "MP4, picture and sound as they are",
    "mkv": "Matroska, picture and sound as they are",
}


Request = MakeRequest | StitchRequest


@dataclass(frozen=True, slots=True)
class Choice:
    """A recipe or container to choose."""

    name: str
    title: str


@dataclass(frozen=True, slots=True)
class GroupRow:
    """Clips with one route."""

    route: str
    title: str
    reason: str
    clips: int
    to_make: int
    made: int
    size: str
    size_bytes: int
    # Containers to choose from, or the title of the recipe that is chosen from many; neither where nothing is made.
    choices: tuple[Choice, ...]
    chosen: str
    recipe: str
    included: bool
    warning: str
    mark: Mark
    # The words of the button for how takes are stitched; nothing in other groups.
    stitch: str = ""


@dataclass(frozen=True, slots=True)
class ClipRow:
    """A clip of a group: why it is there, how large its output becomes, and what will come of it."""

    name: str
    reason: str
    size: str
    words: str
    mark: Mark


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


class OutputsScreen:
    """What the outputs view shows and allows."""

    def __init__(self, station: Station, ledger: Ledger, runner: Runner, shelf: Shelf) -> None:
        self._station = station
        self._shelf = shelf
        self._ledger = ledger
        self._runner = runner
        self.on_change: Callable[[], None] = lambda: None
        settings = station.shoot.settings
        self._chosen = {"rewrap": settings.container, "join": settings.container}
        self._recipe = known_recipe(settings.recipe, station.own_recipes)
        # Instead of the recipe's own; None where those stand.
        self._changes: Changes | None = None
        self._left_out: set[str] = set()
        self._clips: list[KeptClip] = []
        self._by_route: dict[str, list[KeptClip]] = {}
        self._groups: list[GroupRow] | None = None
        self._asked: set[int] = set()
        self._made_rows: list[MadeRow] | None = None
        self._known_alike: tuple[list[Facts], list[Alike]] = [], []
        self.stitching = Stitching(station, ledger, runner)
        self._stitch_recipe = self._recipe
        self._layouts = station.layouts()
        self._takes: list[Take] = []
        self.stitching.listeners.append(self._tell)
        shelf.listeners.append(self.refresh)

    def refresh(self) -> None:
        """Takes the clips as they are now."""
        self._made_rows = None
        self._clips = [line.clip for line in self._shelf.lines if line.clip.facts is not None]
        self._by_route = {}
        for clip in self._clips:
            assert clip.facts is not None
            self._by_route.setdefault(clip.facts.route.name, []).append(clip)
        self._takes = takes_of(self._clips, self._layouts)
        self._tell()

    @property
    def profile(self) -> str:
        """What the person's editing program is like."""
        return self._station.shoot.settings.profile

    def profiles(self) -> list[Choice]:
        """Every editor profile that can be chosen; one of the person's own that has a mistake says so."""
        found = []
        for name in profile_names(self._station.own_profiles):
            try:
                found.append(Choice(name, load_profile(name, self._station.own_profiles).title))
            except RequestError as error:
                found.append(Choice("", error.problem.what))
        return found

    def choose_profile(self, name: str) -> None:
        """Judges every clip of the shoot anew for another editing program; nothing is read again for it."""
        profile = load_profile(name, self._station.own_profiles)
        self._station.change_settings(profile=name)
        routed = [
            (clip.id, clip.facts.routed(route(clip.facts, profile, len(clip.paths))))
            for clip in self._clips
            if clip.facts is not None
        ]
        record_many_facts(self._ledger, routed)
        self._shelf.refresh()

    def own_profile(self) -> Path:
        """A profile of the person's own to be edited: the chosen one, copied where it is a supplied one."""
        return own_profile_file(self._station.profiles_folder, self.profile)

    def summary(self) -> str:
        """The words under the view's name."""
        todo = sum(row.to_make for row in self.groups())
        unknown = sum(line.clip.facts is None for line in self._shelf.lines)
        if unknown and not todo:
            return f"{unknown} not looked at yet"
        return f"{todo} to make" if todo else "none to make"

    def _tell(self) -> None:
        self._groups = None
        self.on_change()

    def groups(self) -> list[GroupRow]:
        """Routes that occur, in the order of the work; put together once for every change."""
        if self._groups is None:
            self._groups = [self._group(route) for route in _ORDER if self._of(route)]
        return self._groups

    def clips_of(self, route: str) -> list[ClipRow]:
        """The clips of a group, each by itself; lenses of one take together."""
        if route == "stitch":
            return [self._take_row(take) for take in self._takes]
        return [self._clip_row(route, clip) for clip in self._of(route)]

    def _clip_row(self, route: str, clip: KeptClip) -> ClipRow:
        assert clip.facts is not None
        name, reason = f"{clip.card} {clip.clip.name}", " ".join(clip.facts.route.reasons)
        if self._delivered(clip) is not None:
            return ClipRow(name, reason, "", "made", Mark.DONE)
        if _is_unwanted(clip):
            return ClipRow(name, reason, "", "marked no: left out", Mark.EXPECTED)
        if route not in _MADE:
            return ClipRow(name, reason, "", _NOTHING_TO_MAKE.get(route, ""), Mark.EXPECTED)
        size, warning = self._estimate(route, [clip])
        if clip.id in self._asked:
            return ClipRow(name, reason, size_text(size), "being made", Mark.UNDER_WAY)
        words = warning or ("to make" if route not in self._left_out else "left out with its group")
        return ClipRow(name, reason, size_text(size), words, Mark.EXPECTED)

    def _take_row(self, take: Take) -> ClipRow:
        reason = take.lens_words + (", and the camera's own stitched version" if take.stitched is not None else "")
        if self._delivered(take.clip) is not None:
            return ClipRow(take.name, reason, "", "made", Mark.DONE)
        if _is_unwanted(take.clip):
            return ClipRow(take.name, reason, "", "marked no: left out", Mark.EXPECTED)
        size, warning = self._outlook_of([take])
        if take.clip.id in self._asked:
            return ClipRow(take.name, reason, size_text(size), "being stitched", Mark.UNDER_WAY)
        row = self.stitching.row(take)
        words = self.stitching.mistake(take) or warning or f"{row.size}, {row.rig}"
        return ClipRow(take.name, reason, size_text(size) if size else "", words, row.mark)

    def takes(self) -> list[Take]:
        """Takes that are to be stitched, or were."""
        return self._takes

    def _open_takes(self) -> list[Take]:
        return [take for take in self._takes if self._is_open(take.clip) and not self.stitching.mistake(take)]

    def _outlook_of(self, takes: Sequence[Take]) -> tuple[int, str]:
        """How large takes become, and what their recipe does not hold of them."""
        found = outlook(self.stitching.alike(takes), self._stitch_recipe, None)
        return found.size_bytes, " ".join(filter(None, (found.refusal, *found.losses)))

    def choose(self, route: str, name: str) -> None:
        """Another container for a group."""
        self._chosen[route] = name
        self._tell()

    def recipe_chooser(self, route: str = "convert") -> RecipeChooser:
        """What can be chosen for the clips that are to be converted, or for the takes that are to be stitched."""
        if route == "stitch":
            takes = self.stitching.alike(self._open_takes() or self._takes)
            return RecipeChooser(takes, self._stitch_recipe, None, self._station.recipes_folder)
        clips = [clip for clip in self._of("convert") if self._is_open(clip)] or self._of("convert")
        return RecipeChooser(self._alike(clips), self._recipe, self._changes, self._station.recipes_folder)

    def take(self, chooser: RecipeChooser, route: str = "convert") -> None:
        """Converts, or stitches, by what was chosen from now on."""
        if route == "stitch":
            self._stitch_recipe = chooser.chosen[0]
            self._tell()
            return
        self._recipe, self._changes = chooser.chosen
        self._station.change_settings(recipe=self._recipe.name)
        self._tell()

    def include(self, route: str, included: bool) -> None:
        """Whether a group is made with the next start."""
        (self._left_out.discard if included else self._left_out.add)(route)
        self._tell()

    def to_make(self) -> list[Request]:
        """What one start would make."""
        folder = self.folder()
        if folder is None:
            return []
        takes = self._open_takes() if "stitch" not in self._left_out else []
        return [
            *self._clips_to_make(folder),
            *(self.stitching.request(take, self._stitch_recipe, folder) for take in takes),
        ]

    def _clips_to_make(self, folder: Path) -> list[MakeRequest]:
        return [
            MakeRequest(
                clip.paths,
                self._recipe if route == "convert" else self._chosen[route],
                folder,
                clip.card,
                changes=self._changes if route == "convert" else None,
                clip_id=clip.id,
                sounds=clip.sounds,
                facts=clip.facts,
            )
            for route in _MADE
            if route not in self._left_out and route != "stitch"
            for clip in self._of(route)
            if self._is_open(clip)
        ]

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

    def make(self) -> int:
        """Puts every output into the queue, and gives how many."""
        requests = self.to_make()
        self._ask(requests)
        return len(requests)

    def _ask(self, requests: Sequence[Request]) -> None:
        self._made_rows = None
        for request in requests:
            self._asked.add(request.clip_id)
            (clip,) = (line.clip for line in self._shelf.chosen([request.clip_id]))
            if isinstance(request, StitchRequest):
                self._runner.add("stitch", f"Stitch {clip.card} {clip.clip.name}", "encode", request)
                continue
            verb = "Convert" if request.way == "convert" else "Join" if len(request.paths) > 1 else "Rewrap"
            self._runner.add("make", f"{verb} {clip.card} {clip.clip.name}", "encode", request)
        self._tell()

    def job_ended(self, clip_id: int) -> None:
        """An output was made or not; a failed one may be asked for again."""
        self._asked.discard(clip_id)
        self.refresh()

    def made(self) -> list[MadeRow]:
        """Outputs, the newest first; computed once, for a table asks for every cell."""
        if self._made_rows is None:
            rows = [
                self._made(line, output)
                for line in self._shelf.lines
                for output in line.clip.outputs
                if line.clip.facts is not None
            ]
            self._made_rows = rows[::-1]
        return self._made_rows

    def _made(self, line: Line, output: Output) -> MadeRow:
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
        record, folder = output.record, self.folder()
        if record is None or folder is None or clip.id in self._asked:
            return None
        if record.stitch is not None:
            take = next((each for each in self._takes if each.clip.id == clip.id), None)
            return self.stitching.again(take, record, folder) if take is not None else None
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

    def write_spheres(self, clips: Sequence[KeptClip], stereo: str) -> None:
        """Rewraps clips so that they say what they are: nothing of the pictures is touched.

        Args:
            clips: each becomes an output beside those that it has.
            stereo: "mono", "top-bottom" or "side-by-side"; nothing for flat.
        """
        folder = self.folder()
        if folder is None:
            return
        self._ask(
            [
                MakeRequest(
                    clip.paths,
                    "mp4" if clip.facts is not None and clip.facts.container == "MP4" else "mov",
                    folder,
                    clip.card,
                    clip_id=clip.id,
                    sounds=clip.sounds,
                    facts=clip.facts,
                    sphere=SphereTags(stereo),
                )
                for clip in clips
            ]
        )

    def make_again(self, row: int) -> None:
        """Makes one output again, beside the one that stands: nothing is written over."""
        request = self.made()[row].again
        if request is not None:
            self._ask([request])

    def hand_off(self, target: Path, say: Callable[[str], None]) -> None:
        """Writes the hand-off, and says what it holds."""

        def written(count: int | Exception) -> None:
            if isinstance(count, DiadocheError):
                say(problem_words(count))
            elif isinstance(count, Exception):
                say(f"The hand-off could not be written: {count}.")
            else:
                say(f"{target.name}: {count_text(count, 'clip')}, each with its original and its edit-ready file.")

        shoot = self._station.shoot
        self._station.in_background(lambda: hand_off_shoot(self._ledger, shoot, target, self._layouts), written)

    @property
    def can_hand_off(self) -> bool:
        """Whether there is anything to hand off."""
        return bool(self._clips)

    @property
    def proposed_hand_off(self) -> str:
        """Where the hand-off would go."""
        folder = self.folder()
        return str(folder.parent / f"{self._station.shoot.name}.otio") if folder else ""

    def _of(self, route: str) -> list[KeptClip]:
        if route == "stitch":
            return [take.clip for take in self._takes]
        return self._by_route.get(route, [])

    def _delivered(self, clip: KeptClip) -> Path | None:
        """Its newest output that is there, as far as that is known."""
        return delivered(clip, self._station.is_there)

    def _is_open(self, clip: KeptClip) -> bool:
        return clip.id not in self._asked and self._delivered(clip) is None and not _is_unwanted(clip)

    def _alike(self, clips: Sequence[KeptClip]) -> list[Alike]:
        """Clips by format. The same clips are asked for at every refresh: ten thousand are put together once."""
        facts: list[Facts] = [clip.facts for clip in clips if clip.facts is not None and clip.facts.video]
        known, found = self._known_alike
        if len(facts) != len(known) or any(mine is not theirs for mine, theirs in zip(facts, known, strict=True)):
            found = alike(facts)
            if len(facts) > 1:
                self._known_alike = facts, found
        return found

    def _stitch_group(self) -> GroupRow:
        takes, to_make = self._takes, self._open_takes()
        title, reason = _WORDS["stitch"]
        size, warning = self._outlook_of(to_make)
        wrong = [words for take in takes if self._is_open(take.clip) and (words := self.stitching.mistake(take))]
        few = f"{len(wrong)} of {len(takes)}: " if len(wrong) < len(takes) else ""
        warning = " ".join(filter(None, (f"{few}{wrong[0]}" if wrong else "", warning)))
        made = sum(self._delivered(take.clip) is not None for take in takes)
        unwanted = sum(_is_unwanted(take.clip) and self._delivered(take.clip) is None for take in takes)
        left_out = f"{count_text(unwanted, 'take')} marked no: left out." if unwanted else ""
        mark = Mark.DONE if made == len(takes) and made else Mark.EXPECTED
        if any(take.clip.id in self._asked for take in takes):
            mark = Mark.UNDER_WAY
        return GroupRow(
            "stitch",
            title,
            f"{reason} {left_out}".strip(),
            len(takes),
            len(to_make),
            made,
            f"about {size_text(size)}" if to_make else "",
            size,
            (),
            "",
            self._stitch_recipe.title,
            "stitch" not in self._left_out,
            warning,
            mark,
            self._stitch_words(to_make or takes),
        )

    def _stitch_words(self, takes: Sequence[Take]) -> str:
        """How some takes are stitched, in the words of a button."""
        aligned = sum(self.stitching.aligned(take) is not None for take in takes)
        return f"How: {aligned} of {len(takes)} aligned"

    def _group(self, route: str) -> GroupRow:
        if route == "stitch":
            return self._stitch_group()
        clips = self._of(route)
        title, reason = _WORDS[route]
        open_clips = [clip for clip in clips if self._is_open(clip)] if route in _MADE else []
        made = sum(self._delivered(clip) is not None for clip in clips)
        size, warning = self._estimate(route, open_clips)
        unwanted = sum(_is_unwanted(clip) and self._delivered(clip) is None for clip in clips) if route in _MADE else 0
        left_out = f"{count_text(unwanted, 'clip')} marked no: left out." if unwanted else ""
        warning = " ".join(filter(None, (_sound_apart(open_clips), warning)))
        mark = Mark.DONE if route == "ready" or (made == len(clips) and made) else Mark.EXPECTED
        if any(clip.id in self._asked for clip in clips):
            mark = Mark.UNDER_WAY
        if route == "unsupported":
            mark = Mark.PROBLEM
        if (
            route == "convert"
            and len({clip.facts.route.reasons for clip in clips if clip.facts}) == 1
            and clips[0].facts
        ):
            reason = clips[0].facts.route.reasons[0]
        return GroupRow(
            route,
            title,
            f"{reason} {left_out}".strip(),
            len(clips),
            len(open_clips),
            made,
            f"about {size_text(size)}" if open_clips else "",
            size,
            self._choices(route),
            self._chosen.get(route, ""),
            self._recipe.title if route == "convert" else "",
            route not in self._left_out,
            warning,
            mark,
        )

    def _choices(self, route: str) -> tuple[Choice, ...]:
        if route in self._chosen:
            return tuple(Choice(name, title) for name, title in _CONTAINERS.items())
        return ()

    def _estimate(self, route: str, clips: list[KeptClip]) -> tuple[int, str]:
        if route != "convert":
            return sum(clip.facts.size_bytes for clip in clips if clip.facts), ""
        found: Outlook = outlook(self._alike(clips), self._recipe, self._changes)
        few = f"{found.refused} of {len(clips)}: " if 0 < found.refused < len(clips) else ""
        refusal = f"{few}{found.refusal}" if found.refused else ""
        return found.size_bytes, " ".join(filter(None, (refusal, *found.losses)))


def _is_unwanted(clip: KeptClip) -> bool:
    """Whether a person said no to it: nothing is made of it unasked."""
    return clip.opinion.verdict == "no"


def _proof_words(output: Output) -> str:
    """What was found when an output was read back, and no more than that."""
    if output.packets_identical:
        return "packets and pictures equal" if output.pictures_identical else "packets equal, decodes to its end"
    return "checked to the last picture" if output.checks is not None and output.checks.passed else ""


def _sound_apart(clips: Sequence[KeptClip]) -> str:
    """What is said where a camera kept more sound in files of its own: beside a picture that has sound, it stays."""
    apart = [clip.clip.name for clip in clips if clip.sounds and clip.facts is not None and not clip.facts.sound_apart]
    if not apart:
        return ""
    names = f"{apart[0]} and {len(apart) - 1} more" if len(apart) > 1 else apart[0]
    return f"{names}: a second sound lies in files of its own and does not come along; it is kept beside the original."


def problem_words(error: DiadocheError) -> str:
    """A failure in one line for a status text."""
    return error.problem.sentence()
