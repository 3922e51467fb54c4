"""The first picture of each clip and what its output may weigh, straight from the card, before anything is copied."""

from __future__ import annotations

import base64
import time
from dataclasses import dataclass
from pathlib import Path

from diadoche.core.cards.clips import Clip
from diadoche.core.convert.plan import plan_of
from diadoche.core.convert.recipes import Recipe
from diadoche.core.errors import DiadocheError, RequestError
from diadoche.core.footage.trial import first_picture
from diadoche.core.identify.facts import Facts
from diadoche.core.identify.probe import identify
from diadoche.core.identify.route import load_profile, route
from diadoche.core.watch import Progress, Watch
from diadoche.services.jobs.job_kind import JobKind

# What a person takes in at a glance; a slow card is not kept in for more.
_MOST = 24
_LONGEST_S = 30.0


@dataclass(frozen=True, slots=True)
class PictureRequest:
    """Which clips of which card."""

    source: Path
    clips: tuple[Clip, ...]
    profile: str = "general"
    recipe: Recipe | None = None
    own_profiles: Path | None = None


@dataclass(frozen=True, slots=True)
class Pictures:
    """Small JPEGs in base64, by the clip's name, of clips whose picture decodes; and what outputs may come to."""

    source: Path
    by_clip: dict[str, str]
    outputs_bytes: int = 0


def perform_pictures(request: PictureRequest, watch: Watch) -> Pictures:
    """Decodes the first picture of the first clips; outputs are estimated by headers, the rest in proportion.

    Raises:
        Cancelled: the watch was stopped, as it is when copying begins.
    """
    found: dict[str, str] = {}
    seen: list[Clip] = []
    outputs_bytes = 0
    clips = request.clips[:_MOST]
    until_s = time.monotonic() + _LONGEST_S
    for number, clip in enumerate(clips):
        watch.step(Progress(number, len(clips), f"looking at {clip.name}"))
        if time.monotonic() > until_s:
            break
        if picture := first_picture(request.source / clip.spans[0]):
            found[clip.name] = base64.b64encode(picture).decode("ascii")
        seen.append(clip)
        outputs_bytes += _output_bytes(request, clip) if request.recipe else 0
    looked = sum(clip.size_bytes for clip in seen)
    whole = sum(clip.size_bytes for clip in request.clips)
    return Pictures(request.source, found, round(outputs_bytes * whole / looked) if looked else 0)


def _output_bytes(request: PictureRequest, clip: Clip) -> int:
    paths = [request.source / span for span in clip.spans]
    try:
        facts = identify(paths, "headers")
    except DiadocheError:
        return 0
    if not facts.video:
        return 0
    name = route(facts, load_profile(request.profile, request.own_profiles), len(paths)).name
    if name in {"rewrap", "join"}:
        return clip.size_bytes
    return _converted_bytes(request.recipe, facts) if name == "convert" and request.recipe else 0


def _converted_bytes(recipe: Recipe, facts: Facts) -> int:
    try:
        return plan_of(recipe, facts).estimated_bytes
    except RequestError:
        # Another recipe will have to be chosen for it; what that takes is not known.
        return 0


KIND = JobKind("pictures", PictureRequest, Pictures, perform_pictures, rank=1)
