"""Progressive or interlaced, decided by looking where things move.

For two pictures in a row, each split into its top field T and bottom field B, the combing of three
weaves is compared: both fields of one picture (own), the next T with this B (later top), this T with
the next B (later bottom). Where things move, fields that are closer in time comb less:

    progressive          own is least, the two others are alike
    top field first      own and later top are one field apart, later bottom three
    bottom field first   the mirror image

Only places that move are counted, so that fine still detail decides nothing.
"""

from __future__ import annotations

from collections.abc import Iterable, Iterator
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from diadoche.core.identify.facts import CombEvidence, FieldOrder, Scan

_MOVES_BY = 14
_FEWEST_MOVING = 200
_WEAKEST_COMBING = 1.0
_CLOSER = 0.75
_ALIKE = 0.8
_BLOCK_PX = 64
_FEWEST_VOTES = 2
_MINORITY = 0.2

Luma = NDArray[np.uint8]


@dataclass(frozen=True, slots=True)
class ScanVerdict:
    """What the pictures show; the order is known only where fields were seen."""

    scan: Scan
    field_order: FieldOrder | None = None
    evidence: CombEvidence | None = None


@dataclass(frozen=True, slots=True)
class _Vote:
    kind: str
    combing: float
    evidence: CombEvidence


def judge(windows: Iterable[Iterable[tuple[float, Luma]]]) -> ScanVerdict:
    """Judges pictures taken from a few places of a clip.

    Args:
        windows: runs of pictures that follow each other, each with its time in seconds; luma of
            shape (lines, columns), 8 bits.
    """
    votes = [vote for window in windows for vote in _votes(window)]
    counts = {kind: sum(vote.kind == kind for vote in votes) for kind in ("progressive", "top", "bottom")}
    fields = counts["top"] + counts["bottom"]
    if len(votes) < _FEWEST_VOTES:
        return ScanVerdict("undecided")
    order: FieldOrder = "top" if counts["top"] >= counts["bottom"] else "bottom"
    combed = [vote for vote in votes if vote.kind != "progressive"]
    evidence = max(combed, key=lambda vote: vote.combing).evidence if combed else None
    if min(fields, counts["progressive"]) >= _MINORITY * len(votes):
        return ScanVerdict("mixed", order, evidence)
    if fields > counts["progressive"]:
        return ScanVerdict("interlaced", order, evidence)
    return ScanVerdict("progressive")


def _votes(window: Iterable[tuple[float, Luma]]) -> Iterator[_Vote]:
    earlier: tuple[float, Luma] | None = None
    for time_s, luma in window:
        if earlier is not None:
            vote = _vote(*earlier, luma)
            if vote is not None:
                yield vote
        earlier = time_s, luma


def _vote(time_s: float, this: Luma, following: Luma) -> _Vote | None:
    lines = min(this.shape[0], following.shape[0]) // 2 * 2
    top, bottom = this[0:lines:2].astype(np.int16), this[1:lines:2].astype(np.int16)
    next_top, next_bottom = following[0:lines:2].astype(np.int16), following[1:lines:2].astype(np.int16)
    moves = (np.abs(next_top - top) > _MOVES_BY) | (np.abs(next_bottom - bottom) > _MOVES_BY)
    moves = moves[:-1]
    if int(moves.sum()) < _FEWEST_MOVING:
        return None
    own_map = _combing(top, bottom)
    own = float(own_map[moves].mean())
    later_top = float(_combing(next_top, bottom)[moves].mean())
    later_bottom = float(_combing(top, next_bottom)[moves].mean())
    less, more = sorted((later_top, later_bottom))
    if more < _WEAKEST_COMBING:
        return None
    evidence = _strongest(own_map * moves, time_s)
    if less < _CLOSER * more and own < _CLOSER * more:
        return _Vote("top" if later_top < later_bottom else "bottom", own, evidence)
    if less >= _ALIKE * more and own < _CLOSER * less:
        return _Vote("progressive", own, evidence)
    return None


def _combing(upper: NDArray[np.int16], between: NDArray[np.int16]) -> NDArray[np.int16]:
    """How far each line of one field lies outside what the lines above and below it span."""
    above, below, line = upper[:-1], upper[1:], between[:-1]
    outside: NDArray[np.int16] = np.maximum(line - np.maximum(above, below), np.minimum(above, below) - line)
    return np.maximum(outside, 0)


def _strongest(combing: NDArray[np.int16], time_s: float) -> CombEvidence:
    high, wide = _BLOCK_PX // 2, _BLOCK_PX
    rows, columns = max(1, combing.shape[0] // high), max(1, combing.shape[1] // wide)
    cut = combing[: rows * high, : columns * wide]
    if cut.shape != (rows * high, columns * wide):
        return CombEvidence(time_s, 0, 0, _BLOCK_PX)
    blocks = cut.reshape(rows, high, columns, wide).sum(axis=(1, 3), dtype=np.int64)
    row, column = np.unravel_index(int(blocks.argmax()), blocks.shape)
    return CombEvidence(time_s, int(column) * wide, int(row) * _BLOCK_PX, _BLOCK_PX)
