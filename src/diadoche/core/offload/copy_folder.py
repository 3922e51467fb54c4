"""The folder of one copy while it is written: taken and held, reached on its own disk only, given back or closed."""

from __future__ import annotations

import os
from collections.abc import Iterable
from contextlib import suppress
from dataclasses import dataclass, field, replace
from pathlib import PurePosixPath

from diadoche.core.answering import Calls
from diadoche.core.cards.tree import FolderEntry
from diadoche.core.diskfiles import PART_SUFFIX
from diadoche.core.disks import Limits
from diadoche.core.errors import Problem, TargetUnusable, writing
from diadoche.core.names import shown
from diadoche.core.offload.digest_file import agree
from diadoche.core.offload.folder_claim import take_new_folder, take_unfinished_folder
from diadoche.core.offload.journal import CopiedFile, Journal
from diadoche.core.offload.kept_names import kept_names
from diadoche.core.offload.plan import OffloadPlan, Target
from diadoche.core.offload.set_aside import set_aside
from diadoche.core.open_folder import OpenFolder


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
        self._plan = plan
        self._calls = calls
        self._held: OpenFolder | None = None
        # Names at the top that are ours: nothing of the card has any of them.
        self._parts = PART_SUFFIX

    @property
    def is_open(self) -> bool:
        """Whether it was taken."""
        return self._held is not None

    @property
    def held(self) -> OpenFolder:
        """The folder: what is reached through it stays below it, on the disk that was there when it was taken."""
        assert self._held is not None, "taken first"
        return self._held

    def part(self, name: str) -> str:
        """The path of a part, in the folder."""
        return f"{self._parts}/{name}"

    def take(self) -> EarlierFiles:
        """Takes the folder, or goes on with the unfinished copy in it, and makes it ready.

        Raises:
            FolderTaken: somebody else has it.
            TargetError: it cannot be written to.
        """
        unlisted = tuple(problem.path for problem in self._plan.unlisted)
        take = take_unfinished_folder if self.target.resumed else take_new_folder
        # Before anything else: from here on the folder says of itself that it is not whole.
        self.journal, self._held = take(self.root, self._plan.fingerprint, unlisted, self._plan.taking, self._calls)
        with writing(self.root):
            self._prepare_parts()
            self._take_names()
            self.make_folders(self._plan.folders)
            return self._earlier()

    def make_folders(self, folders: Iterable[FolderEntry]) -> None:
        """Makes folders of the card.

        Raises:
            OSError: one cannot be made, or something else stands there.
        """
        for folder in folders:
            with self._calls:
                self.held.make_folder(self.target.kept_as(folder.path))

    def take_more(self, plan: OffloadPlan) -> None:
        """The card has come to hold more: names for it, its folders, and what the journal says of the card.

        Raises:
            TargetError: it cannot be written to.
        """
        with writing(self.root):
            # What has a name keeps it: names are given in this order.
            before, self._plan = list(self._all_paths()), plan
            names = kept_names(dict.fromkeys([*before, *self._all_paths()]), self.target.limits)
            self.target = replace(self.target, names=names)
            self._prepare_parts()
            self.make_folders(plan.folders)
            with self._calls:
                self.journal.note_card(plan.fingerprint)

    def _prepare_parts(self) -> None:
        """An empty folder for parts. What an ended run left in it goes; through a link it goes nowhere."""
        with self._calls:
            self.held.make_folder(self._parts)
            for name in self.held.names(self._parts):
                self.held.unlink(self.part(name))

    def _all_paths(self) -> Iterable[str]:
        yield from (folder.path for folder in self._plan.folders)
        yield from (file.path for file in self._plan.files)

    def _take_names(self) -> None:
        """Looks what names the folder itself tells apart: shares and others fold case without saying so."""
        limits = self.target.limits
        with self._calls:
            found = probed_limits(self.held, self._parts, limits)
        if found != limits:
            self.target = replace(self.target, names=kept_names(self._all_paths(), found), limits=found)

    def _earlier(self) -> EarlierFiles:
        earlier = EarlierFiles()
        for entry in self._plan.files:
            # Its journal may be of the card, and this run of a copy in which the file has another name.
            file = self.journal.copied.get(self._plan.card_paths.get(entry.path, entry.path))
            if file is None:
                continue
            file = replace(file, path=entry.path)
            promised = self._plan.promised.get(entry.path, {})
            sound = set(self._plan.digests) <= file.digests.keys() and (not promised or agree(promised, file.digests))
            with self._calls:
                size = self.held.size_of(file.kept_as)
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
                where = set_aside(self.held, file.kept_as)
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
                    self.held.sync("" if folder == "." else folder)

    def _remove_parts(self) -> None:
        # What is still in it was left behind by a call that hangs; the next run empties it.
        with self._calls, suppress(OSError):
            self.held.remove_folder(self._parts)

    def give_back(self) -> None:
        """Undoes the taking of a new folder, into which nothing was written yet."""
        self._remove_parts()
        with self._calls, suppress(OSError):
            for folder in sorted((self.target.kept_as(each.path) for each in self._plan.folders), reverse=True):
                self.held.remove_folder(folder)
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


def probed_limits(held: OpenFolder, folder: str, limits: Limits) -> Limits:
    """What a folder's filesystem does with names, tried out in an empty folder of ours.

    Raises:
        OSError: nothing can be written there at all.
    """
    plain, folded = f"{folder}/Name", f"{folder}/nAME"
    os.close(held.open(plain, os.O_WRONLY | os.O_CREAT))
    folds = held.exists(folded)
    held.unlink(plain)
    refuses = limits.plain_names
    if not refuses:
        odd = f'{folder}/od:d?"*'
        try:
            os.close(held.open(odd, os.O_WRONLY | os.O_CREAT))
            refuses = not held.exists(odd)
            held.forget(odd)
        except OSError:
            refuses = True
    return replace(limits, folds_case=limits.folds_case or folds, plain_names=refuses)
