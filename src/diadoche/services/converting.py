"""Making outputs: the use case behind `rewrap`, `convert` and the outputs view."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from pathlib import Path
from typing import Literal

from diadoche.core.cards.card import Card
from diadoche.core.convert.outputs import Output, failed
from diadoche.core.convert.recipes import recipe_named
from diadoche.core.convert.rewrap import rewrap
from diadoche.core.convert.sources import FileSource
from diadoche.core.convert.transcode import Marks, convert
from diadoche.core.errors import DiadocheError, MediaError, RequestError
from diadoche.core.identify.facts import Facts
from diadoche.core.identify.probe import identify
from diadoche.core.names import safe_name
from diadoche.core.spans import runs_on
from diadoche.core.watch import Watch
from diadoche.services.looking import look_at
from diadoche.services.queue.kinds import JobKind

Way = Literal["rewrap", "convert"]


@dataclass(frozen=True, slots=True)
class MakeRequest:
    """One output: from which files, which way, where to. `recipe` is a container when rewrapping."""

    paths: tuple[Path, ...]
    way: Way
    recipe: str
    folder: Path
    camera: str = ""
    marks: tuple[str, str] | None = None
    clip_id: int = 0


def perform_make(request: MakeRequest, watch: Watch) -> Output:
    """Makes and checks one output. What goes wrong with the footage is a problem in it.

    Raises:
        RequestError: the request makes no sense for this clip.
        Cancelled: nothing is left behind.
    """
    sources = tuple(str(path) for path in request.paths)
    try:
        facts = identify(request.paths, "counted")
        if facts.problems and not facts.video:
            return failed(sources, request.recipe, facts.problems[0])
        return _make(request, facts, watch)
    except RequestError:
        raise
    except DiadocheError as error:
        return failed(sources, request.recipe, error.problem)


def _make(request: MakeRequest, facts: Facts, watch: Watch) -> Output:
    if not facts.video:
        raise MediaError(
            f"{request.paths[0].name} holds no picture.", path=request.paths[0], safe="It is untouched.", do="Nothing."
        )
    if request.way == "rewrap":
        return rewrap(request.paths, facts, request.folder, watch, container=request.recipe, camera=request.camera)
    marks = Marks.parse(*request.marks, facts.video[0]) if request.marks else None
    recipe = recipe_named(request.recipe)
    return convert(FileSource(request.paths, facts), recipe, request.folder, watch, camera=request.camera, marks=marks)


def outputs_folder(place: Path, shoot: str) -> Path:
    """Where a shoot's outputs lie: apart from its originals."""
    return place / safe_name(shoot, "Shoot") / "Outputs"


def clips_from(paths: Sequence[Path], own_layouts: Path | None, watch: Watch) -> list[tuple[Path, ...]]:
    """Cards, folders and files as clips: spans of one recording together.

    What the card says decides; files that lie on no card belong together where their clocks run on.

    Raises:
        RequestError: there is nothing at a path.
    """
    clips: list[tuple[Path, ...]] = []
    cards: dict[Path, Card] = {}
    wanted = {path.absolute() for path in paths if path.is_file()}
    for path in paths:
        if not path.exists():
            raise RequestError(f"There is nothing at {path}.", path=path, do="Check the path.")
        place = path.absolute() if path.is_dir() else path.absolute().parent
        if place not in cards:
            cards[place] = look_at(path, own_layouts, watch)
        card = cards[place]
        spans = next(
            (clip.spans for clip in card.clips if path.absolute() in {card.root / span for span in clip.spans}), ()
        )
        if path.is_dir():
            clips += [tuple(card.root / span for span in clip.spans) for clip in card.clips]
        elif len(spans) > 1:
            clips.append(tuple(card.root / span for span in spans if card.root / span in wanted))
        else:
            clips.append((path,))
    return _run_together(list(dict.fromkeys(clips)), cards)


def _run_together(clips: list[tuple[Path, ...]], cards: dict[Path, Card]) -> list[tuple[Path, ...]]:
    """Joins single transport streams, from folders that list nothing, whose clocks run on."""
    joined: list[tuple[Path, ...]] = []
    for clip in clips:
        card = cards.get(clip[0].absolute().parent)
        listed = card is not None and card.layout not in {"", "loose"}
        if joined and not listed and runs_on(joined[-1][-1], clip[0]):
            joined[-1] += clip
        else:
            joined.append(clip)
    return joined


KIND = JobKind("make", MakeRequest, Output, perform_make, rank=2, gentle=True)
