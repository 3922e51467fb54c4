"""What a person says of clips: keep, maybe or no, tags, and a note."""

from __future__ import annotations

import json
from collections.abc import Sequence
from dataclasses import dataclass
from typing import Literal, cast

from sqlalchemy import Table, bindparam, update

from diadoche.services.ledger.ledger import Ledger
from diadoche.services.ledger.models import ClipRow

Verdict = Literal["", "keep", "maybe", "no"]


@dataclass(frozen=True, slots=True)
class Opinion:
    """Of one clip; empty parts say nothing."""

    verdict: Verdict = ""
    tags: tuple[str, ...] = ()
    note: str = ""


NO_OPINION = Opinion()


def opinion_of(row: ClipRow) -> Opinion:
    """What stands in the ledger."""
    return Opinion(row.verdict, tuple(json.loads(row.tags)), row.note)  # type: ignore[arg-type]  # one of the four


def judge_clips(ledger: Ledger, opinions: Sequence[tuple[int, Opinion]]) -> None:
    """Writes down what is thought of some clips, by their numbers."""
    rows = [
        {"of": clip_id, "verdict": opinion.verdict, "tags": json.dumps(opinion.tags), "note": opinion.note}
        for clip_id, opinion in opinions
    ]
    if rows:
        with ledger.session() as session:
            # One statement for all: as many rows by themselves hold up every other thread. A clip that is gone is none.
            table = cast("Table", ClipRow.__table__)
            session.execute(update(table).where(table.c.id == bindparam("of")), rows)
