"""Facts and route of files and clips: the use case behind `identify` and the footage table."""

from __future__ import annotations

from dataclasses import dataclass
from pathlib import Path

from diadoche.core.identify.facts import Facts
from diadoche.core.identify.probe import Depth
from diadoche.core.identify.route import load_profile, route
from diadoche.core.watch import Progress, Watch
from diadoche.services.jobs.job_kind import JobKind
from diadoche.services.side_processes.parser import FactsMemory, Parser


@dataclass(frozen=True, slots=True)
class ClipToIdentify:
    """The spans of one clip, the sound files beside them, and the ledger's number for it (0: none)."""

    paths: tuple[Path, ...]
    clip_id: int = 0
    sounds: tuple[Path, ...] = ()


@dataclass(frozen=True, slots=True)
class IdentifyRequest:
    """Which clips, and what they are judged for."""

    clips: tuple[ClipToIdentify, ...]
    profile: str = "general"
    depth: Depth = "counted"
    own_profiles: Path | None = None
    facts_memory: Path | None = None


@dataclass(frozen=True, slots=True)
class IdentifiedClip:
    """A clip with its facts."""

    clip_id: int
    facts: Facts


def perform_identify(request: IdentifyRequest, watch: Watch) -> tuple[IdentifiedClip, ...]:
    """Facts with their routes, given as they come: headers of all first, then looking and counting.

    What cannot be read is a problem in its facts.

    Raises:
        RequestError: there is no such profile.
        Cancelled: the watch was stopped.
    """
    profile = load_profile(request.profile, request.own_profiles)
    memory = FactsMemory(request.facts_memory) if request.facts_memory else None
    depths: tuple[Depth, ...] = ("headers",) if request.depth == "headers" else ("headers", request.depth)
    found: list[IdentifiedClip] = []
    with Parser(memory) as parser:
        for turn, depth in enumerate(depths):
            found = []
            for number, clip in enumerate(request.clips):
                done = turn * len(request.clips) + number
                watch.step(Progress(done, len(depths) * len(request.clips), clip.paths[0].name))
                facts = parser.facts(clip.paths, depth, watch, clip.sounds)
                identified = IdentifiedClip(clip.clip_id, facts.routed(route(facts, profile, len(clip.paths))))
                found.append(identified)
                watch.give(identified)
    return tuple(found)


KIND = JobKind("identify", IdentifyRequest, tuple[IdentifiedClip, ...], perform_identify, rank=1, part=IdentifiedClip)
