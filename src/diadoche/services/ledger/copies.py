"""Copies as the ledger knows them: by their disk and place, with what the last reading of each found."""

from __future__ import annotations

import os
from collections.abc import Iterable, Sequence
from dataclasses import dataclass
from datetime import UTC, datetime
from pathlib import Path

from sqlalchemy import select
from sqlalchemy.orm import Session

from diadoche.core.answering import answered
from diadoche.core.disks import disk_of, distinct_disks, is_known_disk
from diadoche.core.names import shown
from diadoche.core.offload.copies import Copy, CopyState
from diadoche.core.offload.journal import is_unfinished
from diadoche.core.offload.verify import Verdict
from diadoche.services.ledger.ledger import Ledger
from diadoche.services.ledger.models import CopyRow, WaybillRow


@dataclass(frozen=True, slots=True)
class CopyEntry:
    """A copy as the ledger knows it: where, on which disk, when last read back, and how that went."""

    destination: str
    root: str
    manifest: str
    files_verified: int
    status: CopyState
    disk: str
    disk_words: str
    verified: datetime | None
    last_check: str

    @property
    def proven(self) -> bool:
        """Whether the last time it was read back, every byte matched."""
        return self.status is CopyState.PROVEN

    @property
    def may_be_read(self) -> bool:
        """Whether footage may be taken from it: it was whole when it was last looked at."""
        return self.status in {CopyState.PROVEN, CopyState.LISTED}


def copy_entry(row: CopyRow) -> CopyEntry:
    """A row as a value."""
    return copy_of_columns(
        row.destination,
        row.root,
        row.manifest,
        row.files_verified,
        row.status,
        row.disk,
        row.disk_words,
        row.verified,
        row.last_check,
    )


def copy_of_columns(
    destination: str,
    root: str,
    manifest: str,
    files_verified: int,
    status: str,
    disk: str,
    disk_words: str,
    verified: datetime | None,
    last_check: str,
) -> CopyEntry:
    """The columns of a row as a value, in their order; `verified` in universal time, as the database gives it."""
    at = verified.replace(tzinfo=UTC) if verified else None
    return CopyEntry(destination, root, manifest, files_verified, state_of(status), disk, disk_words, at, last_check)


def state_of(text: str) -> CopyState:
    """A state as it is written down; what is no state proves nothing."""
    try:
        return CopyState(text)
    except ValueError:
        return CopyState.INCOMPLETE


def proven_disks(copies: Iterable[CopyEntry]) -> int:
    """On how many disks, known to be different, copies were proven when they were last read."""
    return distinct_disks(copy.disk for copy in copies if copy.proven)


def is_here(copy: CopyEntry) -> bool:
    """Whether a copy that the ledger knows stands at its place at this moment, and says nothing against itself.

    Its own manifest must be there, and its disk the one that it was made on, where that can be told: another disk may
    be mounted at the same place.
    """
    root, manifest = Path(copy.root), Path(copy.manifest)

    def look() -> bool:
        if not copy.manifest or not manifest.is_file() or is_unfinished(root):
            return False
        # A simulated disk is a folder of a real one: there the manifest alone tells.
        return copy.disk.startswith("simulated:") or same_disk(disk_of(root).key, copy.disk)

    try:
        return answered(look, "look for a copy")
    except OSError:
        return False


def put_copy(session: Session, waybill: WaybillRow, copy: Copy) -> None:
    """Writes a copy down with its waybill: the row of the same place and disk is changed, or a new one begun."""
    row = next((each for each in waybill.copies if _is_row_of(each, copy)), None)
    if row is None:
        row = CopyRow(root=shown(copy.root))
        waybill.copies.append(row)
    row.destination, row.manifest = shown(copy.destination), shown(copy.manifest)
    row.files_verified, row.status = copy.files_verified, copy.status.value
    row.disk, row.disk_words = copy.disk, copy.disk_words
    # Nothing was read back of a copy that was only listed.
    row.verified = datetime.now(UTC) if copy.manifest and copy.status is not CopyState.LISTED else None
    row.last_check = ""
    session.flush()


def _is_row_of(row: CopyRow, copy: Copy) -> bool:
    return row.root == shown(copy.root) and same_disk(row.disk, copy.disk)


def same_disk(one: str, other: str) -> bool:
    """Whether two keys may be of one disk."""
    return one == other or distinct_disks([one, other]) < 2


def forget_replaced(session: Session, waybill_id: int, copies: Sequence[Copy]) -> None:
    """Copies of other cards whose folder a new copy has taken on the very same disk are there no longer."""
    for copy in copies:
        known = session.scalars(select(CopyRow).where(CopyRow.root == shown(copy.root)))
        for row in known:
            # Of a disk that is not known nobody can tell whether it is the same one: then the copy may be elsewhere.
            sure = row.disk == copy.disk and is_known_disk(copy.disk)
            if row.waybill_id != waybill_id and copy.manifest and sure:
                row.status, row.last_check = CopyState.GONE.value, "another copy has its folder now"


def row_at(session: Session, root: Path | str) -> CopyRow | None:
    """The row of the copy that stands at a place now; of several, the one whose manifest is there."""
    rows = list(session.scalars(select(CopyRow).where(CopyRow.root == shown(str(root))).order_by(CopyRow.id.desc())))
    rows = [row for row in rows if row.status != CopyState.GONE.value]
    if len(rows) < 2:
        return rows[0] if rows else None
    return next((row for row in rows if row.manifest and os.path.lexists(row.manifest)), rows[0])


def add_copies(ledger: Ledger, of_root: Path, copies: Sequence[Copy]) -> bool:
    """Adds copies that were made from a copy to its waybill; false when the ledger does not know that one."""
    with ledger.session() as session:
        known = row_at(session, of_root)
        if known is None:
            return False
        waybill = session.get_one(WaybillRow, known.waybill_id)
        for copy in copies:
            put_copy(session, waybill, copy)
        forget_replaced(session, waybill.id, copies)
        return True


def record_check(ledger: Ledger, verdict: Verdict, words: str) -> None:
    """Writes down that a copy was read back, and what that says of it.

    A clean reading makes a copy proven only where it holds all files of its card: what was never finished stays so.
    """
    with ledger.session() as session:
        row = row_at(session, verdict.root)
        if row is None:
            return
        waybill = session.get_one(WaybillRow, row.waybill_id)
        row.verified, row.last_check = datetime.now(UTC), words
        if verdict.unfinished or (row.status in _UNFINISHED and verdict.ok < waybill.files):
            state = CopyState.FAILED if row.status == CopyState.FAILED.value else CopyState.INCOMPLETE
        elif verdict.changed or verdict.missing or verdict.ok < waybill.files:
            state = CopyState.DAMAGED
        else:
            state = CopyState.PROVEN
        row.status, row.files_verified = state.value, verdict.ok


_UNFINISHED = {CopyState.INCOMPLETE.value, CopyState.FAILED.value}


def record_unreadable(ledger: Ledger, root: Path, words: str) -> None:
    """Writes down that a copy could not be read back at all, though its disk is here: it is proven no longer."""
    with ledger.session() as session:
        row = row_at(session, root)
        if row is not None and _disk_is_here(row):
            row.last_check = words
            if row.status in {CopyState.PROVEN.value, CopyState.LISTED.value}:
                row.status = CopyState.DAMAGED.value


def _disk_is_here(row: CopyRow) -> bool:
    place = Path(row.destination)
    try:
        return answered(lambda: place.is_dir() and same_disk(disk_of(place).key, row.disk))
    except OSError:
        return False


def last_disks(ledger: Ledger) -> dict[str, str]:
    """For each place that something was kept in, the disk that it was on then, by its key."""
    asked = select(CopyRow.destination, CopyRow.disk).where(
        CopyRow.status == CopyState.PROVEN.value, CopyRow.disk != ""
    )
    with ledger.session() as session:
        return dict(session.execute(asked.order_by(CopyRow.id)).all())
