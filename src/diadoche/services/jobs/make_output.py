"""Making outputs: the use case behind `rewrap`, `convert` and the outputs view."""

from __future__ import annotations

from collections.abc import Sequence
from contextlib import suppress
from dataclasses import dataclass, replace
from pathlib import Path
from typing import Literal, cast

from diadoche.core.cards.card import Card
from diadoche.core.cards.clips import Clip
from diadoche.core.convert.formats import PictureFormat
from diadoche.core.convert.outputs import Output, failed
from diadoche.core.convert.recipes import Changes, Recipe
from diadoche.core.convert.record import OutputRecord, SourceFile
from diadoche.core.convert.rewrap import rewrap
from diadoche.core.convert.sources import FileSource
from diadoche.core.convert.transcode import Marks, convert
from diadoche.core.errors import DiadocheError, MediaError, RequestError
from diadoche.core.identify.facts import Facts
from diadoche.core.identify.probe import identify, with_sounds, with_tracks
from diadoche.core.names import safe_name, shown
from diadoche.core.spans import runs_on
from diadoche.core.spatial import SphereTags
from diadoche.core.sphere.shape import Layout, SphereShape
from diadoche.core.watch import Watch
from diadoche.services.jobs.job_kind import JobKind
from diadoche.services.jobs.list_card import list_card_at

Way = Literal["rewrap", "convert"]


@dataclass(frozen=True, slots=True)
class MakeRequest:
    """One output, and the record of how it was made: from which files, by which recipe, as a value, where to.

    A rewrap has a container instead of a recipe.
    """

    paths: tuple[Path, ...]
    recipe: Recipe | str
    folder: Path
    camera: str = ""
    marks: tuple[str, str] | None = None
    # Instead of the recipe's own.
    changes: Changes | None = None
    clip_id: int = 0
    # Files beside the spans that hold sound alone; they come along where the picture's file is mute.
    sounds: tuple[Path, ...] = ()
    # What is known of the clip, every picture counted; None where nobody looked yet.
    facts: Facts | None = None
    # A rewrap says this of its pictures, whatever the source says.
    sphere: SphereTags | None = None
    # A rewrap compares every decoded picture with the original's, not those at the joins alone.
    every_picture: bool = False

    @property
    def way(self) -> Way:
        """Whether pictures are encoded anew."""
        return "convert" if isinstance(self.recipe, Recipe) else "rewrap"

    @property
    def recipe_name(self) -> str:
        """The recipe's name, or the container's."""
        return self.recipe.name if isinstance(self.recipe, Recipe) else self.recipe


def perform_make(request: MakeRequest, watch: Watch) -> Output:
    """Makes and checks one output. What goes wrong with the footage is a problem in it.

    Raises:
        RequestError: the request makes no sense for this clip.
        Cancelled: nothing is left behind.
    """
    return replace(_perform(request, watch), record=_record(request))


def _record(request: MakeRequest) -> OutputRecord:
    sources = []
    for path in (*request.paths, *request.sounds):
        size = 0
        with suppress(OSError):
            size = path.stat().st_size
        sources.append(SourceFile(str(path), size))
    return OutputRecord(tuple(sources), request.recipe, request.changes, request.marks, sphere=request.sphere)


def _perform(request: MakeRequest, watch: Watch) -> Output:
    sources = tuple(str(path) for path in request.paths)
    try:
        facts = _known(request)
        if facts.problems and not facts.video:
            return failed(sources, request.recipe_name, facts.problems[0])
        output = _make(request, facts, watch)
        # What the file has lost, no output can have: it is told beside what was made of the rest.
        lost = tuple(problem for problem in facts.problems if "cut off" in problem.what)
        return replace(output, problems=(*output.problems, *lost))
    except RequestError:
        raise
    except DiadocheError as error:
        return failed(sources, request.recipe_name, error.problem)


def _known(request: MakeRequest) -> Facts:
    """The facts that came with the request, as long as they speak of these files; else the files are looked at."""
    if request.facts is not None and request.facts.frames is not None:
        with suppress(OSError):
            if sum(path.stat().st_size for path in request.paths) == request.facts.size_bytes:
                return request.facts
    return with_sounds(identify(request.paths, "counted"), request.sounds)


def _make(request: MakeRequest, facts: Facts, watch: Watch) -> Output:
    if not facts.video:
        raise MediaError(
            f"{request.paths[0].name} holds no picture.", path=request.paths[0], safe="It is untouched.", do="Nothing."
        )
    sounds = with_tracks(request.sounds) if facts.sound_apart else ()
    if not isinstance(request.recipe, Recipe):
        return rewrap(
            request.paths,
            facts,
            request.folder,
            watch,
            container=request.recipe,
            camera=request.camera,
            sounds=sounds,
            every_picture=request.every_picture,
            sphere=_fitting(request.sphere, facts),
        )
    if not facts.video[0].decodable:
        raise MediaError(
            f"{shown(request.paths[0].name)} has no picture that can be decoded.",
            path=request.paths[0],
            safe="It is untouched.",
            do="Keep the original; it can be converted where its codec is known.",
        )
    marks = Marks.parse(*request.marks, PictureFormat.of(facts)) if request.marks else None
    source = FileSource(request.paths, facts, sounds)
    return convert(
        source, request.recipe, request.folder, watch, camera=request.camera, marks=marks, changes=request.changes
    )


def _fitting(tags: SphereTags | None, facts: Facts) -> SphereTags | None:
    """What is to be said of a sphere, where the picture has that shape.

    Raises:
        RequestError: the shape contradicts it.
    """
    if tags is None or not tags.stereo:
        return tags
    width, height = facts.video[0].width, facts.video[0].height
    shape = SphereShape(width, height, cast(Layout, tags.stereo), tags.bounds.width_deg, tags.bounds.height_deg)
    if wrong := shape.mistake((1, 1)):
        raise RequestError(
            f"{facts.path} is no such sphere: {wrong}.",
            safe="Nothing was written.",
            do="Say which part of the sphere it is, and how eyes lie in it.",
        )
    return tags


def outputs_folder(place: Path, shoot: str) -> Path:
    """Where a shoot's outputs lie: apart from its originals."""
    return place / safe_name(shoot, "Shoot") / "Outputs"


@dataclass(frozen=True, slots=True)
class ClipFiles:
    """The spans of a clip, and the files beside them that hold sound alone."""

    paths: tuple[Path, ...]
    sounds: tuple[Path, ...] = ()


def clips_from(paths: Sequence[Path], own_layouts: Path | None, watch: Watch) -> list[ClipFiles]:
    """Cards, folders and files as clips: spans of one recording together, with their sound.

    What the card says decides; files that lie on no card belong together where their clocks run on.

    Raises:
        RequestError: there is nothing at a path.
    """
    clips: list[ClipFiles] = []
    cards: dict[Path, Card] = {}
    wanted = {path.absolute() for path in paths if path.is_file()}
    for path in paths:
        if not path.exists():
            raise RequestError(f"There is nothing at {path}.", path=path, do="Check the path.")
        place = path.absolute() if path.is_dir() else path.absolute().parent
        if place not in cards:
            cards[place] = list_card_at(path, own_layouts, watch)
        card = cards[place]
        listed = [_files_of(clip, card.root) for clip in card.clips]
        here = next((clip for clip in listed if path.absolute() in clip.paths), ClipFiles((path,)))
        if path.is_dir():
            clips += listed
        elif len(here.paths) > 1:
            clips.append(replace(here, paths=tuple(span for span in here.paths if span in wanted)))
        else:
            clips.append(replace(here, paths=(path,)))
    return _run_together(list(dict.fromkeys(clips)), cards)


def _files_of(clip: Clip, root: Path) -> ClipFiles:
    sounds = tuple(root / each.path for each in clip.companions if each.role == "sound")
    return ClipFiles(tuple(root / span for span in clip.spans), sounds)


def _run_together(clips: list[ClipFiles], cards: dict[Path, Card]) -> list[ClipFiles]:
    """Joins single transport streams, from folders that list nothing, whose clocks run on."""
    joined: list[ClipFiles] = []
    for clip in clips:
        card = cards.get(clip.paths[0].absolute().parent)
        listed = card is not None and card.layout not in {"", "loose"}
        if joined and not listed and runs_on(joined[-1].paths[-1], clip.paths[0]):
            joined[-1] = replace(joined[-1], paths=joined[-1].paths + clip.paths)
        else:
            joined.append(clip)
    return joined


KIND = JobKind("make", MakeRequest, Output, perform_make, rank=2, gentle=True)
