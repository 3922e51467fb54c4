"""When the pictures of a clip are shown, found without the clock that outputs are made by: a check must not share it.

ISO base media tell it in their tables, edit lists included, and transport streams in the heads of their packets. Of
other files the stamps of the packets are taken, as the media library gives them, sorted.
"""

from __future__ import annotations

import threading
from collections.abc import Sequence
from concurrent.futures import ThreadPoolExecutor
from fractions import Fraction
from pathlib import Path

import av
import av.error
import numpy as np
from numpy.typing import NDArray

from diadoche.core.boxes import movie_payload
from diadoche.core.convert.stream_stamps import stream_stamps
from diadoche.core.identify.container import container_of
from diadoche.core.identify.damage import is_cut_off
from diadoche.core.media import opened
from diadoche.core.sampletable import picture_table
from diadoche.core.spans import parts

_WRAP = 1 << 33
_TRANSPORT_TICK_S = 1 / 90_000
Instants = NDArray[np.float64]


class InstantsBeside:
    """Reads the instants of a source on a thread, beside the pass that makes the output: both find it in memory."""

    def __init__(self, paths: Sequence[Path], rate: Fraction) -> None:
        """See `source_instants`."""
        self._stop = threading.Event()
        self._paths, self._rate = paths, rate
        self._pool = ThreadPoolExecutor(1, "instants of a source")
        self._found = self._pool.submit(source_instants, paths, rate, self._stop, by_heads=True, as_coded=True)

    def __enter__(self) -> InstantsBeside:
        return self

    def __exit__(self, *_error: object) -> None:
        """Ends the thread, whatever became of the output; it stops at the next packet."""
        self._stop.set()
        self._pool.shutdown(wait=False)

    def result(self, pictures: int) -> Instants | None:
        """What was found, in the order of coding, waited for.

        Args:
            pictures: how many were taken out of the source; each may be two fields that are coded by themselves.
        """
        found = self._found.result()
        if found is None or len(found) in {pictures, 2 * pictures}:
            return found
        # Pictures stand behind others in the packets of their stream: their heads tell of the first ones alone.
        return source_instants(self._paths, self._rate, self._stop, as_coded=True)


def source_instants(
    paths: Sequence[Path],
    rate: Fraction,
    stop: threading.Event | None = None,
    track: int = 0,
    *,
    by_heads: bool = False,
    as_coded: bool = False,
) -> Instants | None:
    """When each picture that a clip codes is shown, in seconds from the first; None where its stamps do not tell.

    Fields that are coded by themselves have an instant each. Pictures that do not decode are among them.

    Args:
        paths: the spans.
        rate: of the pictures, for the length of the last one of each part.
        stop: reading ends when it is set; then nothing is known.
        track: which of the picture tracks, of files that hold several.
        by_heads: of a transport stream the heads of its packets are enough; they may tell of fewer pictures.
        as_coded: in the order of coding; else in that of showing.
    """
    joined: list[Instants] = []
    begins_s = 0.0
    for part in parts(paths):
        found = _instants(part, stop, track, by_heads=by_heads)
        if found is None or not found.size:
            return None
        joined.append(found - found.min() + begins_s)
        begins_s = float(joined[-1].max() + 1 / rate)
    instants = np.concatenate(joined)
    return instants if as_coded else np.sort(instants)


def _instants(part: Sequence[Path], stop: threading.Event | None, track: int, *, by_heads: bool) -> Instants | None:
    container = container_of(part[0])
    # The table of a file that was cut off tells of pictures that are gone.
    if not track and len(part) == 1 and container in {"MP4", "MOV"} and not is_cut_off(part[0], container):
        movie = movie_payload(part[0])
        table = picture_table(movie) if movie is not None else None
        if table is not None:
            return np.array(table.stamps_as_coded, np.float64) * float(table.tick_s)
    if container == "AVI":
        # It numbers what is coded, and tells nothing of the order of showing.
        return None
    stamps = stream_stamps(part, stop) if by_heads and not track else None
    if stamps is not None:
        return _on_one_clock(stamps.shown, stamps.decoded, _TRANSPORT_TICK_S)
    with opened(part) as media:
        stream = media.streams.video[track]
        shown: list[int] = []
        coded: list[int] = []
        try:
            for packet in media.demux(stream):
                # What an edit list hides is not shown.
                if not packet.size or packet.is_discard:
                    continue
                if packet.pts is None or (stop is not None and stop.is_set()):
                    return None
                shown.append(packet.pts)
                # The first ones of a container that stores none have no time of decoding that anybody could derive.
                if packet.dts is not None:
                    coded.append(packet.dts)
        except av.error.FFmpegError:
            # What follows a damaged place is not known.
            return None
        return _on_one_clock(
            np.array(shown, np.int64), np.array(coded or shown, np.int64), float(stream.time_base or 0)
        )


def _on_one_clock(shown: NDArray[np.int64], coded: NDArray[np.int64], tick_s: float) -> Instants | None:
    # A clock that went back begins anew somewhere: stamps would be nonsense.
    if np.any(np.diff(_unwrapped(coded)) < 0):
        return None
    return _unwrapped(shown).astype(np.float64) * tick_s


def _unwrapped(stamps: NDArray[np.int64]) -> NDArray[np.int64]:
    """Stamps of 33 bits that start again among them [13818-1, 2.4.3.7]."""
    if stamps.size and stamps.max() - stamps.min() > _WRAP // 2:
        stamps = np.where(stamps < _WRAP // 2, stamps + _WRAP, stamps)
    return stamps
