"""When the samples of a track are shown and where they lie, from the tables of an ISO base media file alone.

Source: [14496-12] ISO/IEC 14496-12:2022, 8.6.1.2 (stts), 8.6.1.3 (ctts), 8.6.2 (stss), 8.6.6 (elst), 8.7.3 (stsz),
8.7.4 (stsc), 8.7.5 (stco, co64).
"""

from __future__ import annotations

import struct
from dataclasses import dataclass
from fractions import Fraction

import numpy as np
from numpy.typing import NDArray

from diadoche.core.boxes import edits_of, find, is_fragmented, timescale_of

_LARGEST_COUNT = 100_000_000
_Numbers = NDArray[np.int64]


@dataclass(frozen=True, slots=True)
class SampleTable:
    """The samples of a track that its edit list shows. Stamps in ticks from the track's beginning.

    `stamps` are in the order of showing, `stamps_as_coded` in that of coding.
    """

    tick_s: Fraction
    stamps: tuple[int, ...]
    stamps_as_coded: tuple[int, ...]
    keys: int
    # All that are coded, shown or hidden.
    coded: int


def picture_table(movie: bytes) -> SampleTable | None:
    """The table of the first picture track; None where it has none that is whole.

    Args:
        movie: the payload of a movie box.
    """
    if is_fragmented(movie):
        return None
    for track in find(movie, "trak"):
        if next(find(track, "mdia", "hdlr"), b"")[8:12] == b"vide":
            return sample_table(movie, track)
    return None


def sample_table(movie: bytes, track: bytes) -> SampleTable | None:
    """The table of a track; None where it has none that is whole.

    Args:
        movie: the payload of a movie box.
        track: the payload of a track box in it.
    """
    try:
        return _table(track, timescale_of(next(find(movie, "mvhd"), b"")))
    except (struct.error, ValueError):
        return None


@dataclass(frozen=True, slots=True)
class SamplePlaces:
    """Where the samples of a track lie in their file, in the order of coding: offsets and sizes in bytes."""

    offsets: _Numbers
    sizes: _Numbers


def sample_places(track: bytes) -> SamplePlaces | None:
    """Where a track's samples lie, as far as all of its tables tell; None where they are not whole.

    Args:
        track: the payload of a track box.
    """
    tables = next(find(track, "mdia", "minf", "stbl"), b"")
    try:
        sizes = _sizes(next(find(tables, "stsz"), b""))
        chunks = _numbers(next(find(tables, "stco"), b""), ">u4")
        if not chunks.size:
            chunks = _numbers(next(find(tables, "co64"), b""), ">u8")
        in_chunk = _samples_in_chunks(next(find(tables, "stsc"), b""), chunks.size)
    except (struct.error, ValueError):
        return None
    chunk_of = np.repeat(np.arange(chunks.size), in_chunk)[: sizes.size]
    sizes = sizes[: chunk_of.size]
    before = np.concatenate([[0], np.cumsum(sizes)])[: sizes.size]
    first_in_chunk = np.concatenate([[0], np.cumsum(in_chunk)])[chunk_of]
    return SamplePlaces(chunks[chunk_of] + before - before[first_in_chunk], sizes)


def sample_ticks(track: bytes) -> list[int]:
    """How long each sample of a track lasts, in ticks; none where its table is not whole."""
    table = next(find(track, "mdia", "minf", "stbl", "stts"), b"")
    try:
        ticks: list[int] = _run_lengths(table, ">u4").tolist()
    except (struct.error, ValueError):
        return []
    return ticks


def _sizes(box: bytes) -> _Numbers:
    same, count = struct.unpack_from(">II", box, 4)
    if count > _LARGEST_COUNT:
        raise ValueError("no film has so many samples")
    if same:
        return np.full(count, same, np.int64)
    return np.frombuffer(box, ">u4", count, 12).astype(np.int64)


def _numbers(box: bytes, kind: str) -> _Numbers:
    if len(box) < 8:
        return np.zeros(0, np.int64)
    return np.frombuffer(box, kind, struct.unpack_from(">I", box, 4)[0], 8).astype(np.int64)


def _samples_in_chunks(box: bytes, chunks: int) -> _Numbers:
    """How many samples each chunk holds, from a table of where that changes.

    Raises:
        ValueError: it does not begin with the first chunk, goes back, or holds more than any film.
    """
    (count,) = struct.unpack_from(">I", box, 4)
    runs = np.frombuffer(box, ">u4", count * 3, 8).reshape(-1, 3).astype(np.int64)
    if not chunks and not runs.size:
        return np.zeros(0, np.int64)
    times = np.diff(np.append(runs[:, 0] - 1, chunks))
    if runs[0, 0] != 1 or np.any(times < 0) or (times * runs[:, 1]).sum() > _LARGEST_COUNT:
        raise ValueError("chunks without order")
    return np.repeat(runs[:, 1], times)


def _table(track: bytes, movie_scale: int) -> SampleTable | None:
    scale = timescale_of(next(find(track, "mdia", "mdhd"), b""))
    tables = next(find(track, "mdia", "minf", "stbl"), b"")
    lengths = _run_lengths(next(find(tables, "stts"), b""), ">u4")
    if not scale or not lengths.size:
        return None
    coded = np.concatenate([[0], np.cumsum(lengths)[:-1]])
    offsets_box = next(find(tables, "ctts"), b"")
    # Version 1 has signed offsets; writers put negative ones into version 0 too.
    offsets = _run_lengths(offsets_box, ">i4")
    shown = coded + offsets if offsets.size == coded.size else coded
    key_box = next(find(tables, "stss"), None)
    keys = np.ones(shown.size, bool)
    if key_box is not None:
        keys[:] = False
        numbers = np.frombuffer(key_box[8:], ">u4").astype(np.int64) - 1
        keys[numbers[(numbers >= 0) & (numbers < shown.size)]] = True
    stamps, are_keys = _edited(shown, keys, track, movie_scale, scale)
    in_order = tuple(np.sort(stamps).tolist())
    return SampleTable(Fraction(1, scale), in_order, tuple(stamps.tolist()), int(are_keys.sum()), shown.size)


def _run_lengths(box: bytes, kind: str) -> _Numbers:
    """The values of a table that gives each with how often it comes.

    Raises:
        ValueError: it holds more than any film.
    """
    if len(box) < 8:
        return np.zeros(0, np.int64)
    count = min(struct.unpack_from(">I", box, 4)[0], (len(box) - 8) // 8)
    pairs = np.frombuffer(box[8 : 8 + count * 8], ">u4").reshape(-1, 2)
    times = pairs[:, 0].astype(np.int64)
    if times.sum() > _LARGEST_COUNT:
        raise ValueError("no film has so many pictures")
    return np.repeat(pairs[:, 1].copy().view(kind).astype(np.int64), times)


def _edited(
    shown: _Numbers, keys: NDArray[np.bool_], track: bytes, movie_scale: int, scale: int
) -> tuple[_Numbers, NDArray[np.bool_]]:
    """What the edit list shows, as it is coded, and when; an empty stretch moves what follows."""
    edits = edits_of(track, movie_scale, scale)
    if not edits:
        return shown, keys
    stamps, kept, place = [], [], 0
    for edit in edits:
        length = round(edit.duration_s * scale)
        if edit.from_s is not None:
            begin = round(edit.from_s * scale)
            # A length of nothing is one that was not known when the head was written: all of it.
            inside = (shown >= begin) & ((shown < begin + length) if length else True)
            stamps.append(shown[inside] - begin + place)
            kept.append(keys[inside])
        place += length
    if not stamps:
        return np.zeros(0, np.int64), np.zeros(0, bool)
    return np.concatenate(stamps), np.concatenate(kept)
