"""The verbs about footage: identify, handoff."""

from __future__ import annotations

from pathlib import Path
from typing import Annotated

import typer

from diadoche.cli.frame import Json, ended, known_shoot, must_be_there, opened_ledger, places, reported, stoppable
from diadoche.cli.output import Bar, print_json, say, say_problems
from diadoche.core.cards.layout import load_layouts
from diadoche.core.codecnames import spoken_codec
from diadoche.core.names import shown
from diadoche.services.jobs.identify import ClipToIdentify, IdentifyRequest, perform_identify
from diadoche.services.jobs.measure_playback import (
    MeasuredPlayback,
    PlaybackRequest,
    PlaybackSubject,
    perform_measure_playback,
    playback_words,
)
from diadoche.services.ledger.hand_off import hand_off_shoot
from diadoche.services.ledger.kept_clips import kept_clips, record_facts


def identify(
    paths: Annotated[list[Path], typer.Argument(help="Files.")],
    profile: Annotated[str, typer.Option(help="What the editing program takes well.")] = "general",
    pace: Annotated[bool, typer.Option("--pace", help="Measure too whether it plays in real time here.")] = False,
    json: Json = False,
) -> None:
    """Tell what each file is, and what must be done before it can be cut."""
    with reported(json), Bar(json) as watch, stoppable(watch):
        must_be_there(*paths)
        clips = tuple(ClipToIdentify((path,)) for path in paths)
        request = IdentifyRequest(
            clips, profile, own_profiles=places().own_profiles, facts_memory=places().facts_memory
        )
        found = [each.facts for each in perform_identify(request, watch)]
        subjects = tuple(PlaybackSubject(facts.path, (Path(facts.path),), facts) for facts in found if pace)
        paces = {each.key: each for each in perform_measure_playback(PlaybackRequest(subjects), watch)}
    if json:
        print_json([facts.as_dict() | _pace_dict(paces.get(facts.path)) for facts in found])
    for facts in found:
        video = facts.video[0] if facts.video else None
        shape = f"{spoken_codec(video.codec)} {video.width}×{video.height} {video.scan}, " if video else ""
        say(f"{shown(facts.path)}: {facts.container}, {shape}{facts.route.name}. {' '.join(facts.route.reasons)}")
        if facts.path in paces:
            say(f"  It {playback_words(paces[facts.path])}.")
        say_problems(facts.problems)
    ended(any(facts.problems for facts in found))


def _pace_dict(measured: MeasuredPlayback | None) -> dict[str, object]:
    if measured is None:
        return {}
    pace = measured.pace
    return {
        "pace": {
            "pictures_a_second": round(pace.pictures_a_second, 2),
            "times_rate": round(pace.times_rate, 3),
            "disturbed": measured.disturbed,
        }
    }


def handoff(
    shoot: Annotated[str, typer.Argument(help="The shoot.")],
    to: Annotated[Path, typer.Option("--to", help="The .otio file to write.")],
    json: Json = False,
) -> None:
    """Write the OpenTimelineIO file for the editing program."""
    with reported(json), opened_ledger() as ledger, Bar(json) as watch, stoppable(watch):
        this = known_shoot(ledger, shoot)
        unknown = [clip for clip in kept_clips(ledger, this.id) if clip.facts is None]
        request = IdentifyRequest(
            tuple(ClipToIdentify(clip.paths, clip.id, clip.sounds) for clip in unknown), this.settings.profile
        )
        for found in perform_identify(request, watch):
            record_facts(ledger, found.clip_id, found.facts)
        handed = hand_off_shoot(ledger, this, to, load_layouts(places().own_layouts))
    if json:
        print_json({"file": str(to), "clips": handed.clips})
    say(f"{to}: {handed.words()}")
