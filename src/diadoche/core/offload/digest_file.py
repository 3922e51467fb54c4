"""Reading one file and computing its digests: the one loop that all checks of copies share."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Mapping

from diadoche.core.diskfiles import BLOCK_BYTES, DirectReader, ReadFrom
from diadoche.core.offload.digests import DIGESTS


def digests_of(
    path: ReadFrom,
    names: Iterable[str],
    reader: DirectReader,
    *,
    size_bytes: int = BLOCK_BYTES,
    step: Callable[[int], None] = lambda _count: None,
) -> dict[str, str]:
    """Digests of a file by name, read past the page cache where that is possible.

    Args:
        path: the file.
        names: of digests.
        reader: reads it; its `passed_cache` tells afterwards whether the cache was passed.
        size_bytes: how long the file is thought to be; all of it is read, however long it is.
        step: told the number of bytes of each block; what it raises ends the reading.

    Raises:
        OSError: as the system says it.
    """
    made = {name: DIGESTS[name]() for name in names}
    for block in reader.blocks(path, size_bytes):
        for digest in made.values():
            digest.update(block)
        step(len(block))
    return {name: digest.hexdigest() for name, digest in made.items()}


def agree(one: Mapping[str, str], other: Mapping[str, str]) -> bool:
    """Whether two sets of digests speak of the same bytes: at least one kind in common, and none that differs."""
    shared = one.keys() & other.keys()
    return bool(shared) and all(one[name] == other[name] for name in shared)


def contradict(one: Mapping[str, str], other: Mapping[str, str]) -> bool:
    """Whether two sets of digests cannot be of the same bytes."""
    return any(one[name] != other[name] for name in one.keys() & other.keys())
