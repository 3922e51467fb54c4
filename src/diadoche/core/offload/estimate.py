"""How long an offload will take, from speeds measured on the very card and disks that it is about."""

from __future__ import annotations

import os
import time
from collections import Counter
from dataclasses import dataclass
from pathlib import Path

from diadoche.core.cards.tree import Tree
from diadoche.core.diskfiles import PART_SUFFIX, DirectReader
from diadoche.core.disks import standing_part
from diadoche.core.errors import reading, writing
from diadoche.core.offload.plan import OffloadPlan
from diadoche.core.watch import Watch

_SAMPLE_BYTES = 48 * 1024 * 1024
_SAMPLE_S = 2.0
_BLOCK_BYTES = 4 * 1024 * 1024


@dataclass(frozen=True, slots=True)
class Speed:
    """What a place was measured to do, in bytes a second."""

    name: str
    write_bytes_s: float
    read_bytes_s: float


@dataclass(frozen=True, slots=True)
class Estimate:
    """A forecast and what it rests on. `bottleneck` names what everything else waits for."""

    size_bytes: int
    seconds: float
    card_bytes_s: float
    places: tuple[Speed, ...]
    bottleneck: str


def estimate(tree: Tree, plan: OffloadPlan, watch: Watch) -> Estimate:
    """Measures for a few seconds: a part of the card is read, and as much written, read and removed at each place.

    Raises:
        SourceError: the card cannot be read.
        TargetError: a place cannot be written to; what was written for the measurement is removed.
        Cancelled: the watch was stopped.
    """
    card_bytes_s = _read_rate(tree, watch)
    speeds = tuple(_place_speed(target.place, watch) for target in plan.usable)
    sharing = Counter(target.disk.key for target in plan.usable)
    size = plan.size_bytes
    times = {"the card": size / card_bytes_s}
    for target, speed in zip(plan.usable, speeds, strict=True):
        # Places on one disk take turns; each byte is written once and read back once.
        alone_s = size / speed.write_bytes_s + size / speed.read_bytes_s
        times[str(target.place)] = alone_s * sharing[target.disk.key]
    slowest = max(times, key=lambda name: times[name])
    return Estimate(size, times[slowest], card_bytes_s, speeds, slowest)


def _read_rate(tree: Tree, watch: Watch) -> float:
    reader, done, began_s = DirectReader(), 0, time.perf_counter()
    try:
        # The largest files say most about the card, the smallest about its seeking.
        for file in sorted(tree.files, key=lambda each: -each.size_bytes):
            path = tree.root / file.path
            with reading(path, tree.root):
                for block in reader.blocks(path, file.size_bytes):
                    watch.check()
                    done += len(block)
                    if done >= _SAMPLE_BYTES or time.perf_counter() - began_s > _SAMPLE_S:
                        return done / max(1e-6, time.perf_counter() - began_s)
    finally:
        reader.close()
    return max(done, 1) / max(1e-6, time.perf_counter() - began_s)


def _place_speed(place: Path, watch: Watch) -> Speed:
    folder = standing_part(place)
    path = folder / f"{PART_SUFFIX}-speed-{os.getpid()}"
    block = os.urandom(_BLOCK_BYTES)
    try:
        with writing(path):
            began_s, written = time.perf_counter(), 0
            with path.open("wb", buffering=0) as file:
                while written < _SAMPLE_BYTES and time.perf_counter() - began_s < _SAMPLE_S:
                    watch.check()
                    written += file.write(block)
                os.fsync(file.fileno())
            write_s = time.perf_counter() - began_s
        return Speed(str(place), written / max(1e-6, write_s), _read_back_rate(path, written))
    finally:
        path.unlink(missing_ok=True)


def _read_back_rate(path: Path, size_bytes: int) -> float:
    reader, began_s = DirectReader(), time.perf_counter()
    try:
        for _block in reader.blocks(path):
            pass
    finally:
        reader.close()
    return size_bytes / max(1e-6, time.perf_counter() - began_s)
