"""What became of a copy, as a value: one enum for its state, and how its proof was read."""

from __future__ import annotations

from collections.abc import Iterable, Mapping
from dataclasses import dataclass, field
from enum import StrEnum

from diadoche.core.disks import ReadBack, distinct_disks
from diadoche.core.offload.identity import NO_IDENTITY, CopyIdentity

__all__ = ["Copy", "CopyState", "ReadBack", "proven_disks"]


class CopyState(StrEnum):
    """Where a copy stands.

    ::

        (begun) ─► INCOMPLETE ─► PROVEN ◄─► DAMAGED
                        ▲           verify finds it wrong, and right again
        FAILED ─────────┘  completed from a proven copy, or offloaded again
        (ledger rebuilt) ─► LISTED ─► PROVEN or DAMAGED, when it is read

    Only a run that puts and proves every missing file makes INCOMPLETE or FAILED proven: no verifying does.
    """

    PROVEN = "proven"  # every byte that was asked for was read back and matched, and a manifest says so
    INCOMPLETE = "incomplete"  # files are missing; the journal in it says so
    FAILED = "failed"  # its disk dropped out
    DAMAGED = "damaged"  # it was proven, and a later reading found files changed or missing
    ALTERED = "altered"  # its manifests are not as they were written, and nothing else is known of its files
    LISTED = "listed"  # its manifests and the sizes of its files say that it is whole; nothing was read since
    GONE = "gone"  # another copy has its folder now


@dataclass(frozen=True, slots=True)
class Copy:
    """What became of one destination. `root` is the folder of this card there."""

    destination: str
    root: str
    manifest: str
    files_verified: int
    bytes_verified: int
    status: CopyState
    read_back: ReadBack = ReadBack.CACHE
    disk: str = ""
    disk_words: str = ""
    # The fingerprint that the unfinished copy in that folder had, where one was gone on with.
    resumed_from: str = ""
    # Whether it was too slow for the card to wait, and is still to be filled from a finished copy.
    fell_behind: bool = False
    identity: CopyIdentity = NO_IDENTITY
    # Files that have another name there than on the card, by their path on the card.
    renamed: Mapping[str, str] = field(default_factory=dict)
    # How many files it lacks of those that were asked for.
    wanting: int = 0

    @property
    def passed_cache(self) -> bool:
        """Whether its bytes are known to have come from the disk itself."""
        return self.read_back is ReadBack.DISK


def proven_disks(copies: Iterable[Copy]) -> int:
    """On how many disks, known to be different, proven copies are: copies on one disk are lost together."""
    return distinct_disks((copy.disk for copy in copies if copy.status is CopyState.PROVEN), together=True)
