"""What the ledger knows about offloads, a row for each; rows are changed, never replaced."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from datetime import UTC, datetime
from typing import Any

from sqlalchemy import Select, func, or_, select
from sqlalchemy.orm import Session

from diadoche.core.cards.clips import Clip
from diadoche.core.cards.tree import FileEntry
from diadoche.core.errors import Problem
from diadoche.core.names import shown
from diadoche.core.offload.digest_file import contradict
from diadoche.core.offload.evidence import of_listing, of_run
from diadoche.core.offload.expected import CardFile
from diadoche.core.offload.offload import OffloadResult
from diadoche.services.ledger.copies import (
    CopyEntry,
    copy_of_columns,
    forget_replaced,
    proven_disks,
    put_copy,
    same_disk,
    waybill_of,
)
from diadoche.services.ledger.ledger import Ledger
from diadoche.services.ledger.models import ClipRow, CopyRow, FileRow, ShootRow, WaybillRow
from diadoche.services.wire import from_text, to_text

# What told the digests of files: a reading of the card; a reading of footage where it lay; manifests alone.
FROM_CARD, TAKEN_IN, LISTED_ONLY = "card", "taken in", "listed"


@dataclass(frozen=True, slots=True)
class WaybillEntry:
    """One offload as the ledger's list shows it."""

    id: int
    card: str
    layout: str
    fingerprint: str
    started: datetime
    seconds: float
    files: int
    size_bytes: int
    clips: int
    whole: bool
    html: str
    copies: tuple[CopyEntry, ...]
    problems: int
    shoot: str = ""

    @property
    def proven(self) -> int:
        """How many copies are proven."""
        return sum(copy.proven for copy in self.copies)

    @property
    def proven_disks(self) -> int:
        """On how many disks, known to be different, when they were last read."""
        return proven_disks(self.copies)

    def may_format(self, copies_wanted: int) -> bool:
        """Whether the camera may format the card: enough proven copies of all of it, on different disks."""
        return self.whole and self.proven_disks >= copies_wanted

    @property
    def oldest_check(self) -> datetime | None:
        """When the proven copy that was not read back for longest was last read back."""
        return min((copy.verified for copy in self.copies if copy.proven and copy.verified), default=None)


def record_offload(
    ledger: Ledger,
    shoot_id: int,
    card: str,
    layout: str,
    fingerprint: str,
    files: Sequence[FileEntry],
    clips: Sequence[Clip],
    result: OffloadResult,
    html: str,
    *,
    source: str = FROM_CARD,
) -> int:
    """Writes an offload down; where it went on with an earlier one, that one's row is changed.

    What people said of clips, their outputs, and copies elsewhere stay as they are. `source`: whether the card was read
    for it, or a copy that was found; what came off the card is never replaced by what a copy says.
    """
    now = datetime.now(UTC)
    with ledger.session() as session:
        row = _earlier(session, fingerprint, result)
        if row is not None and source != FROM_CARD:
            for copy in result.copies:
                put_copy(session, row, copy, of_listing(copy) if source == LISTED_ONLY else of_run(copy, now))
            forget_replaced(session, result.copies)
            _put_files(session, row.id, files, {file.path: file.digests for file in result.kept}, source)
            return row.id
        if row is None:
            row = WaybillRow(shoot_id=shoot_id, started=result.started)
            session.add(row)
        row.taking = result.taking or row.taking or ""
        row.card, row.layout, row.fingerprint = shown(card), layout, fingerprint
        row.started, row.seconds = result.started, result.seconds
        row.files, row.size_bytes, row.whole = result.files, result.bytes, result.whole
        row.html, row.result = shown(html) or row.html or "", to_text(result.problems, tuple[Problem, ...])
        session.flush()
        for copy in result.copies:
            put_copy(session, row, copy, of_listing(copy) if source == LISTED_ONLY else of_run(copy, now))
        forget_replaced(session, result.copies)
        _put_clips(row, clips)
        _put_files(session, row.id, files, {file.path: file.digests for file in result.kept}, source)
        return row.id


def _earlier(session: Session, fingerprint: str, result: OffloadResult) -> WaybillRow | None:
    """The waybill of the same taking; of an older version's, that of the same card in the same folder and disk."""
    if (row := waybill_of(session, result.taking)) is not None:
        return row
    for copy in result.copies:
        asked = select(WaybillRow, CopyRow.disk).join(CopyRow).where(CopyRow.root == shown(copy.root))
        for row, disk in session.execute(asked.order_by(WaybillRow.id.desc())):
            # A copy that was gone on with is of the same card, though more of it could be listed this time.
            if not row.taking and same_disk(disk, copy.disk) and row.fingerprint in {fingerprint, copy.resumed_from}:
                return row
    return None


def _put_clips(row: WaybillRow, clips: Sequence[Clip]) -> None:
    known = {each.name: each for each in row.clips}
    for clip in clips:
        name, text = shown(clip.name), to_text(clip)
        start = clip.start.isoformat() if clip.start else None
        earlier = known.get(name)
        if earlier is None:
            row.clips.append(ClipRow(name=name, clip=text, start=start))
        elif earlier.clip != text:
            # Another file by now: what was found in the earlier one says nothing of it.
            earlier.clip, earlier.start, earlier.facts = text, start, None


def kept_ns(changed_ns: int) -> int:
    """A time as the database can hold it: some filesystems reach further."""
    return max(-(2**63), min(2**63 - 1, changed_ns))


def _put_files(
    session: Session, waybill_id: int, files: Sequence[FileEntry], kept: Mapping[str, dict[str, str]], source: str
) -> None:
    """Adds what files read as. A row is replaced by nothing: a card that was rewritten meanwhile has another row."""
    asked = select(FileRow).where(FileRow.waybill_id == waybill_id).order_by(FileRow.id)
    known = {row.path: row for row in session.scalars(asked)}
    for file in files:
        if file.path not in kept:
            continue
        row, digests = known.get(shown(file.path)), kept[file.path]
        if row is not None and source != FROM_CARD and row.source == FROM_CARD:
            continue
        earlier = from_text(dict[str, str], row.digests) if row is not None else {}
        if row is None or contradict(earlier, digests) or row.source != source:
            row = FileRow(waybill_id=waybill_id, path=shown(file.path), source=source)
            session.add(row)
            earlier = {}
        row.size_bytes, row.changed_ns = file.size_bytes, kept_ns(file.changed_ns)
        row.digests = to_text(earlier | digests, dict[str, str])


def card_files(session: Session, waybill_id: int) -> dict[str, CardFile]:
    """What came off a card, by its paths: of several readings of a file the last one.

    Of footage that was taken in where it lay there is no card: its first reading stands for that.
    """
    asked = select(FileRow).where(FileRow.waybill_id == waybill_id, FileRow.source != LISTED_ONLY)
    rows = sorted(session.scalars(asked), key=lambda row: (row.source == FROM_CARD, row.id))
    return {row.path: CardFile(from_text(dict[str, str], row.digests), row.size_bytes) for row in rows}


def waybills(ledger: Ledger, search: str = "") -> list[WaybillEntry]:
    """All offloads, the newest first; with a search, those whose card, shoot, day, clips or digests hold the text."""
    asked = _searched(search)
    clips = select(ClipRow.waybill_id, func.count()).group_by(ClipRow.waybill_id)
    copies = select(CopyRow.waybill_id, *_COPY_COLUMNS).order_by(CopyRow.id)
    if search.strip():
        copies = copies.where(CopyRow.waybill_id.in_(asked.with_only_columns(WaybillRow.id)))
    with ledger.session() as session:
        # Columns, not objects: a ledger of years is read whenever a card is done, beside a window that stays quick.
        # First, for it may be written meanwhile: of every offload that is read here, all else is there too.
        rows = session.execute(asked.order_by(WaybillRow.started.desc(), WaybillRow.id.desc())).all()
        counts = dict(session.execute(clips).all())
        names = dict(session.execute(select(ShootRow.id, ShootRow.name)).all())
        copies_of: dict[int, list[CopyEntry]] = {}
        for waybill_id, *columns in session.execute(copies):
            copies_of.setdefault(waybill_id, []).append(copy_of_columns(*columns))
    return [
        WaybillEntry(
            row.id,
            row.card,
            row.layout,
            row.fingerprint,
            row.started.replace(tzinfo=UTC),
            row.seconds,
            row.files,
            row.size_bytes,
            counts.get(row.id, 0),
            row.whole,
            row.html,
            tuple(copies_of.get(row.id, ())),
            int(row.told),
            names.get(row.shoot_id, ""),
        )
        for row in rows
    ]


def matching_waybills(ledger: Ledger, search: str) -> frozenset[int]:
    """Which offloads have a card, shoot, day, clips, files, digests or disks that hold a text.

    All files of all cards are looked through: with hundreds of thousands that takes tenths of a second.
    """
    with ledger.session() as session:
        return frozenset(session.scalars(_searched(search).with_only_columns(WaybillRow.id)))


# What stands once in each problem of a record.
_PROBLEM = '"what"'
_COLUMNS = (
    WaybillRow.id, WaybillRow.card, WaybillRow.layout, WaybillRow.fingerprint, WaybillRow.started, WaybillRow.seconds,
    WaybillRow.files, WaybillRow.size_bytes, WaybillRow.whole, WaybillRow.html, WaybillRow.shoot_id,
)  # fmt: skip
_COPY_COLUMNS = (
    CopyRow.destination, CopyRow.root, CopyRow.manifest, CopyRow.files_verified, CopyRow.status, CopyRow.disk,
    CopyRow.disk_words, CopyRow.verified, CopyRow.last_check, CopyRow.taking, CopyRow.renamed,
)  # fmt: skip


def _searched(text: str) -> Select[*tuple[Any, ...]]:
    # The record of each may be long: its problems are counted where it lies.
    without = func.length(func.replace(WaybillRow.result, _PROBLEM, ""))
    told = (func.length(WaybillRow.result) - without) / len(_PROBLEM)
    wanted: Select[*tuple[Any, ...]] = select(*_COLUMNS, told.label("told"))
    if not text.strip():
        return wanted
    like = f"%{text.strip()}%"
    in_clips = select(ClipRow.waybill_id).where(or_(ClipRow.name.like(like), ClipRow.start.like(like)))
    in_files = select(FileRow.waybill_id).where(or_(FileRow.path.like(like), FileRow.digests.like(like)))
    in_copies = select(CopyRow.waybill_id).where(or_(CopyRow.root.like(like), CopyRow.disk_words.like(like)))
    in_shoots = select(ShootRow.id).where(ShootRow.name.like(like))
    return wanted.where(
        or_(
            WaybillRow.card.like(like),
            WaybillRow.shoot_id.in_(in_shoots),
            WaybillRow.id.in_(in_clips),
            WaybillRow.id.in_(in_files),
            WaybillRow.id.in_(in_copies),
        )
    )
