"""What finished jobs leave in the ledger; called in the thread that heard of their end."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass, replace
from pathlib import Path
from typing import Any

from diadoche.core.offload.verify import Verdict
from diadoche.services.jobs.adopt_folder import AdoptedFolder
from diadoche.services.jobs.copy_on import CopyOnOutcome
from diadoche.services.jobs.identify import IdentifiedClip
from diadoche.services.jobs.level import Levelled
from diadoche.services.jobs.measure_playback import PLAYBACK_SCOPE, MeasuredPlayback
from diadoche.services.jobs.offload import OffloadOutcome, OffloadRequest
from diadoche.services.jobs.rebuild import FoundCopies
from diadoche.services.ledger.copies import add_copies, record_check
from diadoche.services.ledger.happenings import note_happening
from diadoche.services.ledger.kept_clips import record_facts, record_many_facts, record_output, send_clips
from diadoche.services.ledger.known_copies import Familiar, familiar
from diadoche.services.ledger.ledger import Ledger
from diadoche.services.ledger.remembered import recall_all, remember
from diadoche.services.ledger.rigs import keep_first_rig, keep_rig
from diadoche.services.ledger.shoots import open_shoot
from diadoche.services.ledger.waybills import LISTED_ONLY, TAKEN_IN, record_offload
from diadoche.services.queue.runner import Job
from diadoche.services.version import VERSION


def record_part(ledger: Ledger, job: Job, part: object) -> None:
    """Writes down what a running job found so far.

    Raises:
        LedgerError: it cannot be written; it comes again with the end of the job.
    """
    if isinstance(part, IdentifiedClip) and part.clip_id:
        record_facts(ledger, part.clip_id, part.facts)


def record(ledger: Ledger, job: Job) -> Any:
    """Writes the result of a job into the ledger; gives what the ledger says to it, where somebody will ask that.

    Raises:
        LedgerError: it cannot be written; the copies and their manifests stand all the same.
    """
    recorder = _RECORDERS.get(job.kind)
    noted = recorder(ledger, job) if recorder is not None else None
    # Before anybody is told: a card that is called kept stays so after a power cut.
    ledger.make_durable()
    return noted


def _record_look(ledger: Ledger, job: Job) -> Familiar:
    return familiar(ledger, job.result)


def _record_offload(ledger: Ledger, job: Job) -> Familiar:
    record_outcome(ledger, job.request, job.result)
    return familiar(ledger, job.result.card, just_read=True)


def _record_facts(ledger: Ledger, job: Job) -> None:
    record_many_facts(ledger, [(found.clip_id, found.facts) for found in job.result if found.clip_id])


def _record_output(ledger: Ledger, job: Job) -> None:
    if job.request.clip_id:
        record_output(ledger, job.request.clip_id, job.result, VERSION)


def _record_stitch(ledger: Ledger, job: Job) -> None:
    if job.request.clip_id:
        record_output(ledger, job.request.clip_id, job.result.output, VERSION)
    keep_first_rig(ledger, job.request, job.result)


def _record_calibrated(ledger: Ledger, job: Job) -> None:
    keep_rig(ledger, job.request.body, job.result)


def record_outcome(ledger: Ledger, request: OffloadRequest, outcome: OffloadOutcome) -> int:
    """Writes a finished offload into the ledger."""
    number = record_offload(
        ledger,
        request.shoot_id,
        outcome.name,
        outcome.card.layout,
        outcome.fingerprint,
        outcome.card.tree.files,
        outcome.card.clips,
        outcome.result,
        outcome.waybill,
    )
    for shoot_id in {shoot_id for _name, shoot_id in request.sent}:
        send_clips(ledger, number, [name for name, to in request.sent if to == shoot_id], shoot_id)
    return number


def record_copy_on(ledger: Ledger, outcome: CopyOnOutcome) -> None:
    """Adds the new copies to the waybill of the one they were made from."""
    add_copies(ledger, outcome.root, outcome.result.copies)


def record_level(ledger: Ledger, done: Levelled) -> None:
    """Adds every copy that was made to its waybill."""
    for outcome in done.made:
        record_copy_on(ledger, outcome)


def record_verdict(ledger: Ledger, verdict: Verdict) -> None:
    """Writes down when a copy was last read back and how that went; extra files do not count against it."""
    if verdict.clean:
        words = "as it was"
    else:
        found = (
            ("changed", verdict.changed), ("missing", verdict.missing), ("extra", verdict.extra),
            ("not compared", verdict.not_compared),
        )  # fmt: skip
        words = ", ".join(f"{len(names)} {word}" for word, names in found if names) or verdict.problems[0].what
    matches = not (verdict.changed or verdict.missing or verdict.altered or verdict.not_compared)
    record_check(ledger, verdict, words)
    note_happening(ledger, "check" if matches else "problem", f"{verdict.root} was read back: {words}.")


def record_adopted(ledger: Ledger, taken: AdoptedFolder, source: str = TAKEN_IN) -> int:
    """Writes it into the ledger as a card with one copy, or as a copy of a card that is known."""
    files = taken.card.tree.files
    return record_offload(
        ledger, taken.shoot_id, taken.name, taken.card.layout, taken.fingerprint, files, taken.card.clips,
        taken.result, "", source=source,
    )  # fmt: skip


@dataclass(frozen=True, slots=True)
class Rebuilt:
    """How much of the ledger came back."""

    waybills: int
    clips: int
    files: int


def record_rebuilt(ledger: Ledger, found: FoundCopies) -> Rebuilt:
    """Writes found copies down; copies of the same content come under one waybill."""
    # Of copies that older versions made names, sizes, times and all digests have to be alike.
    by_content: dict[tuple[str, tuple[str, ...]], Path] = {}
    count = clips = files = 0
    for taken in found.taken:
        key = (taken.fingerprint, tuple(f"{each.path}:{sorted(each.digests.items())}" for each in taken.result.kept))
        first = by_content.get(key) if not taken.result.taking else None
        if (first is not None or taken.result.taking) and add_copies(
            ledger, first or Path(taken.result.copies[0].root), taken.result.copies, listed=True
        ):
            continue
        record_adopted(ledger, replace(taken, shoot_id=open_shoot(ledger, taken.shoot).id), LISTED_ONLY)
        by_content[key] = Path(taken.result.copies[0].root)
        count, clips, files = count + 1, clips + len(taken.card.clips), files + len(taken.result.kept)
    return Rebuilt(count, clips, files)


def record_playback(ledger: Ledger, measured: Sequence[MeasuredPlayback]) -> None:
    """Writes down what was measured; a disturbed figure does not take the place of an undisturbed one."""
    known = dict(recall_all(ledger, PLAYBACK_SCOPE, MeasuredPlayback))
    for each in measured:
        if each.replaces(known.get(each.key)):
            remember(ledger, PLAYBACK_SCOPE, each.key, each)


def _of_result(recorder: Callable[[Ledger, Any], Any]) -> Callable[[Ledger, Job], None]:
    """A recorder that needs nothing of a job but its result."""

    def record_result(ledger: Ledger, job: Job) -> None:
        recorder(ledger, job.result)

    return record_result


# What each kind of job leaves behind, by its name; a kind that is not here leaves nothing.
_RECORDERS: dict[str, Callable[[Ledger, Job], Any]] = {
    "look": _record_look,
    "offload": _record_offload,
    "identify": _record_facts,
    "make": _record_output,
    "stitch": _record_stitch,
    "calibrate": _record_calibrated,
    "verify": _of_result(record_verdict),
    "copy on": _of_result(record_copy_on),
    "level": _of_result(record_level),
    "rebuild": _of_result(record_rebuilt),
    "take in": _of_result(record_adopted),
    "pace": _of_result(record_playback),
}
