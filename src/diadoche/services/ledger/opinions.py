"""What a person says of clips: keep, maybe or no, tags, and a note."""

from __future__ import annotations

import json
from collections.abc import Sequence
from dataclasses import dataclass
from typing import Literal, cast

from sqlalchemy import Table, update

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
# The database takes 32,766 values in a statement [SQLite, limits: SQLITE_MAX_VARIABLE_NUMBER].
_AT_ONCE = 5_000


def opinion_of(row: ClipRow) -> Opinion:
    """What stands in the ledger."""
    if (row.verdict, row.tags, row.note) == ("", "[]", ""):
        return NO_OPINION
    return Opinion(row.verdict, tuple(json.loads(row.tags)), row.note)  # type: ignore[arg-type]  # one of the four


def judge_clips(ledger: Ledger, opinions: Sequence[tuple[int, Opinion]]) -> None:
    """Writes down what is thought of some clips, by their numbers."""
    clips_of: dict[Opinion, list[int]] = {}
    for clip_id, opinion in opinions:
        clips_of.setdefault(opinion, []).append(clip_id)
    if not clips_of:
        return
    with ledger.session() as session:
        table = cast("Table", ClipRow.__table__)
        for opinion, clip_ids in clips_of.items():
            said = {"verdict": opinion.verdict, "tags": json.dumps(opinion.tags), "note": opinion.note}
            # Many at once: as many statements hold up every other thread. A clip that is gone is none.
            for begin in range(0, len(clip_ids), _AT_ONCE):
                some = clip_ids[begin : begin + _AT_ONCE]
                session.execute(update(table).where(table.c.id.in_(some)).values(said))
