"""What the desktop is asked for: on a real bus, with small stand-ins of its services; and where there is no bus."""

from __future__ import annotations

import asyncio
import os
import shutil
import threading
from collections.abc import Iterator
from pathlib import Path

import pytest
from dbus_fast import Message, MessageType
from dbus_fast.aio.message_bus import MessageBus

from diadoche.services.devices.buses import BusThread
from diadoche.services.devices.desktop import Notices, PopUps, SleepLock
from diadoche.services.devices.devices import CameIn, DeviceNews, Devices, NoticeWanted, Said, WentOut
from diadoche.services.devices.disk_watch import Medium
from tests.system_bus import plain_bus, wait_until


class Services(threading.Thread):
    """A login manager and a notification service that only note what they are asked."""

    def __init__(self, address: str) -> None:
        super().__init__(daemon=True)
        self.address = address
        self.inhibitors: list[int] = []
        self.shown: list[tuple[str, str]] = []
        self.ready = threading.Event()
        self._loop = asyncio.new_event_loop()

    def run(self) -> None:
        self._loop.run_until_complete(self._begin())
        self._loop.run_forever()

    async def _begin(self) -> None:
        self.bus = bus = await MessageBus(bus_address=self.address, negotiate_unix_fd=True).connect()
        bus.add_message_handler(self._asked)
        for name in ("org.freedesktop.login1", "org.freedesktop.Notifications"):
            await bus.request_name(name)
        self.ready.set()

    def _asked(self, message: Message) -> Message | None:
        if message.message_type is not MessageType.METHOD_CALL:
            return None
        if message.member == "Inhibit":
            assert message.body == ["sleep:handle-lid-switch", "Diadoche", "A card is being read.", "block"]
            ours, theirs = os.pipe()
            self.inhibitors += [ours, theirs]
            return Message.new_method_return(message, "h", [0], [theirs])
        if message.member == "Notify":
            self.shown.append((message.body[3], message.body[4]))
            return Message.new_method_return(message, "u", [1])
        return None

    def close(self) -> None:
        self._loop.call_soon_threadsafe(self.bus.disconnect)
        self._loop.call_soon_threadsafe(lambda: self._loop.call_later(0.05, self._loop.stop))
        self.join()
        self._loop.close()
        for descriptor in self.inhibitors:
            os.close(descriptor)


@pytest.fixture
def services(tmp_path: Path) -> Iterator[Services]:
    with plain_bus(tmp_path) as address:
        made = Services(address)
        made.start()
        assert made.ready.wait(10)
        yield made
        made.close()


@pytest.fixture
def buses() -> Iterator[BusThread]:
    made = BusThread()
    yield made
    made.close()


def test_the_machine_stays_awake_while_the_lock_is_held(services: Services, buses: BusThread) -> None:
    lock = SleepLock(buses, services.address)
    lock.hold(True)
    wait_until(lambda: services.inhibitors, 10, "the request")
    lock.hold(True)
    wait_until(lambda: lock.held, 10, "the answer")
    # The stand-in's own end of the pipe was handed over; ours alone keeps it open.
    assert lock.works
    assert len(services.inhibitors) == 2
    lock.hold(False)
    lock.hold(False)
    lock.hold(True)
    lock.hold(False)
    # Given back before the answer came: it is not kept when it does.
    wait_until(lambda: len(services.inhibitors) == 4, 10, "the second request")
    wait_until(lambda: not lock._asking, 10, "the second answer")
    assert not lock.held


def test_a_notice_reaches_the_service(services: Services, buses: BusThread) -> None:
    missed: list[tuple[str, str]] = []
    notices = Notices(buses, lambda title, text: missed.append((title, text)), services.address)
    notices.show("Drone: 2 of 2 copies proven", "3 clips.")
    wait_until(lambda: services.shown, 10, "the notice")
    assert services.shown == [("Drone: 2 of 2 copies proven", "3 clips.")]
    assert missed == []


def test_without_a_bus_nothing_breaks_and_another_way_is_taken(buses: BusThread, tmp_path: Path) -> None:
    nowhere = f"unix:path={tmp_path / 'no bus'}"
    lock = SleepLock(buses, nowhere)
    lock.hold(True)
    wait_until(lambda: not lock.works, 10, "the failure")
    lock.hold(False)
    missed: list[str] = []
    Notices(buses, lambda title, _text: missed.append(title), nowhere).show("title", "text")
    wait_until(lambda: missed, 10, "the other way")
    assert missed == ["title"]


def test_pop_ups_are_quieted_and_put_back(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    """A stand-in of the desktop's settings tool: one file a setting."""
    tool = tmp_path / "bin/gsettings"
    tool.parent.mkdir()
    tool.write_text(
        '#!/bin/sh\nf="$STORE/$2.$3"\n[ -f "$f" ] || exit 1\n'
        'case "$1" in get) cat "$f";; set) printf %s "$4" > "$f";; esac\n'
    )
    tool.chmod(0o755)
    store = tmp_path / "store"
    store.mkdir()
    settings = {"automount-open": "true", "autorun-never": "false"}
    for name, value in settings.items():
        (store / f"org.gnome.desktop.media-handling.{name}").write_text(value)
    monkeypatch.setenv("STORE", str(store))
    monkeypatch.setenv("PATH", f"{tool.parent}:{os.environ['PATH']}")

    def now() -> dict[str, str]:
        return {name: (store / f"org.gnome.desktop.media-handling.{name}").read_text() for name in settings}

    kept: list[dict[str, str]] = []
    pop_ups = PopUps(lambda before: kept.append(dict(before)), {})
    assert pop_ups.can_be_quieted()
    pop_ups.quiet()
    assert pop_ups.quieted
    assert now() == {"automount-open": "false", "autorun-never": "true"}
    # After a crash, what was kept is enough to put it back.
    again = PopUps(lambda before: kept.append(dict(before)), kept[0])
    assert again.quieted
    again.restore()
    assert now() == settings
    assert kept[-1] == {}


def test_a_desktop_without_such_settings_is_left_alone(monkeypatch: pytest.MonkeyPatch, tmp_path: Path) -> None:
    monkeypatch.setenv("PATH", str(tmp_path))
    assert not PopUps(lambda _before: None, {}).can_be_quieted()
    assert shutil.which("gsettings") is None


def test_the_machines_devices_begin_and_end_without_any_desktop(
    tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    for name in ("DBUS_SYSTEM_BUS_ADDRESS", "DBUS_SESSION_BUS_ADDRESS"):
        monkeypatch.setenv(name, f"unix:path={tmp_path / 'no bus'}")
    told: list[DeviceNews] = []
    devices = Devices(told.append, tmp_path / "shares")
    devices.start()
    devices.notices.show("title", "text")
    devices.connect("no address at all")
    devices.let_out("network://nobody/here")
    wait_until(lambda: sum(not isinstance(each, CameIn) for each in told) >= 4, 10, "all answers")
    devices.close()
    assert NoticeWanted("title", "text") in told
    assert WentOut("network://nobody/here") in told
    failed = [each for each in told if isinstance(each, Said) and each.failed]
    assert [each.about for each in failed] == ["no address at all"]
    assert not [each for each in told if isinstance(each, CameIn) and not isinstance(each.medium, Medium)]
