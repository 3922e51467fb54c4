"""The verbs about copies that stand already: restore, copy-on, complete, level, take-in, estimate, rebuild."""

from __future__ import annotations

from dataclasses import asdict
from datetime import UTC, datetime
from pathlib import Path
from typing import Annotated

import typer

from diadoche.cli.frame import Json, Shoot, ended, must_be_there, opened_ledger, places, reported, stoppable
from diadoche.cli.output import Bar, print_json, say, say_problems
from diadoche.cli.worker import in_a_child
from diadoche.core.offload.copies import Copy
from diadoche.core.offload.estimate import estimate
from diadoche.core.offload.found_copies import copy_tree
from diadoche.core.offload.offload import OffloadResult
from diadoche.core.sizes import count_text, size_text, wait_text
from diadoche.services.jobs.adopt_folder import AdoptFolderRequest, perform_adopt_folder
from diadoche.services.jobs.copy_on import CopyOnRequest, perform_copy_on
from diadoche.services.jobs.level import LevelRequest, perform_level
from diadoche.services.jobs.list_card import ListCardRequest, perform_list_card
from diadoche.services.jobs.offload import OffloadRequest, plan_for
from diadoche.services.jobs.rebuild import RebuildRequest, perform_rebuild
from diadoche.services.jobs.restore import RestoreRequest, perform_restore
from diadoche.services.ledger.card_truth import card_truth
from diadoche.services.ledger.job_results import record_adopted, record_copy_on, record_level, record_rebuilt
from diadoche.services.ledger.known_copies import good_copy_for, holders, known_roots, place_below
from diadoche.services.ledger.shoots import open_shoot, proposed_name

Places = Annotated[list[Path], typer.Option("--to", help="A place for a copy; may be given several times.")]


def _copies_json(copies: tuple[Copy, ...]) -> list[dict[str, object]]:
    return [
        {"destination": copy.destination, "root": copy.root, "manifest": copy.manifest,
         "files_verified": copy.files_verified, "status": copy.status, "disk": copy.disk_words}
        for copy in copies
    ]  # fmt: skip


def _tell_result(result: OffloadResult, root: Path, as_json: bool) -> None:
    if as_json:
        print_json(
            {
                "from": str(root),
                "files": result.files,
                "bytes": result.bytes,
                "seconds": round(result.seconds, 3),
                "copies": _copies_json(result.copies),
                "problems": [problem.as_dict() for problem in result.problems],
            }
        )
    for copy in result.copies:
        say(f"{copy.status}: {copy.root} ({count_text(copy.files_verified, 'file')} read back)")
    say_problems(result.problems)
    ended(bool(result.problems) or result.proven_copies < len(result.copies))


@in_a_child
def restore(
    wanted: Annotated[str, typer.Argument(help="A clip's name, or a file's name or path on the card.")],
    to: Annotated[Path, typer.Option("--to", help="The folder it goes to; a copy of the same card is repaired.")],
    json: Json = False,
) -> None:
    """Fetch a clip or a file from a proven copy, and prove it against the manifest."""
    with reported(json), opened_ledger() as ledger, Bar(json) as watch, stoppable(watch):
        roots = holders(ledger, wanted)
        cards = tuple(card_truth(ledger, root) for root in roots)
        outcome = perform_restore(RestoreRequest(wanted, to.absolute(), roots, cards), watch)
    root, found = outcome.root, outcome.found
    if json:
        problems = [problem.as_dict() for problem in found.problems]
        print_json({"restored": [str(path) for path in found.files.values()], "from": str(root), "problems": problems})
    for path in found.files.values():
        say(f"{path}, from {root}")
    say_problems(found.problems)
    ended(bool(found.problems))


@in_a_child
def copy_on(
    copy: Annotated[Path, typer.Argument(help="A proven copy: the folder with its manifests.")],
    to: Places,
    json: Json = False,
) -> None:
    """Copy a proven copy on to other places, and prove it there; its chain of manifests goes along."""
    copy = copy.absolute()
    with reported(json), opened_ledger() as ledger, Bar(json) as watch, stoppable(watch):
        must_be_there(copy)
        targets = tuple((place.absolute(), place_below(ledger, copy, place.absolute())) for place in to)
        outcome = perform_copy_on(CopyOnRequest(copy, targets, card_truth(ledger, copy)), watch)
        record_copy_on(ledger, outcome)
    _tell_result(outcome.result, copy, json)


@in_a_child
def complete(copy: Annotated[Path, typer.Argument(help="A copy that is not whole.")], json: Json = False) -> None:
    """Complete an unfinished copy from a proven one, without the card."""
    copy = copy.absolute()
    with reported(json), opened_ledger() as ledger, Bar(json) as watch, stoppable(watch):
        must_be_there(copy)
        good = good_copy_for(ledger, copy, watch)
        outcome = perform_copy_on(CopyOnRequest(good, ((copy.parent, copy),), card_truth(ledger, good)), watch)
        record_copy_on(ledger, outcome)
    _tell_result(outcome.result, good, json)


@in_a_child
def bring_level(
    here: Annotated[Path, typer.Argument(help="One place for copies.")],
    there: Annotated[Path, typer.Argument(help="The other.")],
    json: Json = False,
) -> None:
    """Bring two places to the same state: what one lacks is copied and proven, differences are named."""
    with reported(json), opened_ledger() as ledger, Bar(json) as watch, stoppable(watch):
        must_be_there(here, there)
        done = perform_level(LevelRequest(here.absolute(), there.absolute()), watch)
        record_level(ledger, done)
    if json:
        print_json(
            {
                "copied": _copies_json(done.copied),
                "restored": list(done.restored),
                "differing": list(done.differing),
                "problems": [problem.as_dict() for problem in done.problems],
            }
        )
    for each in done.copied:
        say(f"{each.status}: {each.root}")
    for path in done.restored:
        say(f"fetched: {path}")
    for path in done.differing:
        say(f"  differs, left as it is: {path}")
    if not (done.copied or done.restored or done.differing):
        say("Both places hold the same.")
    say_problems(done.problems)
    ended(bool(done.problems or done.differing))


@in_a_child
def take_in(
    folder: Annotated[Path, typer.Argument(help="Footage that lies on a good disk already.")],
    shoot: Shoot = "",
    json: Json = False,
) -> None:
    """Take footage into a shoot where it lies, without a second copy; only a manifest is added."""
    with reported(json), opened_ledger() as ledger, Bar(json) as watch, stoppable(watch):
        must_be_there(folder)
        this = open_shoot(ledger, shoot or proposed_name(datetime.now(UTC).date()))
        card = card_truth(ledger, folder.absolute(), copy_tree(folder.absolute(), watch).fingerprint())
        taken = perform_adopt_folder(AdoptFolderRequest(folder.absolute(), this.id, places().own_layouts, card), watch)
        record_adopted(ledger, taken)
    _tell_result(taken.result, folder, json)


def estimate_offload(source: Annotated[Path, typer.Argument(help="The card.")], to: Places, json: Json = False) -> None:
    """Measure card and disks for a few seconds, and tell how long an offload will take, and what it waits for."""
    with reported(json), Bar(json) as watch, stoppable(watch):
        must_be_there(source)
        card = perform_list_card(ListCardRequest(source, places().own_layouts), watch)
        plan = plan_for(OffloadRequest(source, tuple(to), 0, "Shoot"), card)
        found = estimate(card.tree, plan, watch)
    hindered = [target.problem for target in plan.targets if target.problem]
    if json:
        told = asdict(found) | {"problems": [problem.as_dict() for problem in (*hindered, *plan.advice)]}
        told["bytes"] = told.pop("size_bytes")
        print_json(told)
    say(f"{size_text(found.size_bytes)}: {wait_text(found.seconds)}; it waits for {found.bottleneck}.")
    say(f"  the card: {size_text(found.card_bytes_s)} a second")
    for speed in found.places:
        write, read = size_text(speed.write_bytes_s), size_text(speed.read_bytes_s)
        say(f"  {speed.name}: {write} a second written, {read} a second read back")
    say_problems((*hindered, *plan.advice))
    ended(bool(hindered))


@in_a_child
def rebuild_ledger(
    folders: Annotated[list[Path], typer.Argument(help="Disks, or places for copies.")], json: Json = False
) -> None:
    """Fill the ledger from the manifests on disks."""
    with reported(json), opened_ledger() as ledger, Bar(json) as watch, stoppable(watch):
        must_be_there(*folders)
        request = RebuildRequest(tuple(folders), known_roots(ledger), places().own_layouts)
        found = perform_rebuild(request, watch)
        rebuilt = record_rebuilt(ledger, found)
    if json:
        told = {"waybills": rebuilt.waybills, "clips": rebuilt.clips, "files": rebuilt.files}
        print_json(told | {"problems": [problem.as_dict() for problem in found.problems]})
    waybills, clips = count_text(rebuilt.waybills, "waybill"), count_text(rebuilt.clips, "clip")
    say(f"{waybills}, {clips}, {count_text(rebuilt.files, 'file')} are in the ledger again.")
    say_problems(found.problems)
    ended(bool(found.problems))
