"""The folder of one copy while it is written: taken and held, reached on its own disk only, given back or closed."""

from __future__ import annotations

import os
from collections.abc import Iterable
from contextlib import suppress
from dataclasses import dataclass, field, replace
from pathlib import Path, PurePosixPath

from diadoche.core.answering import Calls
from diadoche.core.diskfiles import PART_SUFFIX, HeldFolder, make_folders, sync_folder
from diadoche.core.disks import Limits
from diadoche.core.errors import Problem, TargetUnusable, writing
from diadoche.core.names import shown, unique_name
from diadoche.core.offload.digest_file import agree
from diadoche.core.offload.folder_claim import take_new_folder, take_unfinished_folder
from diadoche.core.offload.journal import CopiedFile, Journal
from diadoche.core.offload.kept_names import kept_names
from diadoche.core.offload.plan import OffloadPlan, Target
from diadoche.core.offload.set_aside import set_aside


@dataclass(frozen=True, slots=True)
class EarlierFiles:
    """What an interrupted run left, by path: files that may be gone on with, and others that stand in the way."""

    sound: dict[str, CopiedFile] = field(default_factory=dict)
    doubted: dict[str, CopiedFile] = field(default_factory=dict)


class CopyFolder:
    """One copy's folder. Every method may hang with its disk: they are called where that harms nobody."""

    def __init__(self, target: Target, plan: OffloadPlan, calls: Calls) -> None:
        """`calls` follows every call to the disk."""
        self.target = target
        self.root = target.root
        self.journal = Journal(target.root, plan.fingerprint)
        # What is reached through this stays on the disk that was there when the folder was taken.
        self.base = f"{target.root}/"
        self._plan = plan
        self._calls = calls
        self._held: HeldFolder | None = None
        self._parts = PART_SUFFIX

    @property
    def is_open(self) -> bool:
        """Whether it was taken."""
        return self._held is not None

    def part(self, name: str) -> str:
        """The path of a part."""
        return f"{self.base}{self._parts}/{name}"

    def take(self) -> EarlierFiles:
        """Takes the folder, or goes on with the unfinished copy in it, and makes it ready.

        Raises:
            FolderTaken: somebody else has it.
            TargetError: it cannot be written to.
        """
        unlisted = tuple(problem.path for problem in self._plan.unlisted)
        take = take_unfinished_folder if self.target.resumed else take_new_folder
        # Before anything else: from here on the folder says of itself that it is not whole.
        self.journal = take(self.root, self._plan.fingerprint, unlisted, self._calls)
        with writing(self.root):
            with self._calls:
                # A disk that is pulled leaves a plain folder of the system disk behind: the path would lead there.
                self._held = HeldFolder(self.root)
                self.base = self._held.base
            self._prepare_parts()
            self._take_names()
            for folder in self._plan.folders:
                make_folders(Path(self.base + self.target.kept_as(folder.path)), self._calls)
            return self._earlier()

    def _prepare_parts(self) -> None:
        """An empty folder for parts, under a name that nothing on the card has."""
        tops = {path.split("/")[0].casefold() for path in self._all_paths()}
        self._parts = unique_name(PART_SUFFIX, lambda name: name.casefold() in tops)
        with self._calls:
            Path(self.base + self._parts).mkdir(exist_ok=True)
            for name in os.listdir(self.base + self._parts):
                # The journal is held: what lies here was left by a run that has ended.
                Path(self.part(name)).unlink()

    def _all_paths(self) -> Iterable[str]:
        yield from (folder.path for folder in self._plan.folders)
        yield from (file.path for file in self._plan.files)

    def _take_names(self) -> None:
        """Looks what names the folder itself tells apart: shares and others fold case without saying so."""
        limits = self.target.limits
        with self._calls:
            found = probed_limits(f"{self.base}{self._parts}", limits)
        if found != limits:
            self.target = replace(self.target, names=kept_names(self._all_paths(), found), limits=found)

    def _earlier(self) -> EarlierFiles:
        earlier = EarlierFiles()
        for entry in self._plan.files:
            file = self.journal.copied.get(entry.path)
            if file is None:
                continue
            promised = self._plan.promised.get(entry.path, {})
            sound = set(self._plan.digests) <= file.digests.keys() and (not promised or agree(promised, file.digests))
            with self._calls:
                size = size_of(self.base + file.kept_as)
            if sound and size == file.size_bytes == entry.size_bytes:
                earlier.sound[entry.path] = file
            elif size is not None:
                earlier.doubted[entry.path] = file
        return earlier

    def set_aside(self, file: CopiedFile) -> Problem | None:
        """Moves a file out of the copy, beside it; gives words about it, or None where nothing stands there.

        Raises:
            TargetError: it cannot be moved.
        """
        with writing(self.root / file.kept_as), self._calls:
            self.journal.forget(file.path)
            self.journal.sync()
            try:
                where = set_aside(self.base, self.root.name, file.kept_as)
            except FileNotFoundError:
                return None
        return Problem(
            f"An earlier reading of {shown(file.path)} stood in {self.root}; it is kept beside the copy.",
            str(self.root.parent / where),
            "It is not part of the copy, and was not deleted.",
            "Keep it until you have seen that the clip plays from the copy.",
        )

    def check_there(self) -> None:
        """What was written can be reached by its path.

        Raises:
            TargetUnusable: the disk is gone, or another one is mounted in its place.
        """
        with self._calls:
            gone = self._held is not None and not self._held.is_still_there()
        if gone:
            raise TargetUnusable(
                f"{self.target.place} went away while it was written to.",
                path=self.target.place,
                safe="The other destinations are not affected; nothing was written elsewhere in its place.",
                do="Bring the disk back and offload again: it goes on where it stopped.",
            )

    def sync(self, files: Iterable[CopiedFile]) -> None:
        """Makes all names durable, those of empty folders too, and takes the folder of parts away.

        Raises:
            TargetUnusable: the disk failed or is gone.
        """
        folders = {"", *(self.target.kept_as(folder.path) for folder in self._plan.folders)}
        for file in files:
            folders.update(str(parent) for parent in PurePosixPath(file.kept_as).parents)
        self._remove_parts()
        with writing(self.root):
            for folder in folders:
                with self._calls:
                    sync_folder(Path(self.base + folder))

    def _remove_parts(self) -> None:
        # What is still in it was left behind by a call that hangs; the next run empties it.
        with self._calls, suppress(OSError):
            Path(self.base + self._parts).rmdir()

    def give_back(self) -> None:
        """Undoes the taking of a new folder, into which nothing was written yet."""
        self._remove_parts()
        with self._calls, suppress(OSError):
            for folder in sorted((self.target.kept_as(each.path) for each in self._plan.folders), reverse=True):
                Path(self.base + folder).rmdir()
        with self._calls:
            self.journal.take_back()
            if self._held is not None:
                self._held.close()

    def leave(self) -> None:
        """Nothing more is done there; where its journal stands, the copy is to be completed later."""
        self._remove_parts()
        with self._calls:
            self.journal.close(whole=False)
            if self._held is not None:
                self._held.close()


def size_of(path: Path | str) -> int | None:
    """The size of a regular file, or None where there is none."""
    try:
        info = os.lstat(path)
    except (FileNotFoundError, NotADirectoryError):
        return None
    return info.st_size if os.path.isfile(path) and not os.path.islink(path) else None  # noqa: PTH113, PTH114  # asked by the ten thousand


def probed_limits(folder: str, limits: Limits) -> Limits:
    """What a folder's filesystem does with names, tried out in an empty folder of ours.

    Raises:
        OSError: nothing can be written there at all.
    """
    plain, folded = f"{folder}/Name", f"{folder}/nAME"
    os.close(os.open(plain, os.O_WRONLY | os.O_CREAT | os.O_CLOEXEC, 0o644))
    folds = os.path.lexists(folded)
    Path(plain).unlink()
    refuses = limits.plain_names
    if not refuses:
        odd = f'{folder}/od:d?"*'
        try:
            os.close(os.open(odd, os.O_WRONLY | os.O_CREAT | os.O_CLOEXEC, 0o644))
            refuses = not os.path.lexists(odd)
            Path(odd).unlink(missing_ok=True)
        except OSError:
            refuses = True
    return replace(limits, folds_case=limits.folds_case or folds, plain_names=refuses)
