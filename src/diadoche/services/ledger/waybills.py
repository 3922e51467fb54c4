"""What the ledger knows about offloads, copies, clips and outputs."""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from dataclasses import dataclass
from datetime import UTC, datetime
from pathlib import Path

from sqlalchemy import func, select
from sqlalchemy.orm import Session

from diadoche.core.cards.clips import Clip
from diadoche.core.cards.tree import FileEntry
from diadoche.core.convert.outputs import Output
from diadoche.core.errors import Problem
from diadoche.core.identify.facts import Facts
from diadoche.core.names import shown
from diadoche.core.offload.offload import Copy, OffloadResult
from diadoche.services.ledger.ledger import Ledger
from diadoche.services.ledger.models import ClipRow, CopyRow, FileRow, OutputRow, WaybillRow
from diadoche.services.wire import from_text, to_text

_NEVER = datetime.max.replace(tzinfo=UTC)


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
    copies: tuple[Copy, ...]
    problems: int

    @property
    def proven(self) -> int:
        """How many copies are proven."""
        return sum(copy.status == "proven" for copy in self.copies)


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

    @property
    def paths(self) -> tuple[Path, ...]:
        """The spans in a copy that is there."""
        return tuple(self.root / span for span in self.clip.spans)

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
    """Writes an offload down; an earlier, interrupted run into the same folders is replaced."""
    with ledger.session() as session:
        roots = [copy.root for copy in result.copies]
        for row in session.scalars(select(WaybillRow).join(CopyRow).where(CopyRow.root.in_(roots)).distinct()):
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
        row.copies = [_copy_row(copy) for copy in result.copies]
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
    )


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


def waybills(ledger: Ledger) -> list[WaybillEntry]:
    """All offloads, the newest first."""
    with ledger.session() as session:
        counts = dict(session.execute(select(ClipRow.waybill_id, func.count()).group_by(ClipRow.waybill_id)).all())
        rows = session.scalars(select(WaybillRow).order_by(WaybillRow.started.desc(), WaybillRow.id.desc())).all()
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
                _copies(row),
                row.result.count('"what"'),
            )
            for row in rows
        ]


def _copies(row: WaybillRow) -> tuple[Copy, ...]:
    return tuple(
        Copy(copy.destination, copy.root, copy.manifest, copy.files_verified, 0, copy.status)  # type: ignore[arg-type]  # written from a CopyStatus
        for copy in row.copies
    )


def kept_clips(ledger: Ledger, shoot_id: int) -> list[KeptClip]:
    """The clips of a shoot that stand in at least one proven copy, in order of time."""
    with ledger.session() as session:
        rows = session.execute(
            select(ClipRow, WaybillRow)
            .join(WaybillRow, ClipRow.waybill_id == WaybillRow.id)
            .where(WaybillRow.shoot_id == shoot_id)
            .order_by(ClipRow.id)
        ).all()
        found = []
        for clip_row, waybill in rows:
            copies = _copies(waybill)
            proven = [copy for copy in copies if copy.status == "proven"]
            standing = next((copy for copy in proven if Path(copy.root).is_dir()), proven[0] if proven else None)
            if standing is not None:
                found.append(_kept_clip(clip_row, waybill.card, Path(standing.root), copies))
        # By the instant, not by its text: clocks of different zones stand side by side.
        return sorted(
            found, key=lambda kept: (kept.clip.start is None, kept.clip.start or _NEVER, kept.card, kept.clip.name)
        )


def _kept_clip(row: ClipRow, card: str, root: Path, copies: tuple[Copy, ...]) -> KeptClip:
    return KeptClip(
        row.id,
        card,
        from_text(Clip, row.clip),
        root,
        copies,
        from_text(Facts, row.facts) if row.facts else None,
        tuple(from_text(Output, output.result) for output in row.outputs),
    )


def record_facts(ledger: Ledger, clip_id: int, facts: Facts) -> None:
    """Writes down what a clip is; a clip that is no longer there is passed over."""
    with ledger.session() as session:
        row = session.get(ClipRow, clip_id)
        if row is not None:
            row.facts = to_text(facts)


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


def proven_paths(ledger: Ledger, files: Iterable[FileEntry]) -> frozenset[str]:
    """Which of these files, by name, size and time, stand in a proven copy already.

    This is a quick recognition: nothing of the card is read for it.
    """
    with ledger.session() as session:
        proven = select(CopyRow.waybill_id).where(CopyRow.status == "proven")
        known = {
            (row.path, row.size_bytes, row.changed_ns)
            for row in session.scalars(select(FileRow).where(FileRow.waybill_id.in_(proven)))
        }
    return frozenset(file.path for file in files if (shown(file.path), file.size_bytes, file.changed_ns) in known)
