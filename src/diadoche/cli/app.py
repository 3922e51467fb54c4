"""The command line: every verb of the contract, each a thin layer over a use case.

Exit codes: 0 done; 1 finished, with problems named; 2 arguments that make no sense.
"""

from __future__ import annotations

from collections.abc import Callable
from datetime import UTC, datetime
from pathlib import Path
from typing import Annotated

import typer
from pydantic import ValidationError

from diadoche.cli import copies, spheres
from diadoche.cli.frame import Json, Paths, Shoot, To, ended, opened_ledger, places, reported, stoppable
from diadoche.cli.output import Bar, print_json, say, say_problems
from diadoche.cli.worker import in_a_child
from diadoche.core.cards.card import LookChoice
from diadoche.core.cards.clocks import clock_remark
from diadoche.core.cards.layout import folder_purposes, load_layouts
from diadoche.core.codecnames import spoken_codec
from diadoche.core.convert.recipes import Changes, Recipe, mistaken_recipes, recipe_named, recipes
from diadoche.core.errors import DiadocheError, Problem, RequestError
from diadoche.core.names import shown
from diadoche.core.offload.naming import USUAL_FOLDERS, Naming
from diadoche.core.offload.offload import OffloadResult
from diadoche.core.sizes import clock_text, count_text, size_text
from diadoche.core.spatial import SphereTags
from diadoche.demo.make import DemoCard, make_demo
from diadoche.services.jobs.identify import ClipToIdentify, IdentifyRequest, perform_identify
from diadoche.services.jobs.list_card import ListCardRequest, perform_list_card
from diadoche.services.jobs.make_output import MakeRequest, clips_from, perform_make
from diadoche.services.jobs.measure_playback import (
    MeasuredPlayback,
    PlaybackRequest,
    PlaybackSubject,
    perform_measure_playback,
    playback_words,
)
from diadoche.services.jobs.offload import OffloadOutcome, OffloadRequest, perform_offload
from diadoche.services.jobs.verify import VerifyRequest, perform_verify
from diadoche.services.ledger.copies import last_disks, record_unreadable
from diadoche.services.ledger.hand_off import hand_off_shoot
from diadoche.services.ledger.job_results import record_outcome, record_verdict
from diadoche.services.ledger.kept_clips import kept_clips, record_facts
from diadoche.services.ledger.known_copies import familiar
from diadoche.services.ledger.shoots import open_shoot, proposed_name

app = typer.Typer(
    no_args_is_help=False,
    add_completion=False,
    pretty_exceptions_enable=False,
    invoke_without_command=True,
    help="Take footage from a card to proven copies and edit-ready files. Without a verb, the window opens.",
)
copies.add_to(app)
spheres.add_to(app)


class Windows:
    """How the window is opened; set by the one module that knows every floor."""

    open_shoot: Callable[[], int]
    open_demo: Callable[[Path], int]


@app.callback()
def window(context: typer.Context) -> None:
    """Opens the window when no verb is given."""
    if context.invoked_subcommand is None:
        raise typer.Exit(Windows.open_shoot())


@app.command()
def demo(folder: Annotated[Path | None, typer.Argument(help="Where the demo shoot lives.")] = None) -> None:
    """Open the window on the demo shoot; it is made where it is missing."""
    raise typer.Exit(Windows.open_demo(folder or places().demo))


@app.command("make-demo")
def make_demo_cards(folder: Annotated[Path, typer.Argument(help="Where to write.")], json: Json = False) -> None:
    """Write the cards of the demo shoot."""
    cards: list[dict[str, str]] = []

    def ready(card: DemoCard, path: Path) -> None:
        cards.append({"name": card.name, "layout": card.layout, "path": str(path)})
        say(f"{card.name}: {path}")

    with reported(json):
        make_demo(folder, ready)
        if json:
            print_json({"cards": cards})


@app.command()
def look(
    path: Annotated[Path, typer.Argument(help="A card, a folder, or anything in it.")],
    layout: Annotated[str, typer.Option(help="What the card is, where it is not recognised.")] = "",
    stills_single: Annotated[bool, typer.Option(help="Runs of stills stay single pictures.")] = False,
    json: Json = False,
) -> None:
    """Show what is on a card or in a folder."""
    choice = LookChoice(layout, stills_single)
    with reported(json), Bar(json) as watch, stoppable(watch):
        card = perform_list_card(ListCardRequest(path, places().own_layouts, choice, places().facts_memory), watch)
        with opened_ledger() as ledger:
            before = familiar(ledger, card)
    clock = clock_remark(card, datetime.now(UTC))
    if json:
        print_json(
            {
                "layout": card.layout or None,
                "root": str(card.root),
                "evidence": card.evidence,
                "complete": card.complete,
                "problems": [problem.as_dict() for problem in card.problems],
                "clips": [clip.as_dict() for clip in card.clips],
                "stills": list(card.stills),
                "lens": card.lens or None,
                "sisters": [str(sister) for sister in card.sisters],
                "serial": card.serial,
                "files": len(card.tree.files),
                "bytes": card.tree.size_bytes,
                "proven_before": {"clips": before.clips, "files": before.files},
                "clock": clock,
            }
        )
    say(f"{card.title or 'No card'}: {card.root}" + (f" (known by {card.evidence})" if card.evidence else ""))
    folders = [folder.path for folder in card.tree.folders]
    for folder, purpose in folder_purposes(folders, load_layouts(places().own_layouts), card.layout):
        say(f"  {folder}/  {purpose}")
    if card.sisters:
        say(f"  {count_text(len(card.sisters), 'sister card')}: {', '.join(path.name for path in card.sisters)}")
    for clip in card.clips:
        length = clock_text(clip.duration_s) if clip.duration_s is not None else "length not known"
        kind = "picture" if clip.kind == "sequence" else "file"
        lenses = f", {1 + len(clip.lenses)} lenses" if clip.lenses else ""
        say(f"  {clip.name}  {length}  {clip.start or ''}  {count_text(len(clip.spans), kind)}{lenses}")
    stills = count_text(len(card.stills), "still")
    say(f"  {count_text(len(card.clips), 'clip')}, {stills}, {size_text(card.tree.size_bytes)}")
    if clock:
        say(f"  {clock}")
    say_problems(card.problems)
    ended(bool(card.problems))


@app.command()
def identify(
    paths: Annotated[list[Path], typer.Argument(help="Files.")],
    profile: Annotated[str, typer.Option(help="What the editing program takes well.")] = "general",
    pace: Annotated[bool, typer.Option("--pace", help="Measure too whether it plays in real time here.")] = False,
    json: Json = False,
) -> None:
    """Tell what each file is, and what must be done before it can be cut."""
    with reported(json), Bar(json) as watch, stoppable(watch):
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


@app.command()
@in_a_child
def offload(
    source: Annotated[Path, typer.Argument(help="The card.")],
    to: Annotated[list[Path], typer.Option("--to", help="A place for a copy; may be given several times.")],
    shoot: Shoot = "",
    camera: Annotated[str, typer.Option(help="The person's own name for the card's camera.")] = "",
    digest: Annotated[list[str] | None, typer.Option(help="xxh128 (usual), xxh3, xxh64, md5, sha1, c4.")] = None,
    clip: Annotated[list[str] | None, typer.Option(help="Only this clip; may be given several times.")] = None,
    new_only: Annotated[
        bool, typer.Option("--new-only", help="Leave out what stands in a proven copy already.")
    ] = False,
    person: Annotated[str, typer.Option(help="Who filmed, or who offloads; for names of folders.")] = "",
    folders: Annotated[str, typer.Option(help="Pattern of the folders, with tokens like {day}.")] = USUAL_FOLDERS,
    card_folder: Annotated[str, typer.Option(help="What stands before the counter of a card's own folder.")] = "card",
    read_twice: Annotated[bool, typer.Option("--read-twice", help="Read the card a second time at the end.")] = False,
    without_stills: Annotated[bool, typer.Option("--without-stills", help="Leave stills out of the copy.")] = False,
    json: Json = False,
) -> None:
    """Copy a card to one or more places and prove every copy."""
    with reported(json), opened_ledger() as ledger, Bar(json) as watch, stoppable(watch):
        this = open_shoot(ledger, shoot or proposed_name(datetime.now(UTC).date()))
        leave_out: frozenset[str] = frozenset()
        if new_only:
            card = perform_list_card(ListCardRequest(source, places().own_layouts), watch)
            leave_out = familiar(ledger, card).paths
        request = OffloadRequest(
            source,
            tuple(to),
            this.id,
            this.name,
            camera,
            tuple(digest or ()),
            tuple(clip or ()),
            leave_out,
            places().own_layouts,
            naming=Naming(folders, card_folder),
            person=person,
            read_twice=read_twice,
            stills_left_out=without_stills,
            last_disks=last_disks(ledger),
        )
        outcome = perform_offload(request, watch)
        record_outcome(ledger, request, outcome)
    if json:
        print_json(offload_json(outcome))
    _say_offload(outcome)
    ended(bool(outcome.card.problems) or _went_wrong(outcome.result))


def _went_wrong(result: OffloadResult) -> bool:
    return bool(result.problems or result.stopped or result.proven_copies < len(result.copies))


def offload_json(outcome: OffloadOutcome) -> dict[str, object]:
    """What an offload did, as the contract of the command line has it."""
    result = outcome.result
    return {
        "files": result.files,
        "bytes": result.bytes,
        "clips": len(outcome.card.clips),
        "seconds": round(result.seconds, 3),
        "copies": [
            {
                "destination": copy.destination,
                "root": copy.root,
                "manifest": copy.manifest,
                "files_verified": copy.files_verified,
                "status": copy.status,
                "past_cache": copy.passed_cache,
                "read_back": copy.read_back.value,
                "disk": copy.disk_words,
            }
            for copy in result.copies
        ],
        "different_disks": result.proven_disks,
        "whole": result.whole,
        "tried": outcome.tried,
        "remarks": [problem.as_dict() for problem in (*outcome.advice, *outcome.remarks)],
        "stopped": result.stopped,
        "skipped": [problem.as_dict() for problem in result.skipped],
        "renamed": [{"path": old, "kept_as": new} for old, new in result.renamed],
        "problems": [problem.as_dict() for problem in _problems(outcome)],
        "waybill": outcome.waybill,
    }


def _say_offload(outcome: OffloadOutcome) -> None:
    result = outcome.result
    for copy in result.copies:
        say(f"{copy.status}: {copy.root} ({count_text(copy.files_verified, 'file')} read back)")
    say(
        f"{outcome.name}: {count_text(len(outcome.card.clips), 'clip')}, {count_text(result.files, 'file')}, "
        f"{size_text(result.bytes)} in {clock_text(result.seconds)}. Waybill: {outcome.waybill or 'none'}"
    )
    if outcome.tried is not None:
        say(f"{outcome.tried} of {count_text(len(outcome.card.clips), 'clip')} opened and decoded from the copy.")
    say_problems((*result.skipped, *outcome.advice, *outcome.remarks, *_problems(outcome)))


def _problems(outcome: OffloadOutcome) -> list[Problem]:
    """Each once: what cannot be listed is a problem of the card and of its copies."""
    return list(dict.fromkeys((*outcome.card.problems, *outcome.result.problems)))


@app.command()
@in_a_child
def verify(
    folder: Annotated[Path, typer.Argument(help="A copy with its manifests, or a list of digests.")], json: Json = False
) -> None:
    """Re-read a copy against manifests of ours or of others: ASC MHL, md5sum, sha1sum, sha256sum, xxhsum."""
    with reported(json), Bar(json) as watch, stoppable(watch), opened_ledger() as ledger:
        try:
            verdict = perform_verify(VerifyRequest(folder.absolute()), watch)
        except DiadocheError as error:
            # A copy that cannot be read back at all is proven no longer.
            record_unreadable(ledger, folder.absolute(), error.problem.what)
            raise
        record_verdict(ledger, verdict)
    if json:
        print_json(
            {
                "files": verdict.files,
                "ok": verdict.ok,
                "changed": list(verdict.changed),
                "missing": list(verdict.missing),
                "extra": list(verdict.extra),
                "problems": [problem.as_dict() for problem in verdict.problems],
            }
        )
    say(f"{verdict.ok} of {count_text(verdict.files, 'file')} match.")
    for word, names in (("changed", verdict.changed), ("missing", verdict.missing), ("extra", verdict.extra)):
        for name in names:
            say(f"  {word}: {name}")
    say_problems(verdict.problems)
    ended(not verdict.clean)


@app.command()
def rewrap(
    paths: Paths,
    to: To,
    container: Annotated[str, typer.Option(help="mov, mp4 or mkv.")] = "mov",
    camera: Annotated[str, typer.Option(help="Put in front of the output's name.")] = "",
    every_picture: Annotated[
        bool, typer.Option("--every-picture", help="Compare every decoded picture, not those at the joins alone.")
    ] = False,
    sphere: Annotated[
        str, typer.Option(help="Say of the picture that it is mono, top-bottom or side-by-side on a sphere, or flat.")
    ] = "",
    width_deg: Annotated[str, typer.Option(help="How much of the sphere from left to right: 360, 180 …")] = "360",
    json: Json = False,
) -> None:
    """Put picture and sound into another container, joining spans, and prove that nothing changed."""
    with reported(json):
        tags = spheres.sphere_tags(sphere, width_deg)
    _make(paths, container, to, camera, None, json, every_picture=every_picture, sphere=tags)


@app.command()
def convert(
    paths: Paths,
    to: To,
    recipe: Annotated[str, typer.Option(help="A recipe's name; see `diadoche recipes`.")],
    mark: Annotated[tuple[str, str] | None, typer.Option(help="In and out: picture numbers or timecodes.")] = None,
    camera: Annotated[str, typer.Option(help="Put in front of the output's name.")] = "",
    scan: Annotated[
        str, typer.Option(help="Fields: keep them, a picture a frame, a picture a field, or film off its video clock.")
    ] = "",
    table: Annotated[Path | None, typer.Option(help="A look-up table (.cube) that colours go through.")] = None,
    table_gives: Annotated[str, typer.Option(help="The colours that the table gives: BT.709 or BT.2020.")] = "BT.709",
    json: Json = False,
) -> None:
    """Make an edit-ready file by a recipe, and check it."""
    with reported(json):
        chosen = recipe_named(recipe, places().own_recipes)
        changes = _changes(chosen, scan, table, table_gives)
    _make(paths, chosen, to, camera, mark, json, changes=changes)


def _make(
    paths: list[Path],
    recipe: Recipe | str,
    to: Path,
    camera: str,
    marks: tuple[str, str] | None,
    json: bool,
    *,
    every_picture: bool = False,
    changes: Changes | None = None,
    sphere: SphereTags | None = None,
) -> None:
    with reported(json), Bar(json) as watch, stoppable(watch):
        clips = clips_from(paths, places().own_layouts, watch)
        outputs = [
            perform_make(
                MakeRequest(
                    clip.paths,
                    recipe,
                    to,
                    camera,
                    marks,
                    changes,
                    sounds=clip.sounds,
                    every_picture=every_picture,
                    sphere=sphere,
                ),
                watch,
            )
            for clip in clips
        ]
    if json:
        print_json([output.as_dict() for output in outputs])
    for output in outputs:
        if output.output:
            pictures = f"{output.frames_out} of {output.frames_in} pictures"
            say(f"{output.output}: {pictures}, {size_text(output.bytes)}, checked")
        say_problems(output.problems)
    ended(any(output.problems for output in outputs))


def _changes(recipe: Recipe, scan: str, table: Path | None, table_gives: str) -> Changes:
    """The recipe's own changes with what was asked for instead."""
    asked: dict[str, object] = {"table_gives": table_gives}
    asked |= {"scan": scan} if scan else {}
    asked |= {"table": table.absolute()} if table is not None else {}
    try:
        return Changes.model_validate(recipe.changes.model_dump() | asked)
    except ValidationError as error:
        names = ", ".join(str(each["loc"][0]).replace("_", "-") for each in error.errors())
        raise RequestError(f"--{names} takes no such value.", do="See `diadoche convert --help`.") from error


@app.command("recipes")
def list_recipes(json: Json = False) -> None:
    """List the recipes."""
    if json:
        print_json([recipe.as_dict() for recipe in recipes(places().own_recipes).values()])
    for recipe in recipes(places().own_recipes).values():
        held = "no sound" if recipe.sound.codec == "none" else f"sound as {recipe.sound.codec.upper()}"
        say(f"{recipe.name}: {recipe.title}, {recipe.purpose}; in {recipe.container.name.upper()}, {held}")
    say_problems([error.problem for error in mistaken_recipes(places().own_recipes)])


@app.command()
def handoff(
    shoot: Annotated[str, typer.Argument(help="The shoot.")],
    to: Annotated[Path, typer.Option("--to", help="The .otio file to write.")],
    json: Json = False,
) -> None:
    """Write the OpenTimelineIO file for the editing program."""
    with reported(json), opened_ledger() as ledger, Bar(json) as watch, stoppable(watch):
        this = open_shoot(ledger, shoot)
        unknown = [clip for clip in kept_clips(ledger, this.id) if clip.facts is None]
        request = IdentifyRequest(
            tuple(ClipToIdentify(clip.paths, clip.id, clip.sounds) for clip in unknown), this.settings.profile
        )
        for found in perform_identify(request, watch):
            record_facts(ledger, found.clip_id, found.facts)
        clips = hand_off_shoot(ledger, this, to)
    if json:
        print_json({"file": str(to), "clips": clips})
    say(f"{to}: {count_text(clips, 'clip')}")


def run() -> int:
    """Runs the command line and gives its exit code."""
    app()
    return 0
