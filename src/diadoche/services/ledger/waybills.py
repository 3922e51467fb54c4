"""What the ledger knows about offloads, copies, clips and outputs."""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from dataclasses import dataclass
from datetime import UTC, datetime
from pathlib import Path

from sqlalchemy import Select, func, or_, select
from sqlalchemy.orm import Session, selectinload

from diadoche.core.cards.clips import Clip
from diadoche.core.cards.tree import FileEntry
from diadoche.core.convert.outputs import Output
from diadoche.core.errors import Problem
from diadoche.core.identify.facts import Facts
from diadoche.core.names import shown
from diadoche.core.offload.offload import Copy, OffloadResult
from diadoche.services.ledger.ledger import Ledger
from diadoche.services.ledger.models import ClipRow, CopyRow, FileRow, OutputRow, ShootRow, WaybillRow
from diadoche.services.ledger.opinions import NO_OPINION, Opinion, opinion_of
from diadoche.services.wire import from_text, to_text

_NEVER = datetime.max.replace(tzinfo=UTC)


@dataclass(frozen=True, slots=True)
class CopyEntry:
    """A copy as the ledger knows it: where, on which disk, when last read back, and how that went."""

    destination: str
    root: str
    manifest: str
    files_verified: int
    status: str
    disk: str
    disk_words: str
    verified: datetime | None
    last_check: str

    @property
    def proven(self) -> bool:
        """Whether the last time it was read back, every byte matched."""
        return self.status == "proven"


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
        """On how many different disks; all that is unknown counts as one."""
        return len({copy.disk for copy in self.copies if copy.proven})

    def may_format(self, copies_wanted: int) -> bool:
        """Whether the camera may format the card: enough proven copies of all of it, on different disks."""
        return self.whole and self.proven_disks >= copies_wanted

    @property
    def oldest_check(self) -> datetime | None:
        """When the proven copy that was not read back for longest was last read back."""
        return min((copy.verified for copy in self.copies if copy.proven and copy.verified), default=None)


@dataclass(frozen=True, slots=True)
class KeptClip:
    """A clip that has been offloaded: where it can be read, what is known, what was made of it."""

    id: int
    card: str
    clip: Clip
    root: Path
    copies: tuple[Copy, ...]
    facts: Facts | None
    outputs: tuple[Output, ...]
    opinion: Opinion = NO_OPINION

    @property
    def paths(self) -> tuple[Path, ...]:
        """The spans in a copy that is there."""
        return tuple(self.root / span for span in self.clip.spans)

    @property
    def sounds(self) -> tuple[Path, ...]:
        """Files beside the spans that hold sound alone."""
        return tuple(path for role, path in self.companions if role == "sound")

    @property
    def companions(self) -> tuple[tuple[str, Path], ...]:
        """Role and path of each companion."""
        return tuple((each.role, self.root / each.path) for each in self.clip.companions)


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
) -> int:
    """Writes an offload down; an earlier, interrupted run into the same folders is replaced.

    Copies of the same card elsewhere that the earlier record knew are kept.
    """
    with ledger.session() as session:
        roots = [copy.root for copy in result.copies]
        elsewhere: list[CopyRow] = []
        for row in session.scalars(select(WaybillRow).join(CopyRow).where(CopyRow.root.in_(roots)).distinct()):
            if row.fingerprint == fingerprint:
                elsewhere += [_twin(copy) for copy in row.copies if copy.root not in roots]
            session.query(FileRow).filter(FileRow.waybill_id == row.id).delete()
            session.delete(row)
        session.flush()
        row = WaybillRow(
            shoot_id=shoot_id,
            card=card,
            layout=layout,
            fingerprint=fingerprint,
            started=result.started,
            seconds=result.seconds,
            files=result.files,
            size_bytes=result.bytes,
            whole=result.whole,
            html=html,
            result=to_text(result.problems, tuple[Problem, ...]),
        )
        row.copies = [*(_copy_row(copy) for copy in result.copies), *elsewhere]
        row.clips = [
            ClipRow(name=shown(clip.name), clip=to_text(clip), start=clip.start.isoformat() if clip.start else None)
            for clip in clips
        ]
        session.add(row)
        session.flush()
        _add_files(session, row.id, files, result)
        return row.id


def _copy_row(copy: Copy) -> CopyRow:
    return CopyRow(
        destination=shown(copy.destination),
        root=shown(copy.root),
        manifest=shown(copy.manifest),
        files_verified=copy.files_verified,
        status=copy.status,
        verified=datetime.now(UTC) if copy.manifest else None,
        disk=copy.disk,
        disk_words=copy.disk_words,
    )


def _twin(copy: CopyRow) -> CopyRow:
    names = (
        "destination", "root", "manifest", "files_verified", "status", "verified", "disk", "disk_words", "last_check"
    )  # fmt: skip
    return CopyRow(**{name: getattr(copy, name) for name in names})


def _add_files(session: Session, waybill_id: int, files: Sequence[FileEntry], result: OffloadResult) -> None:
    kept = {file.path: file.digests for file in result.kept}
    session.add_all(
        FileRow(
            waybill_id=waybill_id,
            path=shown(file.path),
            size_bytes=file.size_bytes,
            changed_ns=file.changed_ns,
            digests=to_text(kept[file.path], dict[str, str]),
        )
        for file in files
        if file.path in kept
    )


def waybills(ledger: Ledger, search: str = "") -> list[WaybillEntry]:
    """All offloads, the newest first; with a search, those whose card, shoot, day, clips or digests hold the text."""
    with ledger.session() as session:
        counts = dict(session.execute(select(ClipRow.waybill_id, func.count()).group_by(ClipRow.waybill_id)).all())
        names = dict(session.execute(select(ShootRow.id, ShootRow.name)).all())
        rows = session.scalars(_searched(search).order_by(WaybillRow.started.desc(), WaybillRow.id.desc())).all()
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
                tuple(_copy_entry(copy) for copy in row.copies),
                row.result.count('"what"'),
                names.get(row.shoot_id, ""),
            )
            for row in rows
        ]


def _searched(text: str) -> Select[WaybillRow]:
    wanted = select(WaybillRow).options(selectinload(WaybillRow.copies))
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


def _copy_entry(row: CopyRow) -> CopyEntry:
    return CopyEntry(
        row.destination,
        row.root,
        row.manifest,
        row.files_verified,
        row.status,
        row.disk,
        row.disk_words,
        row.verified.replace(tzinfo=UTC) if row.verified else None,
        row.last_check,
    )


def last_disks(ledger: Ledger) -> dict[str, str]:
    """For each place that something was kept in, the disk that it was on then, by its key."""
    return {
        copy.destination: copy.disk
        for entry in reversed(waybills(ledger))
        for copy in entry.copies
        if copy.proven and copy.disk
    }


def record_check(ledger: Ledger, root: Path, words: str, *, matches: bool) -> None:
    """Writes down that a copy was read back, and whether every listed file was there as it had been."""
    with ledger.session() as session:
        for row in session.scalars(select(CopyRow).where(CopyRow.root == shown(str(root)))):
            row.verified, row.last_check = datetime.now(UTC), words
            row.status = "proven" if matches else "incomplete"


def add_copies(ledger: Ledger, of_root: Path, copies: Sequence[Copy]) -> bool:
    """Adds copies that were made from a copy to its waybill; false when the ledger does not know that one."""
    with ledger.session() as session:
        known = session.scalar(select(CopyRow).where(CopyRow.root == shown(str(of_root))))
        if known is None:
            return False
        waybill = session.get_one(WaybillRow, known.waybill_id)
        roots = {shown(copy.root) for copy in copies}
        waybill.copies = [copy for copy in waybill.copies if copy.root not in roots] + [
            _copy_row(copy) for copy in copies
        ]
        return True


def _copies(row: WaybillRow) -> tuple[Copy, ...]:
    return tuple(
        Copy(
            copy.destination,
            copy.root,
            copy.manifest,
            copy.files_verified,
            0,
            copy.status,  # type: ignore[arg-type]  # written from a CopyStatus
            True,
            copy.disk,
            copy.disk_words,
        )
        for copy in row.copies
    )


def kept_clips(ledger: Ledger, shoot_id: int) -> list[KeptClip]:
    """The clips of a shoot that stand in at least one proven copy, in order of time."""
    with ledger.session() as session:
        rows = session.execute(
            select(ClipRow, WaybillRow)
            .join(WaybillRow, ClipRow.waybill_id == WaybillRow.id)
            .where(func.coalesce(ClipRow.shoot_id, WaybillRow.shoot_id) == shoot_id)
            .options(selectinload(ClipRow.outputs), selectinload(WaybillRow.copies))
            .order_by(ClipRow.id)
        ).all()
        # A card's copies are looked for once, however many clips it has.
        places: dict[int, tuple[tuple[Copy, ...], Path | None]] = {}
        found = []
        for clip_row, waybill in rows:
            if waybill.id not in places:
                places[waybill.id] = _standing(waybill)
            copies, root = places[waybill.id]
            if root is not None:
                found.append(_kept_clip(clip_row, waybill.card, root, copies))
        # By the instant, not by its text: clocks of different zones stand side by side.
        return sorted(
            found, key=lambda kept: (kept.clip.start is None, kept.clip.start or _NEVER, kept.card, kept.clip.name)
        )


def _standing(waybill: WaybillRow) -> tuple[tuple[Copy, ...], Path | None]:
    """A card's copies, and the proven one that is at hand, or else any proven one."""
    copies = _copies(waybill)
    roots = [Path(copy.root) for copy in copies if copy.status == "proven"]
    return copies, next((root for root in roots if root.is_dir()), roots[0] if roots else None)


def _kept_clip(row: ClipRow, card: str, root: Path, copies: tuple[Copy, ...]) -> KeptClip:
    return KeptClip(
        row.id,
        card,
        from_text(Clip, row.clip),
        root,
        copies,
        from_text(Facts, row.facts) if row.facts else None,
        tuple(from_text(Output, output.result) for output in row.outputs),
        opinion_of(row),
    )


def send_clips(ledger: Ledger, waybill_id: int, names: Iterable[str], shoot_id: int) -> None:
    """Lets clips of a card belong to another shoot; their copy stays where it lies, with the first."""
    with ledger.session() as session:
        asked = select(ClipRow).where(
            ClipRow.waybill_id == waybill_id, ClipRow.name.in_([shown(name) for name in names])
        )
        for row in session.scalars(asked):
            row.shoot_id = shoot_id


def record_facts(ledger: Ledger, clip_id: int, facts: Facts) -> None:
    """Writes down what a clip is; a clip that is no longer there is passed over."""
    with ledger.session() as session:
        row = session.get(ClipRow, clip_id)
        if row is not None:
            row.facts = to_text(facts)


def record_many_facts(ledger: Ledger, found: Sequence[tuple[int, Facts]]) -> None:
    """The same for many clips at once."""
    wanted = dict(found)
    with ledger.session() as session:
        for row in session.scalars(select(ClipRow).where(ClipRow.id.in_(wanted))):
            row.facts = to_text(wanted[row.id])


def record_output(ledger: Ledger, clip_id: int, output: Output, version: str) -> None:
    """Writes down what was made of a clip, delivered or not."""
    with ledger.session() as session:
        if session.get(ClipRow, clip_id) is not None:
            session.add(
                OutputRow(
                    clip_id=clip_id,
                    path=shown(output.output),
                    recipe=output.recipe,
                    made=datetime.now(UTC),
                    version=version,
                    result=to_text(output),
                )
            )


@dataclass(frozen=True, slots=True)
class ProvenFile:
    """A file of a card as proven copies have it."""

    path: str
    digests: dict[str, str]
    waybill_id: int


# SQLite takes a limited number of values in one question.
_AT_ONCE = 500


def proven_files(ledger: Ledger, files: Sequence[FileEntry]) -> dict[str, ProvenFile]:
    """Those of these files that, by name, size and time, stand in a proven copy already.

    This is a quick recognition: nothing of the card is read for it.
    """
    found: dict[str, ProvenFile] = {}
    proven = select(CopyRow.waybill_id).where(CopyRow.status == "proven")
    with ledger.session() as session:
        for begin in range(0, len(files), _AT_ONCE):
            some = {shown(file.path): file for file in files[begin : begin + _AT_ONCE]}
            asked = select(FileRow).where(FileRow.path.in_(some), FileRow.waybill_id.in_(proven))
            for row in session.scalars(asked):
                file = some[row.path]
                if (row.size_bytes, row.changed_ns) == (file.size_bytes, file.changed_ns):
                    found[file.path] = ProvenFile(file.path, from_text(dict[str, str], row.digests), row.waybill_id)
    return found
