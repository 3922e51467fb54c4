"""Re-reading a copy against its manifests, at any later time."""

from __future__ import annotations

import fnmatch
from dataclasses import dataclass, field
from pathlib import Path

from diadoche.core.cards.tree import FileEntry, list_tree
from diadoche.core.diskfiles import DirectReader
from diadoche.core.errors import Problem
from diadoche.core.names import shown
from diadoche.core.offload.digest_file import digests_of
from diadoche.core.offload.found_copies import is_ours
from diadoche.core.offload.journal import is_unfinished
from diadoche.core.offload.manifests import read_listed
from diadoche.core.offload.mhl import Listed
from diadoche.core.watch import Progress, Watch


@dataclass(frozen=True, slots=True)
class Verdict:
    """What a re-reading found. Paths are relative to the folder; `ok` counts files that match.

    `unfinished`: the copy is not the whole card, by its journal or by its own manifest.
    """

    root: Path
    files: int
    ok: int
    changed: tuple[str, ...]
    missing: tuple[str, ...]
    extra: tuple[str, ...]
    problems: tuple[Problem, ...]
    unfinished: bool = False

    @property
    def clean(self) -> bool:
        """Whether everything is as the manifests say."""
        return not (self.changed or self.missing or self.extra or self.problems)


@dataclass(slots=True)
class _Found:
    ok: int = 0
    done: int = 0
    changed: list[str] = field(default_factory=list)
    problems: list[Problem] = field(default_factory=list)


def verify(path: Path, watch: Watch) -> Verdict:
    """Reads every listed file past the page cache and compares each of its digests.

    Args:
        path: a folder with manifests in it, ours or another's, or a plain list of digests.
        watch: told how far it is.

    Raises:
        MediaError: there is no readable manifest.
        Cancelled: the watch was stopped.
    """
    root, listed = read_listed(path)
    tree = list_tree(root, watch)
    standing = {file.path: file for file in tree.files}
    total = sum(standing[name].size_bytes for name in listed.digests if name in standing)
    found = _Found()
    reader = DirectReader()
    try:
        for name in listed.digests:
            if name in standing:
                watch.step(Progress(found.done, total, f"reading {shown(name)}"))
                _read_one(standing[name], root, listed, reader, watch, found, total)
    finally:
        reader.close()
    missing = tuple(name for name in listed.digests if name not in standing)
    extra = tuple(name for name in standing if name not in listed.digests and not _is_ignored(name, listed.ignored))
    unfinished = is_unfinished(root) or listed.not_whole
    problems = (*_remarks(root, listed.problems, unfinished=unfinished), *tree.unlisted, *found.problems)
    return Verdict(root, len(listed.digests), found.ok, tuple(found.changed), missing, extra, problems, unfinished)


def _read_one(
    file: FileEntry, root: Path, listed: Listed, reader: DirectReader, watch: Watch, found: _Found, total: int
) -> None:
    wanted = listed.digests[file.path]
    begun = found.done

    def step(count: int) -> None:
        found.done += count
        watch.step(Progress(found.done, total, f"reading {shown(file.name)}"))

    try:
        same = (
            bool(wanted)
            and digests_of(root / file.path, wanted, reader, size_bytes=file.size_bytes, step=step) == wanted
        )
    except OSError as error:
        found.problems.append(_unreadable(root, file.path, error))
        same = False
    found.done = begun + file.size_bytes
    if same:
        found.ok += 1
    else:
        found.changed.append(file.path)


def _unreadable(root: Path, path: str, error: OSError) -> Problem:
    return Problem(
        f"{shown(path)} cannot be read: {error.strerror or error}.",
        str(root / path),
        "Nothing was changed; other copies are not affected.",
        "Fetch it again from another proven copy, and do not trust this disk.",
    )


def _is_ignored(path: str, ignored: tuple[str, ...]) -> bool:
    parts = path.split("/")
    return is_ours(path) or any(fnmatch.fnmatch(part, pattern.rstrip("/")) for pattern in ignored for part in parts)


def _remarks(root: Path, remarks: tuple[str, ...], *, unfinished: bool) -> tuple[Problem, ...]:
    problems = [
        Problem(remark, str(root), "The files themselves were compared all the same.", "Ask who changed it.")
        for remark in remarks
    ]
    if unfinished:
        problems.append(
            Problem(
                "This copy was never finished: it is not the whole card.",
                str(root),
                "What is in it was compared.",
                "Offload the same card again to complete it.",
            )
        )
    return tuple(problems)
