"""Copies as the ledger knows them: by their disk and place, with what the last reading of each found."""

from __future__ import annotations

import os
from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass, field
from datetime import UTC, datetime
from pathlib import Path

from sqlalchemy import select
from sqlalchemy.orm import Session

from diadoche.core.answering import answered
from diadoche.core.disks import disk_of, distinct_disks, is_known_disk
from diadoche.core.names import shown
from diadoche.core.offload.copies import Copy, CopyState
from diadoche.core.offload.evidence import Evidence, EvidenceKind, of_listing, of_reading, of_run
from diadoche.core.offload.evidence import state_of as evidence_state
from diadoche.core.offload.identity import NO_IDENTITY, CopyIdentity
from diadoche.core.offload.journal import is_unfinished
from diadoche.core.offload.manifest_reading import identity_of
from diadoche.core.offload.verify import Verdict
from diadoche.services.ledger.ledger import Ledger
from diadoche.services.ledger.models import CopyRow, EvidenceRow, WaybillRow
from diadoche.services.wire import from_text, to_text


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
    taking: str = ""
    renamed: Mapping[str, str] = field(default_factory=dict)

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
        row.taking,
        row.renamed,
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
    taking: str,
    renamed: str,
) -> CopyEntry:
    """The columns of a row as a value, in their order; `verified` in universal time, as the database gives it."""
    at = verified.replace(tzinfo=UTC) if verified else None
    names = from_text(dict[str, str], renamed) if renamed not in {"", "{}"} else {}
    return CopyEntry(
        destination, root, manifest, files_verified, state_of(status), disk, disk_words, at, last_check, taking, names
    )


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


def put_copy(session: Session, waybill: WaybillRow, copy: Copy, evidence: Evidence) -> None:
    """Writes down what became known of a copy: the row of that very copy is found, or a new one begun.

    What never got a folder of its own says nothing of the copy that stands in its way.
    """
    if not copy.identity.copy and not copy.manifest and _rows_at(session, copy.root):
        return
    row = _row_of(session, waybill, copy)
    if row is None:
        row = CopyRow(root=shown(copy.root), manifest="", status="", destination="", files_verified=0)
        waybill.copies.append(row)
    elif row.waybill_id != waybill.id:
        waybill.copies.append(row)
    row.root, row.destination, row.manifest = shown(copy.root), shown(copy.destination), shown(copy.manifest)
    row.disk, row.disk_words = copy.disk, copy.disk_words
    row.taking, row.copy_id = copy.identity.taking or row.taking or "", copy.identity.copy or row.copy_id or ""
    row.renamed = to_text(dict(copy.renamed), dict[str, str])
    add_evidence(session, row, evidence)


def add_evidence(session: Session, row: CopyRow, new: Evidence) -> None:
    """Adds something that became known of a copy; its state is what all of it says together."""
    at = new.at.astimezone(UTC).replace(tzinfo=None) if new.at else None
    row.evidence.append(EvidenceRow(at=at, kind=new.kind.value, state=new.state.value, ok=new.ok, words=new.words))
    known = [evidence_of(each) for each in row.evidence]
    row.status = evidence_state(known).value
    read = [each for each in known if each.was_read]
    row.files_verified = read[-1].ok if read else 0
    row.verified = max((each.at for each in read if each.at is not None), default=None)
    row.last_check = known[-1].words
    session.flush()


def evidence_of(row: EvidenceRow) -> Evidence:
    """A row as a value."""
    return Evidence(kind=EvidenceKind(row.kind), state=state_of(row.state), at=row.at, ok=row.ok, words=row.words)


def _rows_at(session: Session, root: str) -> list[CopyRow]:
    asked = select(CopyRow).where(CopyRow.root == shown(root), CopyRow.status != CopyState.GONE.value)
    return list(session.scalars(asked.order_by(CopyRow.id.desc())))


def _row_of(session: Session, waybill: WaybillRow, copy: Copy) -> CopyRow | None:
    """The row of this very copy: by its id; of an older version's copies by place and disk.

    A folder that carries the id of a copy which stands elsewhere is a twin, made by hand: it has a row of its own.
    """
    if copy.identity.copy:
        rows = list(session.scalars(select(CopyRow).where(CopyRow.copy_id == copy.identity.copy)))
        found = next((row for row in rows if row.root == shown(copy.root)), None)
        if found is not None:
            return found
    legacy = [row for row in _rows_at(session, copy.root) if not row.copy_id]
    return next((row for row in legacy if row.waybill_id == waybill.id and same_disk(row.disk, copy.disk)), None)


def same_disk(one: str, other: str) -> bool:
    """Whether two keys may be of one disk."""
    return one == other or distinct_disks([one, other]) < 2


def forget_replaced(session: Session, copies: Sequence[Copy]) -> None:
    """Other copies whose folder a new one has taken on the very same disk are there no longer."""
    for copy in copies:
        for row in _rows_at(session, copy.root):
            # Of a disk that is not known nobody can tell whether it is the same one: then the copy may be elsewhere.
            sure = row.disk == copy.disk and is_known_disk(copy.disk)
            if copy.manifest and sure and copy.identity.copy and row.copy_id != copy.identity.copy:
                add_evidence(session, row, _replaced())


def _replaced() -> Evidence:
    words = "another copy has its folder now"
    return Evidence(kind=EvidenceKind.REPLACED, state=CopyState.GONE, at=None, words=words)


def row_at(session: Session, root: Path | str, identity: CopyIdentity | None = None) -> CopyRow | None:
    """The row of the copy that stands at a place now, by the id that is written there.

    A row of another id at the same path is that of another copy. Without ids, of several rows it is the one whose
    manifest is there.
    """
    rows = _rows_at(session, str(root))
    copy_id = (identity or _identity_at(root)).copy if rows else ""
    if copy_id:
        found = next((row for row in rows if row.copy_id == copy_id), None)
        rows = [found] if found is not None else [row for row in rows if not row.copy_id]
    if len(rows) < 2:
        return rows[0] if rows else None
    return next((row for row in rows if row.manifest and os.path.lexists(row.manifest)), rows[0])


def _identity_at(root: Path | str) -> CopyIdentity:
    """Which copy stands at a place; none where its disk does not answer."""
    try:
        return answered(lambda: identity_of(Path(root)))
    except OSError:
        return NO_IDENTITY


def add_copies(ledger: Ledger, of_root: Path, copies: Sequence[Copy], *, listed: bool = False) -> bool:
    """Adds copies to the waybill of their taking, or of the copy that they were made from; false where none is known.

    `listed`: nothing of them was read, they were found on a disk.
    """
    with ledger.session() as session:
        waybill = waybill_of(session, next((each.identity.taking for each in copies if each.identity.taking), ""))
        if waybill is None and (known := row_at(session, of_root)) is not None:
            waybill = session.get_one(WaybillRow, known.waybill_id)
        if waybill is None:
            return False
        now = datetime.now(UTC)
        for copy in copies:
            put_copy(session, waybill, copy, of_listing(copy) if listed else of_run(copy, now))
        forget_replaced(session, copies)
        return True


def waybill_of(session: Session, taking: str) -> WaybillRow | None:
    """The waybill of a taking."""
    return session.scalars(select(WaybillRow).where(WaybillRow.taking == taking)).first() if taking else None


def record_check(ledger: Ledger, verdict: Verdict, words: str) -> None:
    """Writes down that a copy was read back, and what that says of it.

    A clean reading makes a copy proven only where it holds all files of its card: what was never finished stays so.
    """
    with ledger.session() as session:
        row = row_at(session, verdict.root, verdict.identity)
        if row is None:
            return
        waybill = session.get_one(WaybillRow, row.waybill_id)
        unfinished = state_of(row.status) in {CopyState.INCOMPLETE, CopyState.FAILED}
        now = datetime.now(UTC)
        add_evidence(session, row, of_reading(verdict, waybill.files, now, words, was_unfinished=unfinished))


def record_unreadable(ledger: Ledger, root: Path, words: str) -> None:
    """Writes down that a copy could not be read back at all, though its disk is here: it is proven no longer."""
    with ledger.session() as session:
        row = row_at(session, root)
        if row is not None and _disk_is_here(row):
            found = Evidence(kind=EvidenceKind.UNREADABLE, state=CopyState.DAMAGED, at=None, words=words)
            add_evidence(session, row, found)


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
