"""What came off the card of a copy, for whoever reads that copy and cannot take its manifests' word for it."""

from __future__ import annotations

from pathlib import Path

from sqlalchemy import select
from sqlalchemy.orm import Session

from diadoche.core.answering import answered
from diadoche.core.errors import DiadocheError
from diadoche.core.offload.expected import CardTruth
from diadoche.core.offload.manifest_reading import read_history
from diadoche.services.ledger.copies import row_at, waybill_of
from diadoche.services.ledger.ledger import Ledger
from diadoche.services.ledger.models import CopyRow, WaybillRow
from diadoche.services.ledger.waybills import card_files
from diadoche.services.wire import from_text


def card_truth(ledger: Ledger, root: Path, fingerprint: str = "") -> CardTruth | None:
    """What the ledger kept of the readings of a copy's card; None where the copy's own manifests say it as well.

    It looks at the disk: not for the window's thread.

    Args:
        ledger: that is asked.
        root: the copy.
        fingerprint: of what lies there, by which a copy is known that lost its manifests and was moved.
    """
    with ledger.session() as session:
        row = row_at(session, root)
        if row is not None and row.copy_id and _vouched(root, row.copy_id):
            return None
        waybill = _waybill(session, row, root, fingerprint)
        if waybill is None:
            return None
        renamed = from_text(dict[str, str], row.renamed) if row is not None else {}
        return CardTruth(card_files(session, waybill.id), renamed, waybill.taking)


def _vouched(root: Path, copy_id: str) -> bool:
    """Whether the manifests are those that this program wrote for that copy, as they were written."""
    try:
        promise = answered(lambda: read_history(root))
    except (DiadocheError, OSError):
        return False
    return promise.identity.copy == copy_id and not promise.altered


def _waybill(session: Session, row: CopyRow | None, root: Path, fingerprint: str) -> WaybillRow | None:
    if row is not None:
        return session.get_one(WaybillRow, row.waybill_id)
    try:
        taking = answered(lambda: read_history(root)).identity.taking
    except (DiadocheError, OSError):
        taking = ""
    if (waybill := waybill_of(session, taking)) is not None:
        return waybill
    asked = select(WaybillRow).where(WaybillRow.fingerprint == fingerprint).order_by(WaybillRow.id)
    return session.scalars(asked).first() if fingerprint else None
