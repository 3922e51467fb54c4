"""The process that shows a network share as a folder, for reading alone: SMB on one side, FUSE on the other.

So a camera or file server that is reached by address is a card like any other. Run as a module; see `network`.
Sources: [MS-SMB2] by the library smbprotocol; [FUSE] by the library mfusepy.
"""

from __future__ import annotations

import errno
import json
import os
import stat
import sys
import threading
from typing import Any

import mfusepy
import smbclient
from smbprotocol.exceptions import SMBException, SMBOSError

_READ_AHEAD_BYTES = 1024 * 1024


class _OpenFile:
    """One open file, read in long stretches: every question to the server costs a round trip."""

    def __init__(self, path: str, options: dict[str, Any]) -> None:
        self._file = smbclient.open_file(path, mode="rb", buffering=0, share_access="r", **options)
        self._lock = threading.Lock()
        self._begin = 0
        self._data = b""

    def read(self, size: int, offset: int) -> bytes:
        with self._lock:
            if not self._begin <= offset <= offset + size <= self._begin + len(self._data):
                self._data, self._begin = self._stretch(offset, max(size, _READ_AHEAD_BYTES)), offset
            start = offset - self._begin
            return self._data[start : start + size]

    def _stretch(self, offset: int, size: int) -> bytes:
        self._file.seek(offset)
        pieces, left = [], size
        while left and (piece := self._file.read(left)):
            pieces.append(piece)
            left -= len(piece)
        return b"".join(pieces)

    def close(self) -> None:
        self._file.close()


class ShareAsFolder(mfusepy.Operations):  # type: ignore[misc]  # the library has no types
    """What the kernel asks of a filesystem, as far as reading goes."""

    use_ns = True

    def __init__(self, base: str, options: dict[str, Any]) -> None:
        """`base` is the share or a folder in it, with backslashes; `options` go to the SMB library."""
        self._base = base
        self._options = options
        self._files: dict[int, _OpenFile] = {}
        self._next = 1
        self._lock = threading.Lock()

    def _full(self, path: str) -> str:
        return self._base + path.rstrip("/").replace("/", "\\")

    def getattr(self, path: str, fh: int | None = None) -> dict[str, Any]:
        info = _asked(smbclient.lstat, self._full(path), **self._options)
        folder = stat.S_ISDIR(info.st_mode)
        mode = (stat.S_IFDIR | 0o555) if folder else (stat.S_IFREG | 0o444)
        return {
            "st_mode": mode,
            "st_nlink": 2 if folder else 1,
            "st_size": info.st_size,
            "st_mtime": info.st_mtime_ns,
            "st_atime": info.st_mtime_ns,
            "st_ctime": info.st_mtime_ns,
            "st_uid": os.getuid(),
            "st_gid": os.getgid(),
        }

    def readdir(self, path: str, fh: int) -> Any:
        return [".", "..", *_asked(smbclient.listdir, self._full(path), **self._options)]

    def open(self, path: str, flags: int) -> int:
        if flags & (os.O_WRONLY | os.O_RDWR):
            raise mfusepy.FuseOSError(errno.EROFS)
        opened = _asked(_OpenFile, self._full(path), self._options)
        with self._lock:
            number, self._next = self._next, self._next + 1
            self._files[number] = opened
        return number

    def read(self, path: str, size: int, offset: int, fh: int) -> bytes:
        data: bytes = _asked(self._files[fh].read, size, offset)
        return data

    def release(self, path: str, fh: int) -> int:
        self._files.pop(fh).close()
        return 0


def _asked(ask: Any, *arguments: Any, **options: Any) -> Any:
    """The answer, or the error number that the kernel passes on."""
    try:
        return ask(*arguments, **options)
    except SMBOSError as error:
        raise mfusepy.FuseOSError(error.errno or errno.EIO) from error
    except (SMBException, OSError, ValueError) as error:
        raise mfusepy.FuseOSError(errno.EIO) from error


def main() -> None:
    """Connects, says how that went in one line, and serves until it is unmounted."""
    asked = json.loads(sys.stdin.readline())
    options = {"username": asked["user"] or "guest", "password": asked["password"], "port": asked["port"]}
    base = f"\\\\{asked['server']}\\{asked['share']}" + "".join(f"\\{part}" for part in asked["folders"])
    smbclient.ClientConfig(require_secure_negotiate=False)
    try:
        smbclient.register_session(
            asked["server"], require_signing=bool(asked["user"]), connection_timeout=asked["patience_s"], **options
        )
        smbclient.listdir(base, **options)
    except (SMBException, OSError, ValueError) as error:
        sys.stdout.write(json.dumps({"failed": str(error)}) + "\n")
        return
    sys.stdout.write(json.dumps({"connected": True}) + "\n")
    sys.stdout.flush()
    mfusepy.FUSE(
        ShareAsFolder(base, options), asked["point"], foreground=True, ro=True, fsname=asked["name"],
        subtype="diadoche", default_permissions=True,
    )  # fmt: skip


if __name__ == "__main__":
    main()
