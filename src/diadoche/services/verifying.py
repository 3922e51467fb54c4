"""Re-reading a copy: the use case behind `verify`."""

from __future__ import annotations

from dataclasses import dataclass
from pathlib import Path

from diadoche.core.offload.verify import Verdict, verify
from diadoche.core.watch import Watch
from diadoche.services.ledger.happenings import note_happening
from diadoche.services.ledger.ledger import Ledger
from diadoche.services.ledger.waybills import record_check
from diadoche.services.queue.kinds import JobKind


@dataclass(frozen=True, slots=True)
class VerifyRequest:
    """Which copy."""

    root: Path


def perform_verify(request: VerifyRequest, watch: Watch) -> Verdict:
    """Reads everything back; see `diadoche.core.offload.verify.verify` for what it raises."""
    return verify(request.root, watch)


KIND = JobKind("verify", VerifyRequest, Verdict, perform_verify, rank=1)


def record_verdict(ledger: Ledger, verdict: Verdict) -> None:
    """Writes down when a copy was last read back and how that went; extra files do not count against it."""
    if verdict.clean:
        words = "as it was"
    else:
        found = (("changed", verdict.changed), ("missing", verdict.missing), ("extra", verdict.extra))
        words = ", ".join(f"{len(names)} {word}" for word, names in found if names) or verdict.problems[0].what
    matches = not (verdict.changed or verdict.missing)
    record_check(ledger, verdict.root, words, matches=matches)
    note_happening(ledger, "check" if matches else "problem", f"{verdict.root} was read back: {words}.")
