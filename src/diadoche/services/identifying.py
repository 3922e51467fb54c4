"""Facts and route of files and clips: the use case behind `identify` and the footage table."""

from __future__ import annotations

from dataclasses import dataclass
from pathlib import Path

from diadoche.core.errors import DiadocheError
from diadoche.core.identify.facts import Facts
from diadoche.core.identify.probe import Depth, identify
from diadoche.core.identify.route import load_profile, route
from diadoche.core.watch import Progress, Watch
from diadoche.services.queue.kinds import JobKind


@dataclass(frozen=True, slots=True)
class ClipToIdentify:
    """The spans of one clip, and the ledger's number for it (0: none)."""

    paths: tuple[Path, ...]
    clip_id: int = 0


@dataclass(frozen=True, slots=True)
class IdentifyRequest:
    """Which clips, and what they are judged for."""

    clips: tuple[ClipToIdentify, ...]
    profile: str = "general"
    depth: Depth = "counted"


@dataclass(frozen=True, slots=True)
class IdentifiedClip:
    """A clip with its facts."""

    clip_id: int
    facts: Facts


def perform_identify(request: IdentifyRequest, watch: Watch) -> tuple[IdentifiedClip, ...]:
    """Facts with their routes; what cannot be read is a problem in its facts.

    Raises:
        RequestError: there is no such profile.
        Cancelled: the watch was stopped.
    """
    profile = load_profile(request.profile)
    found = []
    for number, clip in enumerate(request.clips):
        watch.step(Progress(number, len(request.clips), clip.paths[0].name))
        try:
            facts = identify(clip.paths, request.depth)
        except DiadocheError as error:
            facts = Facts(str(clip.paths[0]), "unknown", 0.0, None, None, 0, problems=(error.problem,))
        found.append(IdentifiedClip(clip.clip_id, facts.routed(route(facts, profile, len(clip.paths)))))
    return tuple(found)


KIND = JobKind("identify", IdentifyRequest, tuple[IdentifiedClip, ...], perform_identify, rank=1)
