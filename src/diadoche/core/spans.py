"""Which spans of a clip are read as one stream of bytes, and which are parts that are opened by themselves."""

from __future__ import annotations

import itertools
from collections.abc import Sequence
from fractions import Fraction
from pathlib import Path

from diadoche.core.errors import MediaError
from diadoche.core.identify.container import TRANSPORT, container_of
from diadoche.core.media import decoding, opened

# Sound and picture of a camera end up to a few frames apart, and so do its estimates of a length.
_SEAM_S = Fraction(1, 4)


def parts(paths: Sequence[Path]) -> list[tuple[Path, ...]]:
    """Which spans can be read as one stream of bytes. Each part is opened by itself."""
    groups: list[list[Path]] = [[paths[0]]]
    for before, after in itertools.pairwise(paths):
        if _is_transport(before) and _is_transport(after) and _clock_runs_on(before, after, otherwise=True):
            groups[-1].append(after)
        else:
            groups.append([after])
    return [tuple(group) for group in groups]


def runs_on(before: Path, after: Path) -> bool:
    """Whether two transport streams are spans of one recording, by their clocks alone."""
    return _is_transport(before) and _is_transport(after) and _clock_runs_on(before, after, otherwise=False)


def _is_transport(path: Path) -> bool:
    # A span may begin in the middle of a packet; only what the camera called it is left then.
    return container_of(path) in TRANSPORT or path.suffix.upper() in {".MTS", ".M2TS"}


def _clock_runs_on(before: Path, after: Path, *, otherwise: bool) -> bool:
    try:
        ends_s, begins_s = _edge_s(before, last=True), _edge_s(after, last=False)
        return abs(begins_s - ends_s) < _SEAM_S and begins_s > _edge_s(before, last=False)
    except (MediaError, ValueError):
        # Too short or too broken to have a clock of its own: only the joined stream can be understood.
        return otherwise


def _edge_s(path: Path, *, last: bool) -> Fraction:
    with opened([path]) as media, decoding(path):
        stream = media.streams.video[0] if media.streams.video else media.streams[0]
        base = stream.time_base or Fraction(1, 90_000)
        if stream.start_time is None or (last and stream.duration is None):
            raise ValueError
        return (stream.start_time + ((stream.duration or 0) if last else 0)) * base
