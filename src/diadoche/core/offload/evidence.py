"""What is known of a copy, in the order in which it became known; its state follows from that, and is never assigned.

Evidence is only added. A later reading says more than an earlier one, but for what no reading of a copy can show: that
files which never arrived belong to it.
"""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import dataclass
from datetime import datetime
from enum import StrEnum

from diadoche.core.offload.copies import Copy, CopyState
from diadoche.core.offload.verify import Verdict


class EvidenceKind(StrEnum):
    """How something became known of a copy."""

    STATED = "stated"  # by an older version of the ledger, which kept a state alone
    RUN = "run"  # files were written and read back, or a disk dropped out
    READING = "reading"  # every listed file was read and compared
    LISTING = "listing"  # manifests and sizes of files were looked at
    UNREADABLE = "unreadable"  # it could not be read, though its disk is here
    REPLACED = "replaced"  # another copy has its folder


@dataclass(frozen=True, slots=True, kw_only=True)
class Evidence:
    """One thing that became known. `state` is what it says by itself; `ok` counts files that were read and equal."""

    kind: EvidenceKind
    state: CopyState
    at: datetime | None
    ok: int = 0
    words: str = ""

    @property
    def was_read(self) -> bool:
        """Whether bytes of the copy were read for it."""
        return self.kind in {EvidenceKind.RUN, EvidenceKind.READING, EvidenceKind.STATED} and self.at is not None


_UNFINISHED = {CopyState.INCOMPLETE, CopyState.FAILED}


def state_of(evidence: Iterable[Evidence]) -> CopyState:
    """The state of a copy: what all that is known of it says together."""
    state: CopyState | None = None
    for each in evidence:
        state = _after(state, each)
    return state or CopyState.INCOMPLETE


def _after(state: CopyState | None, new: Evidence) -> CopyState:
    match new.kind:
        case EvidenceKind.READING if state in _UNFINISHED and new.state is CopyState.INCOMPLETE:
            # No reading finishes a copy; that its disk failed stays known.
            return state or CopyState.INCOMPLETE
        case EvidenceKind.LISTING if state in {CopyState.PROVEN, CopyState.ALTERED} and new.state is CopyState.LISTED:
            # Nothing was read: what an earlier reading said still holds.
            return state or CopyState.LISTED
        case EvidenceKind.LISTING if state in _UNFINISHED and new.state is not CopyState.DAMAGED:
            return state or CopyState.INCOMPLETE
        case EvidenceKind.UNREADABLE if state in _UNFINISHED:
            return state or CopyState.INCOMPLETE
        case _:
            return new.state


def of_run(copy: Copy, at: datetime) -> Evidence:
    """What a run that wrote a copy says of it."""
    read = at if copy.manifest else None
    return Evidence(kind=EvidenceKind.RUN, state=copy.status, at=read, ok=copy.files_verified)


def of_listing(copy: Copy) -> Evidence:
    """What a look at a copy's manifests and the sizes of its files says; nothing was read."""
    return Evidence(kind=EvidenceKind.LISTING, state=copy.status, at=None)


def of_reading(verdict: Verdict, wanted: int, at: datetime, words: str, *, was_unfinished: bool) -> Evidence:
    """What a re-reading says of a copy that has to hold `wanted` files."""
    lacking = verdict.ok < wanted
    if verdict.unfinished or (was_unfinished and lacking):
        state = CopyState.INCOMPLETE
    elif verdict.changed or verdict.missing or (lacking and not verdict.not_compared):
        state = CopyState.DAMAGED
    elif verdict.altered or verdict.not_compared:
        state = CopyState.ALTERED if verdict.altered else CopyState.LISTED
    else:
        state = CopyState.PROVEN
    return Evidence(kind=EvidenceKind.READING, state=state, at=at, ok=verdict.ok, words=words)
