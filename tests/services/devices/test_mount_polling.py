"""Media by the table of mounts: a table in the test's hands, and a real mount."""

from __future__ import annotations

import subprocess
import threading
from pathlib import Path

import pytest

from diadoche.core.disks import Mount
from diadoche.core.errors import RequestError
from diadoche.services.devices.disk_watch import Medium
from diadoche.services.devices.mount_polling import MountPolling
from tests.system_bus import wait_until


class Told:
    def __init__(self) -> None:
        self.media: list[Medium] = []
        self.gone: list[str] = []
        self.lock = threading.Lock()

    def put_in(self, medium: Medium) -> None:
        self.media.append(medium)

    def pulled_out(self, key: str) -> None:
        self.gone.append(key)


def mount(point: Path, kind: str = "exfat") -> Mount:
    return Mount("8:17", point, kind, "/dev/sdb1", frozenset({"rw"}))


def test_mounts_come_and_go(tmp_path: Path) -> None:
    plugged = tmp_path / "media"
    card = plugged / "ada/CARD 1"
    card.mkdir(parents=True)
    table = [mount(Path("/"), "ext4"), mount(card), mount(plugged / "x", "squashfs")]
    told = Told()
    polling = MountPolling(
        table=lambda: list(table), plugged_in=(plugged,), desktop_mounts=tmp_path / "none", interval_s=0.02
    )
    polling.start(told.put_in, told.pulled_out)
    try:
        assert [medium.label for medium in told.media] == ["CARD 1", "x"]
        assert told.media[0].path == card
        assert told.media[0].can_eject
        del table[1]
        wait_until(lambda: told.gone, 5, "the card gone")
        table.append(mount(card))
        wait_until(lambda: len(told.media) == 3, 5, "the card again")
        assert len(polling.media()) == 2
    finally:
        polling.close()
    table.clear()
    assert len(told.gone) == 1


def test_a_phone_is_a_folder_of_the_desktops_mount(tmp_path: Path) -> None:
    phone = tmp_path / "gvfs/mtp:host=Some_Phone_1"
    phone.mkdir(parents=True)
    told = Told()
    polling = MountPolling(table=list, desktop_mounts=tmp_path / "gvfs", interval_s=0.02)
    polling.start(told.put_in, told.pulled_out)
    try:
        assert [(medium.label, medium.path) for medium in told.media] == [("Some Phone 1", phone)]
        phone.rmdir()
        wait_until(lambda: told.gone, 5, "the phone gone")
    finally:
        polling.close()


def test_a_table_that_cannot_be_read_for_a_moment_pulls_nothing_out(tmp_path: Path) -> None:
    plugged = tmp_path / "media"
    answers: list[list[Mount] | None] = [[mount(plugged / "card")]]

    def table() -> list[Mount]:
        if answers[-1] is None:
            raise OSError("busy")
        return answers[-1]

    told = Told()
    polling = MountPolling(table=table, plugged_in=(plugged,), desktop_mounts=tmp_path, interval_s=0.02)
    polling.start(told.put_in, told.pulled_out)
    try:
        answers.append(None)
        threading.Event().wait(0.2)
        assert told.gone == []
    finally:
        polling.close()


def test_a_real_mount_is_noticed_and_let_out(tmp_path: Path) -> None:
    point = tmp_path / "media/card"
    point.mkdir(parents=True)
    words = ["mount", "-t", "tmpfs", "card", str(point)]
    told = Told()
    polling = MountPolling(plugged_in=(tmp_path / "media",), desktop_mounts=tmp_path / "none", interval_s=0.05)
    polling.start(told.put_in, told.pulled_out)
    try:
        if subprocess.run(words, capture_output=True, check=False).returncode:
            pytest.skip("mounting is not allowed here")
        wait_until(lambda: told.media, 2, "the mount within two seconds")
        with (point / "busy").open("w"):
            with pytest.raises(RequestError, match="cannot be let out now"):
                polling.eject(told.media[0].key)
            assert point.is_mount()
        polling.eject(told.media[0].key)
        wait_until(lambda: told.gone, 5, "the mount gone")
        polling.eject("nobody")
    finally:
        polling.close()
        subprocess.run(["umount", "-l", str(point)], capture_output=True, check=False)
