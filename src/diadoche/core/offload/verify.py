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
from diadoche.core.offload.expected import CardTruth, ExpectedFile, Outcome
from diadoche.core.offload.found_copies import is_ours
from diadoche.core.offload.identity import NO_IDENTITY, CopyIdentity
from diadoche.core.offload.journal import is_unfinished
from diadoche.core.offload.manifests import read_promise
from diadoche.core.open_folder import OpenFolder, Placed
from diadoche.core.watch import Progress, Watch


@dataclass(frozen=True, slots=True, kw_only=True)
class Verdict:
    """What a re-reading found. Paths are relative to the folder; `ok` counts files that match.

    `unfinished`: the copy is not the whole card, by its journal or by its own manifest. `altered`: nothing vouches for
    what its manifests say, and the card's own digests were not at hand either. `not_compared`: files for which no
    digest is known.
    """

    root: Path
    files: int
    ok: int
    changed: tuple[str, ...] = ()
    missing: tuple[str, ...] = ()
    extra: tuple[str, ...] = ()
    problems: tuple[Problem, ...] = ()
    unfinished: bool = False
    altered: bool = False
    not_compared: tuple[str, ...] = ()
    identity: CopyIdentity = NO_IDENTITY

    @property
    def clean(self) -> bool:
        """Whether everything is as it has to be."""
        return not (self.changed or self.missing or self.extra or self.not_compared or self.problems)


@dataclass(slots=True)
class _Found:
    done: int = 0
    outcomes: dict[str, Outcome] = field(default_factory=dict)
    problems: list[Problem] = field(default_factory=list)

    def of(self, outcome: Outcome) -> tuple[str, ...]:
        return tuple(name for name, found in self.outcomes.items() if found is outcome)


def verify(path: Path, watch: Watch, card: CardTruth | None = None) -> Verdict:
    """Reads every listed file past the page cache and compares each of its digests.

    Args:
        path: a folder with manifests in it, ours or another's, or a plain list of digests.
        watch: told how far it is.
        card: what the ledger kept of the card's own reading; it stands above what manifests say.

    Raises:
        MediaError: there is no readable manifest.
        Cancelled: the watch was stopped.
    """
    root, promise = read_promise(path, card)
    tree = list_tree(root, watch)
    standing = {file.path: file for file in tree.files}
    total = sum(standing[name].size_bytes for name in promise.files if name in standing)
    found = _Found()
    reader = DirectReader()
    try:
        with OpenFolder.at(root) as copy:
            for name, expected in promise.files.items():
                if name not in standing:
                    found.outcomes[name] = Outcome.MISSING
                    continue
                watch.step(Progress(found.done, total, f"reading {shown(name)}"))
                found.outcomes[name] = _read_one(standing[name], copy, expected, reader, watch, found, total)
    finally:
        reader.close()
    extra = tuple(name for name in standing if name not in promise.files and not _is_ignored(name, promise.ignored))
    unfinished = is_unfinished(root) or promise.not_whole
    return Verdict(
        root=root,
        files=len(promise.files),
        ok=len(found.of(Outcome.EQUAL)),
        changed=found.of(Outcome.DIFFERS),
        missing=found.of(Outcome.MISSING),
        extra=extra,
        problems=(*_remarks(root, promise.problems, unfinished=unfinished), *tree.unlisted, *found.problems),
        unfinished=unfinished,
        altered=not promise.counts,
        not_compared=found.of(Outcome.NOT_COMPARED),
        identity=promise.identity,
    )


def _read_one(
    file: FileEntry,
    copy: OpenFolder,
    expected: ExpectedFile,
    reader: DirectReader,
    watch: Watch,
    found: _Found,
    total: int,
) -> Outcome:
    begun = found.done

    def step(count: int) -> None:
        found.done += count
        watch.step(Progress(found.done, total, f"reading {shown(file.name)}"))

    if not expected.digests:
        return Outcome.NOT_COMPARED
    try:
        digests = digests_of(Placed(copy, file.path), expected.digests, reader, size_bytes=file.size_bytes, step=step)
    except OSError as error:
        found.problems.append(_unreadable(copy.path, file.path, error))
        return Outcome.DIFFERS
    finally:
        found.done = begun + file.size_bytes
    return expected.outcome(digests)


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
