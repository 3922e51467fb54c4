"""Media by a real UDisks2: put in, mounted read-only, offloaded, let out."""

from __future__ import annotations

import subprocess
import threading
from pathlib import Path

import pytest

from diadoche.core.answering import HANGS_S
from diadoche.core.disks import disk_of, mount_of
from diadoche.core.errors import RequestError
from diadoche.demo.faulty_folder import Faults
from diadoche.services.devices.buses import BusError, BusThread
from diadoche.services.devices.disk_watch import Medium
from diadoche.services.devices.udisks import UdisksWatch
from tests.mounts import Mounter
from tests.system_bus import card_image, loop_card, loop_device, system_bus, wait_until


def usage_by_udev(device: str) -> str:
    """What udev says that a device is used for."""
    done = subprocess.run(["udevadm", "info", "-q", "property", device], capture_output=True, text=True, check=False)
    return dict(line.split("=", 1) for line in done.stdout.splitlines() if "=" in line).get("ID_FS_USAGE", "")


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
                assert disk_of(medium.path).key == disk_of(tmp_path).key, "a loop lies on its image's disk"
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


# While the kernel waits for the card, a sync of the whole machine waits too: this runs where nothing else does.
@pytest.mark.long
def test_a_card_whose_mounting_hangs_is_named_and_keeps_no_other_waiting(
    tmp_path: Path, drone: Path, faulty: Mounter
) -> None:
    buses, told = BusThread(), Told()
    words: list[str] = []
    (tmp_path / "reader").mkdir()
    reader = faulty(tmp_path / "reader", writable=True)
    try:
        with system_bus(tmp_path) as address:
            watch = UdisksWatch(buses, address, loops_too=True, told=words.append)
            image = card_image(tmp_path / "reader", "SLOW", drone)
            with loop_device(reader.point / image.name) as device, loop_card(tmp_path, "QUICK", drone):
                # From here on the reader gives no byte more: what the kernel asks for to mount the card hangs.
                wait_until(lambda: usage_by_udev(device) == "filesystem", 10, "the card in udev")
                reader.set(Faults(hangs=True))
                try:
                    watch.start(told.put_in, told.pulled_out)
                    wait_until(lambda: told.called("QUICK"), 15, "the other card")
                    wait_until(lambda: words, HANGS_S + 15, "a word of the card that hangs")
                    assert "SLOW is not mounted" in words[0]
                    assert not told.called("SLOW")
                finally:
                    # Whatever is found: the disk service cannot even end before the card answers.
                    reader.set(Faults())
                wait_until(lambda: told.called("SLOW"), 30, "the card that is slow")
                assert (told.called("SLOW")[0].path / "DCIM").is_dir()
                watch.eject(told.called("SLOW")[0].key)
            watch.close()
    finally:
        buses.close()


def test_a_card_that_cannot_be_mounted_is_named(tmp_path: Path, drone: Path) -> None:
    buses, told = BusThread(), Told()
    words: list[str] = []
    try:
        with system_bus(tmp_path) as address:
            watch = UdisksWatch(buses, address, loops_too=True, told=words.append)
            watch.start(told.put_in, told.pulled_out)
            image = card_image(tmp_path, "TORN", drone)
            with image.open("r+b") as file:
                # The superblock stays, so that it counts as a card; what is told of its groups behind that is nonsense.
                file.seek(2048)
                file.write(b"\xff" * 8192)
            with loop_device(image):
                # Another test's disk may be half-made just then, and is told of too.
                wait_until(lambda: any("TORN is not mounted" in word for word in words), 10, f"a word of it in {words}")
                assert not told.media
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
