"""Files that are complete or absent, and reads that leave no trace or no doubt.

`open_unseen` reads a card without touching its access times; `DirectReader` reads a copy from the
disk itself and not from the page cache.
"""

from __future__ import annotations

import ctypes
import errno
import mmap
import os
from collections.abc import Iterator
from contextlib import contextmanager, suppress
from pathlib import Path
from typing import BinaryIO, Protocol

from diadoche.core.answering import Calls

PART_SUFFIX = ".part-diadoche"
BLOCK_BYTES = 4 * 1024 * 1024
_ALIGNED_BYTES = 4096
_RENAME_NOREPLACE = 1
_AT_FDCWD = -100
_SYNC_FILE_RANGE_WRITE = 2
# Wait before, write, wait after.
_SYNC_FILE_RANGE_WAIT = 7
_LIBC = ctypes.CDLL(None, use_errno=True)


class OpensUnseen(Protocol):
    """A file below a folder that is held open."""

    def open_unseen(self, flags: int) -> int:
        """A descriptor for reading; access times stay as they are where that may be asked for."""


ReadFrom = Path | str | OpensUnseen


def _open_for_reading(path: ReadFrom, flags: int) -> int:
    return open_unseen(path, flags) if isinstance(path, Path | str) else path.open_unseen(flags)


def open_unseen(path: Path | str, flags: int = os.O_RDONLY) -> int:
    """Opens for reading; access times stay as they are where we are allowed to ask for that."""
    try:
        return os.open(path, flags | os.O_NOATIME | os.O_CLOEXEC)
    except PermissionError:
        return os.open(path, flags | os.O_CLOEXEC)


def unseen_file(path: ReadFrom, flags: int = os.O_RDONLY) -> BinaryIO:
    """The same as a file object. The caller closes it.

    Raises:
        OSError: as the system says it.
    """
    return os.fdopen(_open_for_reading(path, flags), "rb", buffering=0)


def close_read(descriptor: int) -> None:
    """Closes what was only read, and lets its pages go; a disk that is gone by now has nothing more to tell."""
    with suppress(OSError):
        os.posix_fadvise(descriptor, 0, 0, os.POSIX_FADV_DONTNEED)
    with suppress(OSError):
        os.close(descriptor)


def sync_folder(folder: Path) -> None:
    """Makes renames inside `folder` survive a power cut."""
    descriptor = os.open(folder, os.O_RDONLY | os.O_DIRECTORY | os.O_CLOEXEC)
    try:
        sync_descriptor(descriptor)
    finally:
        os.close(descriptor)


def sync_descriptor(folder: int) -> None:
    """The same for a folder that is open.

    Raises:
        OSError: the disk failed.
    """
    try:
        os.fsync(folder)
    except OSError as error:
        # Some network and FUSE filesystems refuse to sync folders; they have nothing to sync there.
        if error.errno not in {errno.EINVAL, errno.ENOTSUP, errno.EBADF}:
            raise


def rename_new(old: Path | str, new: Path | str) -> None:
    """Renames, and never replaces what already stands under the new name.

    Raises:
        FileExistsError: the new name is taken; nothing changed.
    """
    rename_new_at(_AT_FDCWD, str(old), _AT_FDCWD, str(new))


def rename_new_at(old_folder: int, old: str, new_folder: int, new: str) -> None:
    """The same for names in open folders.

    Raises:
        FileExistsError: the new name is taken; nothing changed.
        OSError: as the system says it.
    """
    done = _LIBC.renameat2(old_folder, os.fsencode(old), new_folder, os.fsencode(new), _RENAME_NOREPLACE)
    if done == 0:
        return
    code = ctypes.get_errno()
    if code not in {errno.EINVAL, errno.ENOSYS, errno.ENOTSUP}:
        raise OSError(code, os.strerror(code), new)
    # Filesystems without the flag (some FUSE and network mounts): look first. We alone write in an
    # offload's folder, so nothing can slip in between.
    from_folder, to_folder = (None if each == _AT_FDCWD else each for each in (old_folder, new_folder))
    try:
        os.stat(new, dir_fd=to_folder, follow_symlinks=False)
    except FileNotFoundError:
        os.rename(old, new, src_dir_fd=from_folder, dst_dir_fd=to_folder)
        return
    raise FileExistsError(errno.EEXIST, os.strerror(errno.EEXIST), new)


def sync_filesystem(descriptor: int) -> None:
    """Makes everything on the filesystem of an open file or folder durable: one call for many small files.

    Raises:
        OSError: something could not be written since the descriptor was opened.
    """
    if _LIBC.syncfs(descriptor) != 0:
        code = ctypes.get_errno()
        raise OSError(code, os.strerror(code))


def begin_writeback(descriptor: int, waited_bytes: int = 0) -> None:
    """Starts writing out what is pending of an open file, and waits for its first `waited_bytes`.

    The wait keeps what is pending of a slow disk small: no later sync takes so long that it looks like a hanging one.
    """
    whole = ctypes.c_int64(0)
    if waited_bytes > 0:
        _LIBC.sync_file_range(descriptor, whole, ctypes.c_int64(waited_bytes), _SYNC_FILE_RANGE_WAIT)
    _LIBC.sync_file_range(descriptor, whole, whole, _SYNC_FILE_RANGE_WRITE)


def make_folders(folder: Path, calls: Calls | None = None) -> None:
    """Makes a folder and those above it, and lets each new name survive a power cut.

    Raises:
        OSError: as the system says it.
    """
    calls = calls or Calls()
    with calls:
        missing = []
        while not folder.is_dir():
            missing.append(folder)
            folder = folder.parent
    for each in reversed(missing):
        with calls:
            each.mkdir(exist_ok=True)
            # A folder's name stands in the folder above it: that is the one to be synced.
            sync_folder(each.parent)


def write_whole(path: Path, data: bytes) -> None:
    """Writes a small file so that it is either whole or not there; replaces an older version."""
    part = path.with_name(path.name + PART_SUFFIX)
    try:
        with part.open("wb") as file:
            file.write(data)
            file.flush()
            os.fsync(file.fileno())
        part.replace(path)
    except BaseException:
        part.unlink(missing_ok=True)
        raise
    sync_folder(path.parent)


class DirectReader:
    """Reads files past the page cache, one after another, through one aligned buffer.

    `passed_cache` turns false for good once a filesystem did not allow it; a proof then says so.
    """

    def __init__(self, calls: Calls | None = None) -> None:
        """`calls` follows every call to the disk, so that others see when one hangs."""
        self._buffer = mmap.mmap(-1, BLOCK_BYTES)
        self._view = memoryview(self._buffer)
        self._calls = calls or Calls()
        self.passed_cache = True

    def close(self) -> None:
        """Gives the buffer back."""
        self._view.release()
        # Where a reading was broken off, its last block may still be held; the memory goes with that.
        with suppress(BufferError):
            self._buffer.close()

    def blocks(self, path: ReadFrom, size_bytes: int = BLOCK_BYTES) -> Iterator[memoryview]:
        """The file's bytes in order. Each block is valid until the next is asked for.

        Args:
            path: the file.
            size_bytes: how long it is thought to be; all of it is read, however long it is.

        Raises:
            OSError: as the system says it.
        """
        # The kernel clears what a direct read leaves of its room: for small files that would cost the most.
        room = min(BLOCK_BYTES, (size_bytes // _ALIGNED_BYTES + 1) * _ALIGNED_BYTES)
        with self._opened(path) as descriptor, self._view[:room] as view:
            while True:
                with self._calls:
                    count = os.readv(descriptor, [view])
                if not count:
                    return
                yield view[:count]

    @contextmanager
    def _opened(self, path: ReadFrom) -> Iterator[int]:
        # Never through a link: what is read back is a file of the copy, and nothing that a link leads to.
        flags = os.O_RDONLY | os.O_NOFOLLOW
        try:
            with self._calls:
                descriptor = _open_for_reading(path, flags | os.O_DIRECT)
        except OSError as error:
            if error.errno != errno.EINVAL:
                raise
            self.passed_cache = False
            with self._calls:
                descriptor = _open_for_reading(path, flags)
        try:
            if not self.passed_cache:
                with suppress(OSError):
                    os.posix_fadvise(descriptor, 0, 0, os.POSIX_FADV_DONTNEED)
            yield descriptor
        finally:
            with suppress(OSError), self._calls:
                os.close(descriptor)
