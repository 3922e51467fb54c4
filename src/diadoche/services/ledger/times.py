"""When the cards of a shoot were recorded, by the dates of their clips."""

from __future__ import annotations

from datetime import datetime

from sqlalchemy import func, select

from diadoche.core.cards.clocks import Times
from diadoche.services.ledger.ledger import Ledger
from diadoche.services.ledger.models import ClipRow, WaybillRow


def recording_times(ledger: Ledger, shoot_id: int) -> dict[str, Times]:
    """The beginnings of the first and the last dated recording of each card, by the fingerprint of its content.

    Texts are compared, so that of recordings in different zones a neighbour of the first may be given.
    """
    asked = (
        select(WaybillRow.fingerprint, func.min(ClipRow.start), func.max(ClipRow.start))
        .join(ClipRow, ClipRow.waybill_id == WaybillRow.id)
        .where(WaybillRow.shoot_id == shoot_id, ClipRow.start.is_not(None))
        .group_by(WaybillRow.fingerprint)
    )
    with ledger.session() as session:
        rows = session.execute(asked).all()
    dated = ((card, first, last) for card, first, last in rows if first and last)
    return {card: (datetime.fromisoformat(first), datetime.fromisoformat(last)) for card, first, last in dated}
