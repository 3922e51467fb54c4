"""The verbs about cards: look, offload, verify."""

from __future__ import annotations

from datetime import UTC, datetime
from pathlib import Path
from typing import Annotated

import typer

from diadoche.cli.frame import (
    Json,
    Shoot,
    ended,
    ledger_if_sound,
    must_be_there,
    opened_ledger,
    places,
    reported,
    stoppable,
)
from diadoche.cli.output import Bar, print_json, say, say_problems
from diadoche.cli.worker import in_a_child
from diadoche.core.cards.card import LookChoice
from diadoche.core.cards.clocks import clock_remark
from diadoche.core.cards.layout import folder_purposes, load_layouts
from diadoche.core.errors import DiadocheError, LedgerError, Problem, RequestError
from diadoche.core.offload.naming import USUAL_FOLDERS, Naming
from diadoche.core.offload.offload import OffloadResult
from diadoche.core.sizes import clock_text, count_text, size_text
from diadoche.services.jobs.list_card import ListCardRequest, perform_list_card
from diadoche.services.jobs.offload import OffloadOutcome, OffloadRequest, perform_offload
from diadoche.services.jobs.verify import VerifyRequest, perform_verify
from diadoche.services.ledger.card_truth import card_truth
from diadoche.services.ledger.copies import last_disks, record_unreadable
from diadoche.services.ledger.job_results import record_outcome, record_verdict
from diadoche.services.ledger.known_copies import familiar
from diadoche.services.ledger.ledger import Ledger
from diadoche.services.ledger.shoots import open_shoot, proposed_name


def look(
    path: Annotated[Path, typer.Argument(help="A card, a folder, or anything in it.")],
    layout: Annotated[str, typer.Option(help="What the card is, where it is not recognised.")] = "",
    stills_single: Annotated[bool, typer.Option(help="Runs of stills stay single pictures.")] = False,
    json: Json = False,
) -> None:
    """Show what is on a card or in a folder."""
    choice = LookChoice(layout, stills_single)
    with reported(json), Bar(json) as watch, stoppable(watch):
        must_be_there(path)
        card = perform_list_card(ListCardRequest(path, places().own_layouts, choice, places().facts_memory), watch)
        # What is on a card can be told without the ledger; whether it was here before cannot.
        with ledger_if_sound() as (ledger, trouble):
            before = familiar(ledger, card) if ledger is not None else None
    clock = clock_remark(card, datetime.now(UTC))
    problems = [*card.problems, *([trouble] if trouble is not None else [])]
    if json:
        print_json(
            {
                "layout": card.layout or None,
                "root": str(card.root),
                "evidence": card.evidence,
                "complete": card.complete,
                "problems": [problem.as_dict() for problem in problems],
                "clips": [clip.as_dict() for clip in card.clips],
                "stills": list(card.stills),
                "lens": card.lens or None,
                "sisters": [str(sister) for sister in card.sisters],
                "serial": card.serial,
                "files": len(card.tree.files),
                "bytes": card.tree.size_bytes,
                "proven_before": None if before is None else {"clips": before.clips, "files": before.files},
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
    say_problems(problems)
    ended(bool(problems))


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
    with reported(json), ledger_if_sound() as (ledger, trouble), Bar(json) as watch, stoppable(watch):
        must_be_there(source)
        name = shoot or proposed_name(datetime.now(UTC).date())
        # A card is copied and proven whatever became of the ledger: manifests and waybills hold all that it would.
        this = open_shoot(ledger, name) if ledger is not None else None
        leave_out: frozenset[str] = frozenset()
        if new_only:
            if ledger is None:
                raise RequestError(
                    "What stood in proven copies before is not known without the ledger.",
                    safe="Nothing was written.",
                    do="Offload the whole card.",
                )
            card = perform_list_card(ListCardRequest(source, places().own_layouts), watch)
            leave_out = familiar(ledger, card).paths
        request = OffloadRequest(
            source,
            tuple(to),
            this.id if this is not None else 0,
            name,
            camera,
            tuple(digest or ()),
            tuple(clip or ()),
            leave_out,
            places().own_layouts,
            naming=Naming(folders, card_folder),
            person=person,
            read_twice=read_twice,
            stills_left_out=without_stills,
            last_disks=last_disks(ledger) if ledger is not None else {},
        )
        outcome = perform_offload(request, watch)
        trouble = _recorded(ledger, request, outcome) if ledger is not None else _not_in_ledger(trouble)
    told = [trouble] if trouble is not None else []
    if json:
        found = offload_json(outcome)
        found["problems"] = [*(problem.as_dict() for problem in _problems(outcome)), *(each.as_dict() for each in told)]
        print_json(found)
    _say_offload(outcome)
    say_problems(told)
    ended(bool(outcome.card.problems or told) or _went_wrong(outcome.result))


def _recorded(ledger: Ledger, request: OffloadRequest, outcome: OffloadOutcome) -> Problem | None:
    """Writes an offload down; where that fails, why."""
    try:
        record_outcome(ledger, request, outcome)
    except LedgerError as error:
        return _not_in_ledger(error.problem)
    return None


def _not_in_ledger(trouble: Problem | None) -> Problem:
    return Problem(
        f"This offload is not in the ledger: {trouble.what if trouble is not None else 'it cannot be used.'}",
        str(places().ledger),
        "The copies, their manifests and their waybills stand as they are told here.",
        "Mend the ledger or move it away, then fill it again from the disks: see `diadoche rebuild`.",
    )


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
        tried = f"{outcome.tried} of {count_text(len(outcome.card.clips), 'clip')}"
        say(f"{tried} opened from the copy and decoded, at the beginning and near the end.")
    say_problems((*result.skipped, *outcome.advice, *outcome.remarks, *_problems(outcome)))


def _problems(outcome: OffloadOutcome) -> list[Problem]:
    """Each once: what cannot be listed is a problem of the card and of its copies."""
    return list(dict.fromkeys((*outcome.card.problems, *outcome.result.problems)))


@in_a_child
def verify(
    folder: Annotated[Path, typer.Argument(help="A copy with its manifests, or a list of digests.")], json: Json = False
) -> None:
    """Re-read a copy against manifests of ours or of others: ASC MHL, md5sum, sha1sum, sha256sum, xxhsum."""
    with reported(json), Bar(json) as watch, stoppable(watch), opened_ledger() as ledger:
        must_be_there(folder)
        try:
            root = folder.absolute()
            verdict = perform_verify(VerifyRequest(root, card_truth(ledger, root)), watch)
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
                "not_compared": list(verdict.not_compared),
                "altered": verdict.altered,
                "problems": [problem.as_dict() for problem in verdict.problems],
            }
        )
    say(f"{verdict.ok} of {count_text(verdict.files, 'file')} match.")
    for word, names in (
        ("changed", verdict.changed), ("missing", verdict.missing), ("extra", verdict.extra),
        ("not compared", verdict.not_compared),
    ):  # fmt: skip
        for name in names:
            say(f"  {word}: {name}")
    say_problems(verdict.problems)
    ended(not verdict.clean)
