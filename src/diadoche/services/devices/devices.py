"""The devices of this machine together: media that come and go, shares by address, notices, and staying awake.

Everything that may take a while runs on threads of its own; what comes of it is told through one function.
"""

from __future__ import annotations

import threading
from collections.abc import Callable
from dataclasses import dataclass
from pathlib import Path

from diadoche.core.disks import Mount, mounts
from diadoche.core.errors import DiadocheError
from diadoche.services.devices.buses import BusError, BusThread
from diadoche.services.devices.desktop import Notices, SleepLock
from diadoche.services.devices.disk_watch import DiskWatch, Medium
from diadoche.services.devices.mount_polling import MountPolling
from diadoche.services.devices.network import NetworkCards
from diadoche.services.devices.udisks import UdisksWatch

NETWORK = "network:"


@dataclass(frozen=True, slots=True)
class CameIn:
    """A medium is in."""

    medium: Medium


@dataclass(frozen=True, slots=True)
class WentOut:
    """A medium is gone."""

    key: str


@dataclass(frozen=True, slots=True)
class Said:
    """What came of something that was asked for; `about` is the medium's key or the address."""

    about: str
    words: str
    failed: bool = False


@dataclass(frozen=True, slots=True)
class NoticeWanted:
    """A notice that the desktop has no service for."""

    title: str
    text: str


DeviceNews = CameIn | WentOut | Said | NoticeWanted


class Devices:
    """What the application asks of the machine."""

    def __init__(self, told: Callable[[DeviceNews], None], shares: Path, bench: DiskWatch | None = None) -> None:
        """
        Args:
            told: hears all news, from any thread.
            shares: the folder that shares from the network appear in.
            bench: simulated readers, in place of the machine's own.
        """
        self._told = told
        self._buses = BusThread()
        self._network = NetworkCards(shares)
        self._watches: tuple[DiskWatch, ...] = (bench,) if bench is not None else ()
        self._simulated = bench is not None
        self._closed = threading.Event()
        self._threads: list[threading.Thread] = []
        self.sleep = SleepLock(self._buses)
        self.notices = Notices(self._buses, lambda title, text: told(NoticeWanted(title, text)))

    def start(self) -> None:
        """Begins watching; does not wait for the disk service."""
        if not self._simulated:
            self._in_thread(self._begin)

    def _begin(self) -> None:
        self._watches = _found_watches(self._buses, lambda words: self._told(Said("mount", words, failed=True)))
        for watch in self._watches:
            watch.start(lambda medium: self._told(CameIn(medium)), lambda key: self._told(WentOut(key)))
        if self._closed.is_set():
            for watch in self._watches:
                watch.close()

    def connect(self, address: str, user: str = "", password: str = "") -> None:
        """Connects to a share; it comes in as a medium, or what is wrong is said."""

        def connect() -> None:
            try:
                medium = self._network.connect(address, user, password)
            except DiadocheError as error:
                self._told(Said(address, error.problem.sentence(), failed=True))
                return
            self._told(CameIn(medium))
            self._told(Said(address, f"{address} is connected."))

        self._in_thread(connect)

    def let_out(self, key: str) -> None:
        """Unmounts and ejects a medium, or lets a share go; how that went is said."""

        def let_out() -> None:
            try:
                if key.startswith(NETWORK):
                    self._network.disconnect(key)
                    self._told(WentOut(key))
                else:
                    self._eject(key)
            except DiadocheError as error:
                self._told(Said(key, error.problem.sentence(), failed=True))
                return
            self._told(Said(key, "It can be taken out now."))

        self._in_thread(let_out)

    def _eject(self, key: str) -> None:
        for watch in self._watches:
            if key in {medium.key for medium in watch.media()}:
                watch.eject(key)

    def close(self) -> None:
        """Ends watching, lets shares go, and lets the machine sleep again."""
        self._closed.set()
        for thread in self._threads:
            thread.join(timeout=5)
        self.sleep.hold(False)
        for watch in self._watches:
            watch.close()
        self._network.close()
        self._buses.close()

    def _in_thread(self, work: Callable[[], None]) -> None:
        thread = threading.Thread(target=work, name="devices", daemon=True)
        self._threads = [each for each in self._threads if each.is_alive()] + [thread]
        thread.start()


def _found_watches(buses: BusThread, told: Callable[[str], None]) -> tuple[DiskWatch, ...]:
    """The desktop's disk service, with the table of mounts for what is no disk: phones, shares; or that table alone."""
    try:
        return UdisksWatch(buses, told=told), MountPolling(table=_mounts_of_no_disk)
    except BusError:
        return (MountPolling(),)


def _mounts_of_no_disk() -> list[Mount]:
    return [mount for mount in mounts() if not mount.source.startswith("/dev/")]
