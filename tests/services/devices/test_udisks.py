"""Media by a real UDisks2: put in, mounted read-only, offloaded, let out."""

from __future__ import annotations

import subprocess
import threading
from pathlib import Path

import pytest

from diadoche.core.disks import mount_of
from diadoche.core.errors import RequestError
from diadoche.services.devices.buses import BusError, BusThread
from diadoche.services.devices.disk_watch import Medium
from diadoche.services.devices.udisks import UdisksWatch
from tests.system_bus import loop_card, system_bus, wait_until


class Told:
    """What a watch told."""

    def __init__(self) -> None:
        self.media: dict[str, Medium] = {}
        self.gone: list[str] = []
        self._lock = threading.Lock()

    def put_in(self, medium: Medium) -> None:
        with self._lock:
            self.media[medium.key] = medium

    def pulled_out(self, key: str) -> None:
        with self._lock:
            self.gone.append(key)

    def called(self, label: str) -> list[Medium]:
        return [medium for medium in self.media.values() if medium.label == label]


def test_a_card_comes_is_mounted_read_only_and_goes(tmp_path: Path, drone: Path) -> None:
    buses, told = BusThread(), Told()
    try:
        with system_bus(tmp_path) as address:
            watch = UdisksWatch(buses, address, loops_too=True)
            watch.start(told.put_in, told.pulled_out)
            with loop_card(tmp_path, "ROCK", drone):
                # A1: noticed within two seconds; three here, for a machine that does other things too.
                wait_until(lambda: told.called("ROCK"), 3, "the card")
                medium = told.called("ROCK")[0]
                mount = mount_of(medium.path)
                assert mount is not None
                assert mount.read_only
                assert "noatime" in mount.options
                assert (medium.path / "DCIM").is_dir()
                assert medium.identity
                assert watch.disk_of(medium.path).key == watch.disk_of(tmp_path).key, "a loop lies on its image's disk"
                with (
                    (medium.path / "DCIM/100DRONE/DRON0001.MP4").open("rb"),
                    pytest.raises(RequestError, match="let out"),
                ):
                    watch.eject(medium.key)
                assert not told.gone
                watch.eject(medium.key)
                wait_until(lambda: told.gone == [medium.key], 3, "its going")
                assert not medium.path.exists()
            watch.close()
    finally:
        buses.close()


def test_a_card_that_is_pulled_is_told_as_gone(tmp_path: Path, drone: Path) -> None:
    buses, told = BusThread(), Told()
    try:
        with system_bus(tmp_path) as address:
            watch = UdisksWatch(buses, address, loops_too=True)
            watch.start(told.put_in, told.pulled_out)
            with loop_card(tmp_path, "PULL", drone) as device:
                wait_until(lambda: told.called("PULL"), 3, "the card")
                subprocess.run(["umount", "-l", device], check=True)
                wait_until(lambda: told.gone, 3, "its going")
            watch.close()
    finally:
        buses.close()


def test_without_a_bus_it_says_so(tmp_path: Path) -> None:
    buses = BusThread()
    try:
        with pytest.raises(BusError, match="no system bus"):
            UdisksWatch(buses, f"unix:path={tmp_path / 'nothing'}")
    finally:
        buses.close()
