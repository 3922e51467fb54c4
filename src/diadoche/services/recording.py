"""What finished jobs leave in the ledger; called in the thread that heard of their end."""

from __future__ import annotations

from diadoche.services import offloading
from diadoche.services.caring import record_copy_on, record_level
from diadoche.services.identifying import IdentifiedClip
from diadoche.services.ledger.ledger import Ledger
from diadoche.services.ledger.waybills import record_facts, record_output
from diadoche.services.pacing import record_paces
from diadoche.services.queue.runner import Job
from diadoche.services.taking_in import record_rebuilt, record_taken_in
from diadoche.services.verifying import record_verdict
from diadoche.services.version import VERSION


def record_part(ledger: Ledger, job: Job, part: object) -> None:
    """Writes down what a running job found so far.

    Raises:
        LedgerError: it cannot be written; it comes again with the end of the job.
    """
    if isinstance(part, IdentifiedClip) and part.clip_id:
        record_facts(ledger, part.clip_id, part.facts)


def record(ledger: Ledger, job: Job) -> None:
    """Writes the result of a job that is done into the ledger.

    Raises:
        LedgerError: it cannot be written; the copies and their manifests stand all the same.
    """
    if job.kind == "offload":
        offloading.record(ledger, job.request, job.result)
    elif job.kind == "verify":
        record_verdict(ledger, job.result)
    elif job.kind == "copy on":
        record_copy_on(ledger, job.result)
    elif job.kind == "level":
        record_level(ledger, job.result)
    elif job.kind == "rebuild":
        record_rebuilt(ledger, job.result)
    elif job.kind == "take in":
        record_taken_in(ledger, job.result)
    elif job.kind == "pace":
        record_paces(ledger, job.result)
    elif job.kind == "identify":
        for found in job.result:
            record_facts(ledger, found.clip_id, found.facts)
    elif job.kind == "make" and job.request.clip_id:
        record_output(ledger, job.request.clip_id, job.result, VERSION)
    # Before anybody is told: a card that is called kept stays so after a power cut.
    ledger.make_durable()
