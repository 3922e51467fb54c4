"""Rigs of camera bodies as their own footage has them: kept with the body, used for all of its takes."""

from __future__ import annotations

from diadoche.services.jobs.stitch import AlignedRig, StitchOutput, StitchRequest
from diadoche.services.ledger.ledger import Ledger
from diadoche.services.ledger.remembered import recall, recall_all, remember

_SCOPE = "rig"


def kept_rigs(ledger: Ledger) -> dict[str, AlignedRig]:
    """Every body's rig."""
    return dict(recall_all(ledger, _SCOPE, AlignedRig))


def keep_rig(ledger: Ledger, body: str, rig: AlignedRig) -> None:
    """A body's rig from now on."""
    if body:
        remember(ledger, _SCOPE, body, rig)


def keep_first_rig(ledger: Ledger, request: StitchRequest, made: StitchOutput) -> None:
    """What a take was aligned by serves its body's other takes, where nobody aligned that body before."""
    if made.aligned is not None and request.body and recall(ledger, _SCOPE, [request.body], AlignedRig) is None:
        keep_rig(ledger, request.body, made.aligned)
