"""Which files of a card stand in proven copies that are here now: the ledger's word, and a look at each file."""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from dataclasses import dataclass, field
from pathlib import Path

from sqlalchemy import select

from diadoche.core.answering import answered
from diadoche.core.cards.tree import FileEntry
from diadoche.core.content_key import content_key
from diadoche.core.disks import distinct_disks
from diadoche.core.names import shown
from diadoche.core.offload.copies import CopyState
from diadoche.core.open_folder import OpenFolder, Placed
from diadoche.services.ledger.copies import CopyEntry, copy_entry, is_here
from diadoche.services.ledger.ledger import Ledger
from diadoche.services.ledger.models import CopyRow, FileRow, WaybillRow
from diadoche.services.ledger.waybills import kept_ns
from diadoche.services.wire import from_text


@dataclass(slots=True)
class ProvenFile:
    """A file of a card as proven copies have it, and those of them that are here and have it."""

    path: str
    digests: dict[str, str]
    waybill_id: int
    card: str
    copies: list[CopyEntry] = field(default_factory=list)

    @property
    def disks(self) -> int:
        """On how many disks, known to be different."""
        return distinct_disks(copy.disk for copy in self.copies)


# SQLite takes a limited number of values in one question.
_AT_ONCE = 500


def proven_files(ledger: Ledger, files: Sequence[FileEntry], card: Path | None = None) -> dict[str, ProvenFile]:
    """Those of these files that, by name, size, time and samples of what is in them, stand in a proven copy here.

    This is a quick recognition: of card and copy a quarter of a megabyte is read for each file, from many places in it.
    A camera whose clock stands still writes other clips under the same names, sizes and times.

    Args:
        ledger: that is asked.
        files: of the card.
        card: its top; None where it was read a moment ago, and its digests are those of the ledger.
    """
    candidates = _candidates(ledger, files)
    copies = _copies_here(ledger, {file.waybill_id for each in candidates.values() for file in each})
    found: dict[str, ProvenFile] = {}
    for entry in files:
        for file in candidates.get(entry.path, ()):
            for copy in copies.get(file.waybill_id, ()):
                if _stands(copy, entry, card):
                    found.setdefault(entry.path, file).copies.append(copy)
    return found


def _candidates(ledger: Ledger, files: Sequence[FileEntry]) -> dict[str, list[ProvenFile]]:
    found: dict[str, list[ProvenFile]] = {}
    proven = select(CopyRow.waybill_id).where(CopyRow.status == CopyState.PROVEN.value)
    with ledger.session() as session:
        for begin in range(0, len(files), _AT_ONCE):
            some = {shown(file.path): file for file in files[begin : begin + _AT_ONCE]}
            asked = (
                select(FileRow, WaybillRow.card)
                .join(WaybillRow, FileRow.waybill_id == WaybillRow.id)
                .where(FileRow.path.in_(some), FileRow.waybill_id.in_(proven))
                .order_by(FileRow.id.desc())
            )
            for row, card in session.execute(asked):
                file = some[row.path]
                if (row.size_bytes, row.changed_ns) == (file.size_bytes, kept_ns(file.changed_ns)):
                    digests = from_text(dict[str, str], row.digests)
                    found.setdefault(file.path, []).append(ProvenFile(file.path, digests, row.waybill_id, card))
    return found


def _copies_here(ledger: Ledger, waybill_ids: Iterable[int]) -> dict[int, list[CopyEntry]]:
    found: dict[int, list[CopyEntry]] = {}
    with ledger.session() as session:
        rows = session.scalars(select(CopyRow).where(CopyRow.waybill_id.in_(list(waybill_ids)))).all()
        entries = [(row.waybill_id, copy_entry(row)) for row in rows]
    for number, copy in entries:
        if copy.proven and is_here(copy):
            found.setdefault(number, []).append(copy)
    return found


def _stands(copy: CopyEntry, entry: FileEntry, card: Path | None) -> bool:
    """Whether the file is there under the name that it has in that copy, and what is in both looks the same."""
    kept_as = copy.renamed.get(shown(entry.path), entry.path)

    def look() -> bool:
        with OpenFolder.at(Path(copy.root)) as folder:
            if folder.size_of(kept_as) != entry.size_bytes:
                return False
            if card is None:
                return True
            here = content_key([card / entry.path])
            return bool(here) and here == content_key([Placed(folder, kept_as)])

    try:
        return answered(look)
    except OSError:
        return False
