"""Clips that stand in copies: where each can be read, what is known of it, what was made of it."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Sequence
from dataclasses import dataclass, replace
from datetime import UTC, datetime
from pathlib import Path

from sqlalchemy import func, select
from sqlalchemy.orm import Session, selectinload

from diadoche.core.cards.clips import Clip
from diadoche.core.convert.outputs import Output
from diadoche.core.convert.record import OutputRecord
from diadoche.core.identify.facts import Facts
from diadoche.core.names import shown
from diadoche.services.ledger.copies import CopyEntry, copy_entry
from diadoche.services.ledger.ledger import Ledger
from diadoche.services.ledger.models import ClipRow, FileRow, OutputRow, WaybillRow
from diadoche.services.ledger.opinions import NO_OPINION, Opinion, opinion_of
from diadoche.services.wire import ValuesByText, from_text, to_text

# All clips of a shoot are read again when a job ends, and few of them are others.
_PARSED = ValuesByText(60_000)
_NEVER = datetime.max.replace(tzinfo=UTC)


@dataclass(slots=True, eq=False)
class KeptClip:
    """A clip that has been offloaded: where it can be read, what is known, what was made of it.

    Nothing of it changes but what the person says of it, and that only on the window's thread: one key judges ten
    thousand, and to make as many anew takes as long as a step of the window may.
    """

    id: int
    card: str
    clip: Clip
    root: Path
    copies: tuple[CopyEntry, ...]
    facts: Facts | None
    outputs: tuple[Output, ...]
    opinion: Opinion = NO_OPINION

    @property
    def paths(self) -> tuple[Path, ...]:
        """The spans in a copy that is there."""
        return tuple(self.root / span for span in self.clip.spans)

    @property
    def first_file(self) -> Path | None:
        """The file that its first picture is in."""
        return self.root / self.clip.spans[0] if self.clip.spans else None

    @property
    def sounds(self) -> tuple[Path, ...]:
        """Files beside the spans that hold sound alone."""
        return tuple(path for role, path in self.companions if role == "sound")

    @property
    def has_sounds(self) -> bool:
        """Whether there are any."""
        return any(each.role == "sound" for each in self.clip.companions)

    @property
    def companions(self) -> tuple[tuple[str, Path], ...]:
        """Role and path of each companion."""
        return tuple((each.role, self.root / each.path) for each in self.clip.companions)


def kept_clips(
    ledger: Ledger,
    shoot_id: int,
    is_there: Callable[[Path, Path], bool | None] = lambda path, _place: path.is_dir(),
    *,
    only_unknown: bool = False,
) -> list[KeptClip]:
    """The clips of a shoot that stand in at least one copy that was whole when last looked at, in order of time.

    Args:
        ledger: that knows them.
        shoot_id: of the shoot.
        is_there: whether a copy's folder is there, by it and its place; None where that is not known.
        only_unknown: those of which nothing is known yet.
    """
    asked = (
        select(ClipRow, WaybillRow)
        .join(WaybillRow, ClipRow.waybill_id == WaybillRow.id)
        .where(func.coalesce(ClipRow.shoot_id, WaybillRow.shoot_id) == shoot_id)
    )
    if only_unknown:
        asked = asked.where(func.coalesce(ClipRow.facts, "") == "")
    with ledger.session() as session:
        rows = session.execute(
            asked.options(selectinload(ClipRow.outputs), selectinload(WaybillRow.copies)).order_by(ClipRow.id)
        ).all()
        # A card's copies are looked for once, however many clips it has.
        places: dict[int, tuple[tuple[CopyEntry, ...], Path | None]] = {}
        found = []
        for clip_row, waybill in rows:
            if waybill.id not in places:
                places[waybill.id] = _standing(waybill, is_there)
            copies, root = places[waybill.id]
            if root is not None:
                found.append(_kept_clip(clip_row, waybill.card, root, copies))
        # By the instant, not by its text: clocks of different zones stand side by side.
        return sorted(
            found, key=lambda kept: (kept.clip.start is None, kept.clip.start or _NEVER, kept.card, kept.clip.name)
        )


def _standing(
    waybill: WaybillRow, is_there: Callable[[Path, Path], bool | None]
) -> tuple[tuple[CopyEntry, ...], Path | None]:
    """A card's copies, and one that may be read and is at hand, or else any that may be read."""
    copies = tuple(copy_entry(row) for row in waybill.copies)
    read = [copy for copy in copies if copy.may_be_read]
    here = (copy for copy in read if is_there(Path(copy.root), Path(copy.destination)))
    chosen = next(here, read[0] if read else None)
    return copies, Path(chosen.root) if chosen is not None else None


def _kept_clip(row: ClipRow, card: str, root: Path, copies: tuple[CopyEntry, ...]) -> KeptClip:
    return KeptClip(
        row.id,
        card,
        _PARSED.value(Clip, row.clip),
        root,
        copies,
        _PARSED.value(Facts, row.facts) if row.facts else None,
        tuple(_PARSED.value(Output, output.result) for output in row.outputs),
        opinion_of(row),
    )


def delivered(clip: KeptClip, is_there: Callable[[Path], bool | None] = Path.exists) -> Path | None:
    """The newest output of a whole clip that passed its checks and is there, or may be: its disk may not have answered.

    What was made of a part stands for no clip.
    """
    for output in reversed(clip.outputs):
        is_part = output.record is not None and output.record.marks is not None
        if output.output and not is_part and is_there(Path(output.output)) is not False:
            return Path(output.output)
    return None


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


def _with_digests(session: Session, clip: ClipRow, record: OutputRecord | None) -> OutputRecord | None:
    """The digests that its card's files were proven by; a source lies in a copy, under the card's own path."""
    if record is None:
        return None
    sizes = {source.size_bytes for source in record.sources}
    rows = session.scalars(
        select(FileRow).where(FileRow.waybill_id == clip.waybill_id, FileRow.size_bytes.in_(sizes))
    ).all()
    known: dict[str, dict[str, str]] = {}
    for source in record.sources:
        for row in rows:
            if source.path.endswith(f"/{row.path}") and row.size_bytes == source.size_bytes:
                known[source.path] = from_text(dict[str, str], row.digests)
    return record.with_digests(known)


def record_output(ledger: Ledger, clip_id: int, output: Output, version: str) -> None:
    """Writes down what was made of a clip, delivered or not, with what the ledger knows of its originals."""
    with ledger.session() as session:
        clip = session.get(ClipRow, clip_id)
        if clip is not None:
            output = replace(output, record=_with_digests(session, clip, output.record))
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
