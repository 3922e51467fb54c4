"""Re-reading a copy: the use case behind `verify`."""

from __future__ import annotations

from dataclasses import dataclass
from pathlib import Path

from diadoche.core.offload.expected import CardTruth
from diadoche.core.offload.verify import Verdict, verify
from diadoche.core.watch import Watch
from diadoche.services.jobs.job_kind import JobKind


@dataclass(frozen=True, slots=True)
class VerifyRequest:
    """Which copy."""

    root: Path
    # What the ledger kept of the card's own reading, where manifests alone do not say it.
    card: CardTruth | None = None


def perform_verify(request: VerifyRequest, watch: Watch) -> Verdict:
    """Reads everything back; see `diadoche.core.offload.verify.verify` for what it raises."""
    return verify(request.root, watch, request.card)


KIND = JobKind("verify", VerifyRequest, Verdict, perform_verify, rank=1)
