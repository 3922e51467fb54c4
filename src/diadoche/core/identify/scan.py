"""Progressive or interlaced, decided by looking where things move.

For two pictures in a row, each split into its top field T and bottom field B, the combing of three
weaves is compared: both fields of one picture (own), the next T with this B (later top), this T with
the next B (later bottom). Where things move, fields that are closer in time comb less:

    progressive          own is least, the two others are alike
    top field first      own and later top are one field apart, later bottom three
    bottom field first   the mirror image

Only places that move are counted, so that fine still detail decides nothing. A vote that stands alone among others
counts for nothing: a recording is scanned one way for a while. It has one order of fields, so that votes for both
orders cancel each other. Beside fields, a vote for a whole picture counts only where it is clear: a light that flashes
for one picture, and fields whose pattern moves on by itself, look like one. Film on a video clock (2:3 pulldown) shows
each film picture for two fields, then for three: every fifth time, one field stands while the other moves.
"""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Sequence
from dataclasses import dataclass
from itertools import pairwise

import numpy as np
from numpy.typing import NDArray

from diadoche.core.identify.facts import CombEvidence, FieldOrder, Scan

_MOVES_BY = 14
_FEWEST_MOVING = 200
_WEAKEST_COMBING = 1.0
_CLOSER = 0.75
_ALIKE = 0.8
_NEARLY = 0.3
_BLOCK_PX = 64
_FEWEST_VOTES, _FEWEST_TOGETHER = 2, 5
_MINORITY = 0.2
# So many votes for one order of fields, beside one for whole pictures that is not clear, make it doubtful.
_DOUBTED = 0.5
# A field that is shown again differs by coding alone.
_STANDS = 0.12
_PULLDOWN_PICTURES = 5
# As many columns as are looked at; a wider picture is thinned out to that.
_COLUMNS = 480

Luma = NDArray[np.uint8]


@dataclass(frozen=True, slots=True)
class ScanVerdict:
    """What the pictures show; the order is known only where fields were seen."""

    scan: Scan
    field_order: FieldOrder | None = None
    evidence: CombEvidence | None = None
    pulldown: bool = False


@dataclass(frozen=True, slots=True)
class _Vote:
    kind: str
    combing: float
    # Of a progressive picture: whether its own weave hardly combs. Fields that alias, and lights that flash, do less.
    clear: bool = True
    time_s: float = 0.0
    combed: Luma | None = None
    step: int = 1


def judge(windows: Iterable[Iterable[Fields]]) -> ScanVerdict:
    """Judges pictures taken from a few places of a clip.

    Args:
        windows: runs of pictures that follow each other, as fields.
    """
    looked_at = [list(window) for window in windows]
    votes = [vote for window in looked_at for vote in _in_company(_undoubted(list(_votes(window))))]
    counts = {kind: sum(vote.kind == kind for vote in votes) for kind in ("progressive", "top", "bottom")}
    if len(votes) < _FEWEST_VOTES:
        return ScanVerdict("undecided")
    order: FieldOrder = "top" if counts["top"] >= counts["bottom"] else "bottom"
    # What is left where votes for both orders have cancelled each other.
    fields = abs(counts["top"] - counts["bottom"])
    combed = [vote for vote in votes if vote.kind == order]
    worst = max(combed, key=lambda vote: vote.combing, default=None)
    evidence = _strongest(worst) if worst is not None else None
    film = [found for window in looked_at if (found := _is_pulldown(window)) is not None]
    if film and sum(film) * 3 >= len(film) * 2 and fields:
        return ScanVerdict("interlaced", order, evidence, pulldown=True)
    if min(fields, counts["progressive"]) >= _MINORITY * len(votes):
        return ScanVerdict("mixed", order, evidence)
    if fields > counts["progressive"]:
        return ScanVerdict("interlaced", order, evidence)
    return ScanVerdict("progressive") if counts["progressive"] else ScanVerdict("undecided")


def _undoubted(votes: Sequence[_Vote]) -> list[_Vote]:
    """The votes of one place without those for whole pictures that are not clear, where fields are seen beside them."""
    doubtful = sum(not vote.clear for vote in votes)
    tops, bottoms = (sum(vote.kind == kind for vote in votes) for kind in ("top", "bottom"))
    return [vote for vote in votes if vote.clear] if abs(tops - bottoms) >= _DOUBTED * doubtful else list(votes)


def _in_company(votes: Sequence[_Vote]) -> list[_Vote]:
    """The votes that the one before or after agrees with; all of them where there are too few to tell."""
    if len(votes) < _FEWEST_TOGETHER:
        return list(votes)
    kinds = ["", *(vote.kind for vote in votes), ""]
    return [vote for place, vote in enumerate(votes, start=1) if vote.kind in {kinds[place - 1], kinds[place + 1]}]


def _is_pulldown(window: Sequence[Fields]) -> bool | None:
    """Whether one field stands while the other moves, each of them every fifth time; None where too little moves."""
    if len(window) <= _PULLDOWN_PICTURES or len({fields.top.shape for fields in window}) > 1:
        return None
    moved = [
        [int(np.count_nonzero(_apart(later, before) > _MOVES_BY)) for later, before in pairs]
        for pairs in (
            [(b.top, a.top) for a, b in pairwise(window)],
            [(b.bottom, a.bottom) for a, b in pairwise(window)],
        )
    ]
    usual = float(np.median(moved[0] + moved[1]))
    if usual * window[0].step < _FEWEST_MOVING:
        return None
    stands = [{place for place, count in enumerate(field) if count < usual * _STANDS} for field in moved]
    tops, bottoms = ({place % _PULLDOWN_PICTURES for place in places} for places in stands)
    apart = (next(iter(bottoms)) - next(iter(tops))) % _PULLDOWN_PICTURES if len(tops) == len(bottoms) == 1 else 0
    return apart in {2, 3} and not stands[0] & stands[1]


@dataclass(frozen=True, slots=True)
class Fields:
    """Both fields of a picture, every `step`-th column of them: what combs does so in whole lines. Time in seconds."""

    time_s: float
    top: Luma
    bottom: Luma
    step: int


def fields_of(time_s: float, luma: NDArray[np.uint8] | NDArray[np.uint16], bits: int) -> Fields:
    """The fields of a picture, copied out of it.

    Args:
        time_s: when it is shown.
        luma: shape (lines, columns).
        bits: how deep the samples are; they are looked at in 8.
    """
    lines, step = luma.shape[0] // 2 * 2, max(1, luma.shape[1] // _COLUMNS)
    halves = (luma[0:lines:2, ::step], luma[1:lines:2, ::step])
    top, bottom = ((half >> max(0, bits - 8)).astype(np.uint8) for half in halves)
    return Fields(time_s, top, bottom, step)


def seen_as(this: Fields, following: Fields) -> str | None:
    """What one picture is by sight: "progressive", or "top" or "bottom" for its first field; None where none tells.

    Args:
        this: the picture.
        following: the one after it.
    """
    vote = _vote(this, following) if this.top.shape == following.top.shape else None
    return vote.kind if vote is not None else None


def combing_between(top: Luma, bottom: Luma) -> float:
    """How far the lines of two fields lie outside each other, on average, in 8-bit code values."""
    return float(_combing(top, bottom).mean(dtype=np.float64)) if top.shape == bottom.shape else 0.0


def _votes(window: Iterable[Fields]) -> Iterator[_Vote]:
    earlier: Fields | None = None
    for fields in window:
        if earlier is not None and earlier.top.shape == fields.top.shape:
            vote = _vote(earlier, fields)
            if vote is not None:
                yield vote
        earlier = fields


def _vote(this: Fields, following: Fields) -> _Vote | None:
    moves = _apart(following.top, this.top) > _MOVES_BY
    moves |= _apart(following.bottom, this.bottom) > _MOVES_BY
    moves = moves[:-1]
    moving = int(np.count_nonzero(moves))
    if moving * this.step < _FEWEST_MOVING:
        return None
    # Gathered once: most of a picture stands still.
    places = np.flatnonzero(moves)
    own_map = _combing(this.top, this.bottom)
    own, later_top, later_bottom = (
        int(each.reshape(-1)[places].sum(dtype=np.int64)) / moving
        for each in (own_map, _combing(following.top, this.bottom), _combing(this.top, following.bottom))
    )
    less, more = sorted((later_top, later_bottom))
    if more < _WEAKEST_COMBING:
        return None
    # One field apart, both comb alike: where the own weave combs far less, there are no fields.
    if less < _CLOSER * more and _NEARLY * less <= own < _CLOSER * more:
        kind = "top" if later_top < later_bottom else "bottom"
        return _Vote(kind, own, True, this.time_s, own_map * moves, this.step)
    if own < _NEARLY * less or (less >= _ALIKE * more and own < _CLOSER * less):
        return _Vote("progressive", own, clear=own < _NEARLY * less)
    return None


def _apart(one: Luma, other: Luma) -> Luma:
    """How far samples differ, without leaving 8 bits."""
    return np.maximum(one, other) - np.minimum(one, other)


def _combing(upper: Luma, between: Luma) -> Luma:
    """How far each line of one field lies outside what the lines above and below it span."""
    above, below, line = upper[:-1], upper[1:], between[:-1]
    # One of the two is always nothing; both stay within 8 bits.
    over = line - np.minimum(line, np.maximum(above, below))
    under = np.maximum(line, np.minimum(above, below)) - line
    return over + under


def _strongest(vote: _Vote) -> CombEvidence:
    """The block of a picture that combs most."""
    assert vote.combed is not None
    high, wide = _BLOCK_PX // 2, max(1, _BLOCK_PX // vote.step)
    rows, columns = max(1, vote.combed.shape[0] // high), max(1, vote.combed.shape[1] // wide)
    cut = vote.combed[: rows * high, : columns * wide]
    if cut.shape != (rows * high, columns * wide):
        return CombEvidence(vote.time_s, 0, 0, _BLOCK_PX)
    blocks = cut.reshape(rows, high, columns, wide).sum(axis=(1, 3), dtype=np.int64)
    row, column = np.unravel_index(int(blocks.argmax()), blocks.shape)
    return CombEvidence(vote.time_s, int(column) * wide * vote.step, int(row) * _BLOCK_PX, _BLOCK_PX)
