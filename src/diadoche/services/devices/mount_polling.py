"""Media by looking at the table of mounts once a second: for machines without UDisks2, and for what mounts itself.

A mount counts as a medium when it lies where desktops mount what people plug in, or when its disk says that it
is removable; phones and cameras appear as folders of the desktop's own mount.
"""

from __future__ import annotations

import os
import subprocess
import threading
from collections.abc import Callable
from pathlib import Path

from diadoche.core.disks import Mount, disk_of, mounts
from diadoche.core.errors import RequestError
from diadoche.services.devices.disk_watch import Medium, PulledOut, PutIn

INTERVAL_S = 1.0
_PLUGGED_IN = (Path("/media"), Path("/run/media"))
_NOT_MEDIA = {"autofs", "overlay", "squashfs", "proc", "sysfs", "tmpfs", "devtmpfs", "cgroup", "cgroup2"}


class MountPolling:
    """Tells of mounts that come and go."""

    def __init__(
        self,
        *,
        table: Callable[[], list[Mount]] = mounts,
        plugged_in: tuple[Path, ...] = _PLUGGED_IN,
        desktop_mounts: Path | None = None,
        interval_s: float = INTERVAL_S,
    ) -> None:
        """
        Args:
            table: gives the mounts of this moment.
            plugged_in: folders below which every mount is a medium.
            desktop_mounts: the folder whose subfolders are phones and cameras; the user's own when None.
            interval_s: how often it looks.
        """
        self._table = table
        self._plugged_in = plugged_in
        self._desktop = desktop_mounts or Path(f"/run/user/{os.getuid()}/gvfs")
        self._interval_s = interval_s
        self._in: dict[str, Medium] = {}
        self._ended = threading.Event()
        self._thread: threading.Thread | None = None

    def start(self, put_in: PutIn, pulled_out: PulledOut) -> None:
        """Begins telling; what is in already is told before this returns."""
        self._look(put_in, pulled_out)
        self._thread = threading.Thread(target=self._run, args=(put_in, pulled_out), name="mounts", daemon=True)
        self._thread.start()

    def media(self) -> tuple[Medium, ...]:
        """What is in now."""
        return tuple(self._in.values())

    def eject(self, key: str) -> None:
        """Unmounts a medium.

        Raises:
            RequestError: something still uses it, or the system does not let us.
        """
        medium = self._in.get(key)
        if medium is None:
            return
        for words in (["umount", str(medium.path)], ["gio", "mount", "-u", str(medium.path)]):
            try:
                done = subprocess.run(words, capture_output=True, text=True, check=False)
            except FileNotFoundError:
                continue
            if done.returncode == 0:
                return
        raise RequestError(
            f"{medium.label} cannot be let out now.",
            path=medium.path,
            safe="It was only read.",
            do="Close what still uses it, or let the desktop eject it.",
        )

    def close(self) -> None:
        """Ends telling."""
        self._ended.set()
        if self._thread is not None:
            self._thread.join()

    def _run(self, put_in: PutIn, pulled_out: PulledOut) -> None:
        while not self._ended.wait(self._interval_s):
            self._look(put_in, pulled_out)

    def _look(self, put_in: PutIn, pulled_out: PulledOut) -> None:
        try:
            now = self._found()
        except OSError:
            # The table could not be read this time; the next look is a second away.
            return
        for key in [key for key in self._in if key not in now]:
            del self._in[key]
            pulled_out(key)
        for key, medium in now.items():
            if key not in self._in:
                self._in[key] = medium
                put_in(medium)

    def _found(self) -> dict[str, Medium]:
        found: dict[str, Medium] = {}
        for mount in self._table():
            if mount.kind in _NOT_MEDIA and not self._is_plugged_in(mount.point):
                continue
            if self._is_plugged_in(mount.point) or _is_removable(mount):
                medium = _medium(mount)
                found[medium.key] = medium
        for folder in sorted(self._desktop.iterdir()) if self._desktop.is_dir() else ():
            key = f"desktop:{folder.name}"
            found[key] = Medium(key, folder, _spoken(folder.name), "the desktop's mount", 0, key)
        return found

    def _is_plugged_in(self, point: Path) -> bool:
        return any(folder in point.parents for folder in self._plugged_in)


def _medium(mount: Mount) -> Medium:
    device = disk_of(mount.point).key
    return Medium(
        f"mount:{mount.point}:{mount.device}",
        mount.point,
        mount.point.name,
        mount.source.rpartition("/")[2] or mount.source,
        0,
        device,
        True,
        _identity(mount.source),
    )


def _is_removable(mount: Mount) -> bool:
    if not mount.source.startswith("/dev/"):
        return False
    folder = Path("/sys/class/block") / mount.source.rpartition("/")[2]
    try:
        whole = folder.resolve()
        whole = whole.parent if (whole / "partition").exists() else whole
        return (whole / "removable").read_text().strip() == "1"
    except OSError:
        return False


def _identity(source: str) -> str:
    """The filesystem's own number, which stays when its label is changed."""
    by_uuid = Path("/dev/disk/by-uuid")
    try:
        wanted = Path(source).resolve()
        return next((link.name for link in by_uuid.iterdir() if link.resolve() == wanted), "")
    except OSError:
        return ""


def _spoken(name: str) -> str:
    """The part of a desktop mount's name that people know: mtp:host=Some_Phone becomes Some Phone."""
    return name.rpartition("=")[2].replace("_", " ") or name
