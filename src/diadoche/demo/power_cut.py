"""What a power cut takes from a disk: names and data that no program asked the disk to keep.

A name is kept from the moment on at which its folder was synced, data from the moment on at which its file was. Most
filesystems keep more, at their leisure; none promises more. Names that were taken away stay away.
"""

from __future__ import annotations

import contextlib
import os
import shutil
from pathlib import PurePosixPath


class Unsynced:
    """Names and data that would not outlive a power cut now; paths are those of the mount, as in `/a/b`."""

    def __init__(self, folder: str) -> None:
        """Of a folder that is shown as a disk."""
        self._folder = folder
        # In the order of their making: a new name, and the name it had before where it was renamed.
        self._names: list[tuple[str, str | None]] = []
        self._data: set[str] = set()

    def made(self, path: str) -> None:
        """A file or folder got its first name."""
        self._names.append((path, None))

    def renamed(self, old: str, new: str) -> None:
        """One that has a name got another."""
        self._names.append((new, old))
        if old in self._data:
            self._data.remove(old)
            self._data.add(new)

    def removed(self, path: str) -> None:
        """A name was taken away, for good."""
        self._names = [each for each in self._names if each[0] != path]
        self._data.discard(path)

    def written(self, path: str) -> None:
        """A file's data changed."""
        self._data.add(path)

    def data_synced(self, path: str) -> None:
        """A file's data is kept from now on."""
        self._data.discard(path)

    def names_synced(self, folder: str) -> None:
        """The names in a folder are kept from now on."""
        self._names = [each for each in self._names if str(PurePosixPath(each[0]).parent) != folder]

    def take_away(self) -> None:
        """What a power cut at this moment takes: the latest names first."""
        for path in self._data:
            with contextlib.suppress(OSError):
                os.truncate(self._folder + path, 0)
        for path, before in reversed(self._names):
            real = self._folder + path
            with contextlib.suppress(OSError):
                if before is not None and os.path.isdir(os.path.dirname(self._folder + before)):  # noqa: PTH112, PTH120
                    os.rename(real, self._folder + before)  # noqa: PTH104
                elif os.path.isdir(real):  # noqa: PTH112
                    shutil.rmtree(real)
                else:
                    os.unlink(real)  # noqa: PTH108
        self._names, self._data = [], set()
