"""A folder that is held open, and everything below it: reached beneath it, and never through a link.

A path is an instruction to look again, and something else may stand there by then: another disk at the same mount
point, a link where a folder was. What is reached through an open folder stays on the disk that it was opened on, and
below it.

Sources: [OPENAT2] openat2(2), RESOLVE_BENEATH and RESOLVE_NO_SYMLINKS, Linux 5.6; where the kernel lacks it, or a
sandbox forbids it, each folder on the way is opened by itself, without following links [OPENAT].
"""

from __future__ import annotations

import ctypes
import errno
import os
import stat
from collections.abc import Iterator
from contextlib import contextmanager, suppress
from dataclasses import dataclass
from functools import cache
from pathlib import Path

from diadoche.core.diskfiles import PART_SUFFIX, rename_new_at, sync_descriptor

_SYS_OPENAT2 = 437
_RESOLVE_NO_MAGICLINKS, _RESOLVE_NO_SYMLINKS, _RESOLVE_BENEATH = 0x02, 0x04, 0x08
_BENEATH = _RESOLVE_BENEATH | _RESOLVE_NO_SYMLINKS | _RESOLVE_NO_MAGICLINKS
_LIBC = ctypes.CDLL(None, use_errno=True)
_FOLDER = os.O_RDONLY | os.O_DIRECTORY | os.O_CLOEXEC | os.O_NOFOLLOW


class _OpenHow(ctypes.Structure):
    _fields_ = (("flags", ctypes.c_uint64), ("mode", ctypes.c_uint64), ("resolve", ctypes.c_uint64))


class OpenFolder:
    """A folder that is held open. Paths are relative to it, with slashes; "" is the folder itself."""

    def __init__(self, descriptor: int, path: Path) -> None:
        """`path` is where it was found: for words, and to see whether it is there still."""
        self._descriptor = descriptor
        self.path = path

    @classmethod
    def at(cls, path: Path) -> OpenFolder:
        """Opens the folder at a path; links on the way to it are the person's own.

        Raises:
            OSError: it is not there, or is no folder.
        """
        return cls(os.open(path, os.O_RDONLY | os.O_DIRECTORY | os.O_CLOEXEC), path)

    def close(self) -> None:
        """Lets it go."""
        descriptor, self._descriptor = self._descriptor, -1
        if descriptor >= 0:
            with suppress(OSError):
                os.close(descriptor)

    def release(self) -> int:
        """Its descriptor, for the caller to close."""
        descriptor, self._descriptor = self._descriptor, -1
        return descriptor

    def __enter__(self) -> OpenFolder:
        return self

    def __exit__(self, *_error: object) -> None:
        self.close()

    def is_still_there(self) -> bool:
        """Whether its path still leads to it: a disk that was pulled leaves a plain folder of another one behind."""
        try:
            now, held = self.path.stat(), os.fstat(self._descriptor)
        except OSError:
            return False
        return (now.st_dev, now.st_ino) == (held.st_dev, held.st_ino)

    @property
    def identity(self) -> tuple[int, int]:
        """Device and inode: two paths that lead to one folder have the same."""
        info = os.fstat(self._descriptor)
        return info.st_dev, info.st_ino

    def open(self, path: str, flags: int = os.O_RDONLY, mode: int = 0o644) -> int:
        """A descriptor of what stands at a path.

        Raises:
            OSError: as the system says it; ELOOP or ENOTDIR where the path leads through a link, or is one.
        """
        flags |= os.O_CLOEXEC | os.O_NOFOLLOW
        if not path:
            return os.open(".", flags | os.O_DIRECTORY, dir_fd=self._descriptor)
        if ".." in path.split("/") or path.startswith("/"):
            raise OSError(errno.EXDEV, os.strerror(errno.EXDEV), path)
        if _has_openat2():
            return _openat2(self._descriptor, path, flags, mode)
        with self._above(path) as (above, name):
            return os.open(name, flags, mode, dir_fd=above)

    def open_unseen(self, path: str, flags: int = os.O_RDONLY) -> int:
        """The same for reading; access times stay as they are where we are allowed to ask for that.

        Raises:
            OSError: as `open`.
        """
        try:
            return self.open(path, flags | os.O_NOATIME)
        except PermissionError:
            return self.open(path, flags)

    @contextmanager
    def _above(self, path: str) -> Iterator[tuple[int, str]]:
        """The open folder in which a path's last part stands, and that part."""
        folder, _, name = path.rpartition("/")
        if not folder:
            yield self._descriptor, name
            return
        descriptor = self.open(folder, _FOLDER) if _has_openat2() else self._stepped(folder)
        try:
            yield descriptor, name
        finally:
            os.close(descriptor)

    def _stepped(self, folder: str) -> int:
        """A folder opened part by part, each without following links [OPENAT]."""
        descriptor = os.dup(self._descriptor)
        for name in folder.split("/"):
            try:
                inner = os.open(name, _FOLDER, dir_fd=descriptor)
            finally:
                os.close(descriptor)
            descriptor = inner
        return descriptor

    def folder(self, path: str) -> OpenFolder:
        """A folder below, held open by itself.

        Raises:
            OSError: as `open`.
        """
        return OpenFolder(self.open(path, _FOLDER), self.path / path)

    # -- asking ------------------------------------------------------------------------------------

    def stat(self, path: str) -> os.stat_result:
        """What stands at a path; a link is told as itself.

        Raises:
            OSError: nothing does.
        """
        if not path:
            return os.fstat(self._descriptor)
        with self._above(path) as (above, name):
            return os.stat(name, dir_fd=above, follow_symlinks=False)

    def size_of(self, path: str) -> int | None:
        """The size of a regular file, or None where there is none; a link is none.

        Raises:
            OSError: the disk does not tell.
        """
        try:
            info = self.stat(path)
        except OSError as error:
            if error.errno in _NOT_THERE:
                return None
            raise
        return info.st_size if stat.S_ISREG(info.st_mode) else None

    def exists(self, path: str) -> bool:
        """Whether anything stands at a path, be it a link.

        Raises:
            OSError: the disk does not tell.
        """
        try:
            self.stat(path)
        except OSError as error:
            if error.errno in _NOT_THERE:
                return False
            raise
        return True

    def listed(self, path: str = "") -> list[tuple[str, os.stat_result]]:
        """What is in a folder, by names in their order of bytes. All of it, or an error: never a part.

        Raises:
            OSError: it cannot be listed.
        """
        descriptor = self.open_unseen(path, _FOLDER)
        try:
            with os.scandir(descriptor) as entries:
                found = [(entry.name, entry.stat(follow_symlinks=False)) for entry in entries]
        finally:
            os.close(descriptor)
        return sorted(found, key=lambda entry: os.fsencode(entry[0]))

    def names(self, path: str = "") -> list[str]:
        """The names in a folder; none where there is no such folder.

        Raises:
            OSError: it is there and cannot be listed, or is a link.
        """
        try:
            return [name for name, _info in self.listed(path)]
        except FileNotFoundError:
            return []

    def read(self, path: str, most_bytes: int) -> bytes:
        """The bytes of a regular file.

        Raises:
            OSError: it cannot be read, is no regular file, or is longer than `most_bytes`.
        """
        descriptor = self.open_unseen(path, os.O_RDONLY | os.O_NONBLOCK)
        with os.fdopen(descriptor, "rb") as file:
            info = os.fstat(file.fileno())
            if not stat.S_ISREG(info.st_mode):
                raise OSError(errno.EINVAL, "it is no file", path)
            if info.st_size > most_bytes:
                raise OSError(errno.EFBIG, os.strerror(errno.EFBIG), path)
            return file.read()

    # -- changing ----------------------------------------------------------------------------------

    def make_folder(self, path: str) -> bool:
        """Makes a folder and those above it, and lets each new name survive a power cut; false where it stood there.

        Raises:
            OSError: it cannot be made, or a link or a file stands there.
        """
        try:
            os.close(self.open(path, _FOLDER))
        except FileNotFoundError:
            above = path.rpartition("/")[0]
            if above:
                self.make_folder(above)
            with self._above(path) as (descriptor, name), suppress(FileExistsError):
                os.mkdir(name, dir_fd=descriptor)
                sync_descriptor(descriptor)
            os.close(self.open(path, _FOLDER))
            return True
        return False

    def rename_new(self, old: str, new: str) -> None:
        """Renames, and never replaces what stands under the new name.

        Raises:
            FileExistsError: the new name is taken; nothing changed.
            OSError: as the system says it.
        """
        with self._above(old) as (from_folder, from_name), self._above(new) as (to_folder, to_name):
            rename_new_at(from_folder, from_name, to_folder, to_name)

    def unlink(self, path: str) -> None:
        """Takes a name away; a link goes, and what it leads to stays.

        Raises:
            OSError: as the system says it.
        """
        with self._above(path) as (above, name):
            os.unlink(name, dir_fd=above)

    def forget(self, path: str) -> None:
        """Takes a name of ours away where it stands; whatever hinders that is left for the next run."""
        with suppress(OSError):
            self.unlink(path)

    def remove_folder(self, path: str) -> None:
        """Takes an empty folder away.

        Raises:
            OSError: it is not empty, or not there.
        """
        with self._above(path) as (above, name):
            os.rmdir(name, dir_fd=above)

    def set_time(self, path: str, changed_ns: int) -> None:
        """Sets the time of a folder or file, in ns since 1970.

        Raises:
            OSError: the filesystem refuses it.
            OverflowError: this system cannot write such a time.
        """
        with self._above(path) as (above, name):
            os.utime(name, ns=(changed_ns, changed_ns), dir_fd=above, follow_symlinks=False)

    def sync(self, path: str = "") -> None:
        """Makes the names in a folder survive a power cut.

        Raises:
            OSError: the disk failed.
        """
        descriptor = self.open(path, _FOLDER)
        try:
            sync_descriptor(descriptor)
        finally:
            os.close(descriptor)

    def write_whole(self, path: str, data: bytes) -> None:
        """Writes a small file so that it is either whole or not there; replaces an older version.

        Raises:
            OSError: as the system says it; nothing half-written stands there.
        """
        part = f"{path}{PART_SUFFIX}"
        self.forget(part)
        descriptor = self.open(part, os.O_WRONLY | os.O_CREAT | os.O_EXCL)
        try:
            with os.fdopen(descriptor, "wb") as file:
                file.write(data)
                file.flush()
                os.fsync(file.fileno())
            with self._above(part) as (above, name):
                os.replace(name, path.rpartition("/")[2], src_dir_fd=above, dst_dir_fd=above)
                sync_descriptor(above)
        except BaseException:
            self.forget(part)
            raise


# A link in the way is something else than what is asked for: it counts as not there, and is never followed.
_NOT_THERE = {errno.ENOENT, errno.ENOTDIR, errno.ELOOP, errno.ENAMETOOLONG}


@dataclass(frozen=True, slots=True)
class Placed:
    """A file below an open folder."""

    folder: OpenFolder
    path: str

    @property
    def words(self) -> str:
        """Where it is, for people."""
        return str(self.folder.path / self.path)

    def open_unseen(self, flags: int) -> int:
        """A descriptor for reading.

        Raises:
            OSError: as the system says it.
        """
        return self.folder.open_unseen(self.path, flags)


@cache
def _has_openat2() -> bool:
    descriptor = os.open("/", _FOLDER)
    try:
        os.close(_openat2(descriptor, ".", _FOLDER, 0))
    except OSError:
        return False
    finally:
        os.close(descriptor)
    return True


def _openat2(folder: int, path: str, flags: int, mode: int) -> int:
    how = _OpenHow(flags, mode if flags & os.O_CREAT else 0, _BENEATH)
    while True:
        found = _LIBC.syscall(
            ctypes.c_long(_SYS_OPENAT2), ctypes.c_int(folder), os.fsencode(path), ctypes.byref(how),
            ctypes.c_size_t(ctypes.sizeof(how)),
        )  # fmt: skip
        if found >= 0:
            return int(found)
        code = ctypes.get_errno()
        # EAGAIN: something was renamed on the way at that very moment [OPENAT2].
        if code not in {errno.EAGAIN, errno.EINTR}:
            raise OSError(code, os.strerror(code), path)
