"""Re-reading a copy against its manifests, at any later time."""

from __future__ import annotations

import fnmatch
from dataclasses import dataclass
from pathlib import Path

from diadoche.core.cards.tree import FileEntry, list_tree
from diadoche.core.diskfiles import DirectReader
from diadoche.core.errors import Problem
from diadoche.core.names import shown
from diadoche.core.offload.digests import DIGESTS
from diadoche.core.offload.journal import JOURNAL_NAME, is_unfinished
from diadoche.core.offload.manifests import read_listed
from diadoche.core.offload.mhl import FOLDER
from diadoche.core.watch import Progress, Watch


@dataclass(frozen=True, slots=True)
class Verdict:
    """What a re-reading found. Paths are relative to the folder; `ok` counts files that match."""

    root: Path
    files: int
    ok: int
    changed: tuple[str, ...]
    missing: tuple[str, ...]
    extra: tuple[str, ...]
    problems: tuple[Problem, ...]

    @property
    def clean(self) -> bool:
        """Whether everything is as the manifests say."""
        return not (self.changed or self.missing or self.extra or self.problems)


def verify(path: Path, watch: Watch) -> Verdict:
    """Reads every listed file past the page cache and compares its digest.

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
    total = sum(standing[path].size_bytes for path in listed.digests if path in standing)
    changed: list[str] = []
    ok = done = 0
    reader = DirectReader()
    try:
        for name, digests in listed.digests.items():
            if name not in standing:
                continue
            watch.step(Progress(done, total, f"reading {shown(name)}"))
            if _matches(standing[name], root, digests, reader, watch, Progress(done, total)):
                ok += 1
            else:
                changed.append(name)
            done += standing[name].size_bytes
    finally:
        reader.close()
    missing = tuple(path for path in listed.digests if path not in standing)
    extra = tuple(path for path in standing if path not in listed.digests and not _is_ours(path, listed.ignored))
    return Verdict(root, len(listed.digests), ok, tuple(changed), missing, extra, _remarks(root, listed.problems))


def _matches(
    file: FileEntry, root: Path, digests: dict[str, str], reader: DirectReader, watch: Watch, so_far: Progress
) -> bool:
    if not digests:
        return False
    name, wanted = next(iter(digests.items()))
    digest = DIGESTS[name]()
    done = so_far.done
    try:
        for block in reader.blocks(root / file.path, file.size_bytes):
            digest.update(block)
            done += len(block)
            watch.step(Progress(done, so_far.total, f"reading {shown(file.name)}"))
    except OSError:
        return False
    return digest.hexdigest() == wanted


def _is_ours(path: str, ignored: tuple[str, ...]) -> bool:
    parts = path.split("/")
    if parts[0] == FOLDER or path == JOURNAL_NAME:
        return True
    return any(fnmatch.fnmatch(part, pattern.rstrip("/")) for pattern in ignored for part in parts)


def _remarks(root: Path, remarks: tuple[str, ...]) -> tuple[Problem, ...]:
    problems = [
        Problem(remark, str(root), "The files themselves were compared all the same.", "Ask who changed it.")
        for remark in remarks
    ]
    if is_unfinished(root):
        problems.append(
            Problem(
                "This copy was never finished: it is not the whole card.",
                str(root),
                "What is in it was compared.",
                "Offload the same card again to complete it.",
            )
        )
    return tuple(problems)
