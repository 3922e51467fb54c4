"""A folder shown a second time with faults on cue: the simulated reader and disk, and the tests' failing ones.

A process of its own serves it by FUSE, so that the faults are true ones: the kernel returns the error, the
read really hangs, the bytes really differ. What goes wrong is written into a small file beside it, and may
change at any time. Run as a module: the folder, the mount point, the cue file, and `rw` where it may be written.
"""

from __future__ import annotations

import contextlib
import errno
import json
import os
import subprocess
import sys
import time
from dataclasses import asdict, dataclass
from pathlib import Path
from typing import Any

import mfusepy

from diadoche.core.diskfiles import open_unseen
from diadoche.core.errors import TargetUnusable
from diadoche.demo.power_cut import Unsynced

_LONGEST_START_S = 15
_STEP_S = 0.02
_NICE = 5
_BIT = 0x10


@dataclass(frozen=True, slots=True)
class Faults:
    """What goes wrong from now on. Positions are counted within the file called `file`, or within each.

    Args:
        slow_bytes_s: reads and writes are no faster than that; 0 sets no limit.
        hangs: every read and write waits until this is over.
        read_error_at: reading this byte fails; negative for none.
        flip_read_at: a bit of this byte is read wrong, `flips` times; with `flips_differ` no two of 255 alike.
        list_error: folders whose path ends with `file` cannot be listed: this error number.
        read_error_once: a reading error happens once only.
        hangs_on_metadata: questions about names, sizes and room wait too, not data alone.
        flip_write_at: a bit of this byte is written wrong.
        write_error: writes fail with this error number.
        slow_reads_bytes_s: reads alone are no faster than that.
        folds_case: names that differ by case only are the same.
        refused: names with any of these characters are refused, as by a disk of another system.
        no_times: the times of files cannot be set.
        power_cut: what was not synced is gone, and nothing answers until this is over.
    """

    slow_bytes_s: int = 0
    hangs: bool = False
    read_error_at: int = -1
    flip_read_at: int = -1
    flips: int = 1
    flips_differ: bool = False
    flip_write_at: int = -1
    write_error: int = 0
    list_error: int = 0
    read_error_once: bool = False
    hangs_on_metadata: bool = False
    slow_reads_bytes_s: int = 0
    folds_case: bool = False
    power_cut: bool = False
    refused: str = ""
    no_times: bool = False
    file: str = ""


class _Cues:
    """The faults of this moment, read anew when their file has changed."""

    def __init__(self, path: str) -> None:
        self._path = path
        self._changed_ns = -1
        self._faults = Faults()
        self.flips_left = 0
        self.erred = False

    def now(self) -> Faults:
        with contextlib.suppress(OSError, ValueError):
            changed_ns = Path(self._path).stat().st_mtime_ns
            if changed_ns != self._changed_ns:
                self._faults = Faults(**json.loads(Path(self._path).read_text()))
                self._changed_ns, self.flips_left, self.erred = changed_ns, self._faults.flips, False
        return self._faults

    def wait_for_answer(self) -> None:
        """Lets a disk that answers nothing at all take its time."""
        while (faults := self.now()).hangs and faults.hangs_on_metadata:
            time.sleep(_STEP_S)

    def wait_out(self, size_bytes: int) -> Faults:
        """Lets a hanging or slow disk take its time."""
        while (faults := self.now()).hangs:
            time.sleep(_STEP_S)
        if faults.slow_bytes_s:
            time.sleep(size_bytes / faults.slow_bytes_s)
        return faults


class FaultyFolder(mfusepy.Operations):  # type: ignore[misc]  # the library has no types
    """Everything the kernel asks of a filesystem, passed on to a folder, with faults between."""

    use_ns = True

    def __init__(self, folder: str, cues: str) -> None:
        self._folder = folder
        self._cues = _Cues(cues)
        self._unsynced = Unsynced(folder)

    def _real(self, path: str) -> str:
        if self._cues.now().power_cut:
            self._unsynced.take_away()
            raise mfusepy.FuseOSError(errno.ENODEV)
        if not self._cues.now().folds_case or os.path.lexists(self._folder + path):
            return self._folder + path
        folder, _, name = path.rpartition("/")
        real = self._real(folder) if folder else self._folder
        with contextlib.suppress(OSError):
            name = next((each for each in os.listdir(real) if each.casefold() == name.casefold()), name)
        return f"{real}/{name}"

    def getattr(self, path: str, fh: int | None = None) -> dict[str, Any]:
        self._cues.wait_for_answer()
        info = os.lstat(self._real(path))
        names = ("mode", "nlink", "size", "uid", "gid", "ino", "dev")
        times = {f"st_{name}time": getattr(info, f"st_{name}time_ns") for name in "amc"}
        return {f"st_{name}": getattr(info, f"st_{name}") for name in names} | times

    def readdir(self, path: str, fh: int) -> list[str]:
        faults = self._cues.wait_out(0)
        if faults.list_error and path.endswith(faults.file):
            raise mfusepy.FuseOSError(faults.list_error)
        folder = open_unseen(self._real(path), os.O_RDONLY | os.O_DIRECTORY)
        try:
            return [".", "..", *os.listdir(folder)]
        finally:
            os.close(folder)

    def readlink(self, path: str) -> str:
        return os.readlink(self._real(path))  # noqa: PTH115

    def statfs(self, path: str) -> dict[str, int]:
        self._cues.wait_for_answer()
        info = os.statvfs(self._real(path))
        return {name: getattr(info, name) for name in ("f_bavail", "f_bfree", "f_blocks", "f_bsize", "f_frsize")}

    def open(self, path: str, flags: int) -> int:
        plain = flags & ~os.O_DIRECT
        if flags & (os.O_WRONLY | os.O_RDWR):
            return os.open(self._real(path), plain & ~os.O_NOATIME)
        return open_unseen(self._real(path), plain & ~os.O_NOATIME)

    def read(self, path: str, size: int, offset: int, fh: int) -> bytes:
        faults = self._cues.wait_out(size)
        concerned = not faults.file or path.endswith(faults.file)
        fails = concerned and offset <= faults.read_error_at < offset + size
        if fails and not (faults.read_error_once and self._cues.erred):
            self._cues.erred = True
            raise mfusepy.FuseOSError(errno.EIO)
        if faults.slow_reads_bytes_s:
            time.sleep(size / faults.slow_reads_bytes_s)
        data = os.pread(fh, size, offset)
        if concerned and offset <= faults.flip_read_at < offset + len(data) and self._cues.flips_left > 0:
            self._cues.flips_left -= 1
            # Counted, not drawn: two of three drawn at random are alike once in eighty times.
            bits = 1 + self._cues.flips_left % 255 if faults.flips_differ else _BIT
            data = _flipped(data, faults.flip_read_at - offset, bits)
        return data

    def write(self, path: str, data: bytes, offset: int, fh: int) -> int:
        faults = self._cues.wait_out(len(data))
        concerned = not faults.file or faults.file in path
        if concerned and faults.write_error:
            raise mfusepy.FuseOSError(faults.write_error)
        if concerned and offset <= faults.flip_write_at < offset + len(data):
            data = _flipped(data, faults.flip_write_at - offset, _BIT)
        self._unsynced.written(path)
        return os.pwrite(fh, data, offset)

    def _taken(self, path: str) -> str:
        """The place of a name that is to be given."""
        if any(each in path for each in self._cues.now().refused):
            raise mfusepy.FuseOSError(errno.EINVAL)
        return self._real(path)

    def create(self, path: str, mode: int, fi: Any = None) -> int:
        handle = os.open(self._taken(path), os.O_RDWR | os.O_CREAT | os.O_TRUNC, mode)
        self._unsynced.made(path)
        return handle

    def mkdir(self, path: str, mode: int) -> None:
        os.mkdir(self._taken(path), mode)  # noqa: PTH102
        self._unsynced.made(path)

    def unlink(self, path: str) -> None:
        os.unlink(self._real(path))  # noqa: PTH108
        self._unsynced.removed(path)

    def rmdir(self, path: str) -> None:
        os.rmdir(self._real(path))  # noqa: PTH106
        self._unsynced.removed(path)

    def rename(self, old: str, new: str) -> None:
        os.rename(self._real(old), self._taken(new))  # noqa: PTH104
        self._unsynced.renamed(old, new)

    def truncate(self, path: str, length: int, fh: int | None = None) -> None:
        os.truncate(self._real(path), length)
        self._unsynced.written(path)

    def utimens(self, path: str, times: Any = None) -> None:
        if self._cues.now().no_times:
            raise mfusepy.FuseOSError(errno.EPERM)
        os.utime(self._real(path), ns=times)

    def fsync(self, path: str, datasync: int, fh: int) -> None:
        self._cues.wait_out(0)
        os.fsync(fh)
        self._unsynced.data_synced(path)

    def fsyncdir(self, path: str, datasync: int, fh: int) -> None:
        self._cues.wait_out(0)
        self._unsynced.names_synced(path)

    def release(self, path: str, fh: int) -> None:
        os.close(fh)


def _flipped(data: bytes, place: int, bits: int) -> bytes:
    changed = bytearray(data)
    changed[place] ^= bits
    return bytes(changed)


class FaultyMount:
    """A faulty folder that is mounted now."""

    def __init__(self, folder: Path, point: Path, *, writable: bool = False) -> None:
        """Mounts `folder` a second time at `point`.

        Raises:
            TargetUnusable: folders cannot be mounted here; `can_mount` tells why.
        """
        self.point = point
        self._cues = point.with_name(f".{point.name}.faults.json")
        point.mkdir(parents=True, exist_ok=True)
        self.set(Faults())
        words = [sys.executable, "-m", __name__, str(folder.resolve()), str(point), str(self._cues)]
        self._process = subprocess.Popen([*words, *(["rw"] if writable else [])], stderr=subprocess.DEVNULL)
        until = time.monotonic() + _LONGEST_START_S
        while not point.is_mount():
            if self._process.poll() is not None or time.monotonic() > until:
                self._process.kill()
                raise TargetUnusable(f"{folder} cannot be shown at {point}.", path=point, do=can_mount())
            time.sleep(_STEP_S)

    def set(self, faults: Faults) -> None:
        """Changes what goes wrong, at once."""
        part = self._cues.with_suffix(".part")
        part.write_text(json.dumps(asdict(faults)))
        part.replace(self._cues)

    def cut_power(self) -> None:
        """What was not synced is gone from the folder, and the mount answers no more."""
        self.set(Faults(power_cut=True))
        with contextlib.suppress(OSError):
            os.statvfs(self.point)

    def pull(self) -> None:
        """It is gone at once, as a card that is pulled: reads that are under way fail."""
        self._process.kill()
        self._process.wait()
        self._unmount()

    def die(self) -> None:
        """Ends what serves it, and leaves the mount: every question about it fails from now on."""
        self._process.kill()
        self._process.wait()

    def close(self) -> None:
        """Unmounts it."""
        self.set(Faults())
        self.pull()
        self._cues.unlink(missing_ok=True)

    def _unmount(self) -> None:
        for words in (["fusermount3", "-u", "-z"], ["fusermount", "-u", "-z"], ["umount", "-l"]):
            with contextlib.suppress(FileNotFoundError):
                if subprocess.run([*words, str(self.point)], capture_output=True, check=False).returncode == 0:
                    break
        with contextlib.suppress(OSError):
            self.point.rmdir()


def can_mount() -> str:
    """Nothing where folders can be mounted by FUSE, else why they cannot."""
    if not Path("/dev/fuse").exists() or not os.access("/dev/fuse", os.R_OK | os.W_OK):
        return "FUSE is not available to this user."
    return ""


def main() -> None:
    """Serves until it is unmounted or killed."""
    # A reader of hardware takes nothing of the processor; this one leaves it to the window.
    os.nice(_NICE)
    folder, point, cues, *rest = sys.argv[1:]
    mfusepy.FUSE(
        FaultyFolder(folder, cues), point, foreground=True, ro="rw" not in rest, direct_io=True, fsname="diadoche",
        subtype="bench",
    )  # fmt: skip


if __name__ == "__main__":
    main()
