"""Media through the desktop's own disk service, UDisks2, on the system bus.

Source: [UDISKS] the UDisks2 D-Bus reference: ObjectManager at /org/freedesktop/UDisks2, interfaces Block,
Filesystem, Drive and Loop; Filesystem.Mount takes mount options as text.
"""

from __future__ import annotations

from collections.abc import Callable, Mapping
from dataclasses import dataclass, field
from pathlib import Path
from typing import Any

from dbus_fast import BusType, Message, MessageType, Variant
from dbus_fast.aio.message_bus import MessageBus

from diadoche.core.errors import RequestError
from diadoche.core.names import shown
from diadoche.services.devices.buses import PROPERTIES, BusError, BusThread, call, listen
from diadoche.services.devices.disk_watch import Medium, PulledOut, PutIn

SERVICE = "org.freedesktop.UDisks2"
_TOP = "/org/freedesktop/UDisks2"
_MANAGER = "org.freedesktop.DBus.ObjectManager"
_BLOCK, _FILESYSTEM, _DRIVE, _LOOP = (f"{SERVICE}.{name}" for name in ("Block", "Filesystem", "Drive", "Loop"))
# Read-only, and no access times: what we mount is never written to.
_OPTIONS = "ro,noatime,nosuid,nodev,noexec"
_CARD_BUSES = {"usb", "sdio", "ieee1394"}

Properties = dict[str, Any]
Interfaces = dict[str, Properties]


@dataclass(slots=True)
class _Known:
    """Every object of the service, with the newest properties."""

    objects: dict[str, Interfaces] = field(default_factory=dict)

    def drive_of(self, path: str) -> Properties:
        drive = self.objects.get(path, {}).get(_BLOCK, {}).get("Drive", "/")
        return self.objects.get(drive, {}).get(_DRIVE, {})

    def drive_path(self, path: str) -> str:
        return str(self.objects.get(path, {}).get(_BLOCK, {}).get("Drive", "/"))


class UdisksWatch:
    """Tells of media by UDisks2, mounts them read-only, and lets them out again."""

    def __init__(
        self,
        buses: BusThread,
        address: str | None = None,
        *,
        loops_too: bool = False,
        told: Callable[[str], None] = lambda _words: None,
    ) -> None:
        """
        Args:
            buses: where the connection lives.
            address: of the bus, the machine's own when None.
            loops_too: takes loop devices for media, as the tests need it.
            told: hears in words of a medium that could not be mounted, or not yet; from the buses' thread.

        Raises:
            BusError: there is no system bus, or no UDisks2 on it.
        """
        self._buses = buses
        self._loops_too = loops_too
        self._told = told
        self._known = _Known()
        self._in: dict[str, Medium] = {}
        self._mounted_by_us: set[str] = set()
        self._asked: set[str] = set()
        self._tell: tuple[PutIn, PulledOut] | None = None
        self._bus: MessageBus = buses.wait_for(self._connect(address))

    async def _connect(self, address: str | None) -> MessageBus:
        bus = await self._buses.connected(BusType.SYSTEM, address)
        await call(bus, SERVICE, _TOP, _MANAGER, "GetManagedObjects")
        return bus

    def start(self, put_in: PutIn, pulled_out: PulledOut) -> None:
        """Begins telling, on the buses' thread."""
        self._tell = (put_in, pulled_out)
        self._buses.wait_for(self._begin())

    async def _begin(self) -> None:
        self._bus.add_message_handler(self._heard)
        await listen(self._bus, SERVICE)
        answer = await call(self._bus, SERVICE, _TOP, _MANAGER, "GetManagedObjects")
        self._known.objects = {path: _plain_all(found) for path, found in answer.body[0].items()}
        for path in list(self._known.objects):
            # Each by itself: a card whose mounting hangs keeps no other one waiting.
            self._buses.begin(self._settle(path))

    def media(self) -> tuple[Medium, ...]:
        """What is in now."""
        return tuple(self._in.values())

    def eject(self, key: str) -> None:
        """Unmounts a medium, ejects it and powers its drive off where the drive can do that.

        Raises:
            RequestError: something still uses it; it stays in.
        """
        medium = self._in.get(key)
        if medium is None:
            return
        try:
            self._buses.wait_for(self._let_out(key))
        except BusError as error:
            raise RequestError(
                f"{medium.label} cannot be let out now: {error}",
                path=medium.path,
                safe="It was only read.",
                do="Close what still uses it, and try again.",
            ) from error

    async def _let_out(self, path: str) -> None:
        drive_path, drive = self._known.drive_path(path), self._known.drive_of(path)
        await call(self._bus, SERVICE, path, _FILESYSTEM, "Unmount", "a{sv}", {})
        if drive.get("Ejectable"):
            await call(self._bus, SERVICE, drive_path, _DRIVE, "Eject", "a{sv}", {})
        elif drive.get("CanPowerOff"):
            # A reader with several cards is not switched off while another card is in it.
            others = [each for each in self._in if each != path and self._known.drive_path(each) == drive_path]
            if not others:
                await call(self._bus, SERVICE, drive_path, _DRIVE, "PowerOff", "a{sv}", {})

    def close(self) -> None:
        """Ends telling."""
        self._tell = None
        self._buses.loop.call_soon_threadsafe(self._bus.disconnect)

    # -- on the buses' thread --------------------------------------------------------------------

    def _heard(self, message: Message) -> None:
        path = message.path or ""
        if message.message_type is not MessageType.SIGNAL or not path.startswith(_TOP):
            return
        if message.member == "InterfacesAdded":
            path, added = message.body
            self._known.objects.setdefault(path, {}).update(_plain_all(added))
            self._buses.begin(self._settle(path))
        elif message.member == "InterfacesRemoved":
            path, names = message.body
            for name in names:
                self._known.objects.get(path, {}).pop(name, None)
            self._buses.begin(self._settle(path))
        elif message.interface == PROPERTIES and message.member == "PropertiesChanged":
            interface, changed, _gone = message.body
            self._known.objects.setdefault(path, {}).setdefault(interface, {}).update(_plain(changed))
            self._buses.begin(self._settle(path))

    async def _settle(self, path: str) -> None:
        """Brings what is told in line with what is known of one object."""
        interfaces = self._known.objects.get(path, {})
        points = _mount_points(interfaces.get(_FILESYSTEM))
        if points and self._is_card(path, interfaces):
            self._put_in(path, interfaces, Path(points[0]))
            return
        if path in self._in:
            del self._in[path]
            if self._tell is not None:
                self._tell[1](path)
        if _FILESYSTEM not in interfaces:
            self._asked.discard(path)
        elif not points and path not in self._asked and self._is_card(path, interfaces):
            self._asked.add(path)
            try:
                await call(self._bus, SERVICE, path, _FILESYSTEM, "Mount", "a{sv}", {"options": Variant("s", _OPTIONS)})
            except BusError as error:
                # Somebody else may have been quicker, or a slow card mounts later: the mount that appears is taken.
                if path not in self._in:
                    label = shown(str(interfaces[_BLOCK].get("IdLabel") or path.rpartition("/")[2]))
                    self._told(f"{label} is not mounted: {error}. It comes in by itself as soon as it is.")

    def _put_in(self, path: str, interfaces: Interfaces, point: Path) -> None:
        block, drive = interfaces[_BLOCK], self._known.drive_of(path)
        label = block.get("IdLabel") or point.name
        reader = " ".join(filter(None, (drive.get("Vendor"), drive.get("Model")))) or str(block.get("Device", ""))
        medium = Medium(
            path, point, label, reader, 0, self._known.drive_path(path) if drive else path, True,
            str(block.get("IdUUID", "")),
        )  # fmt: skip
        before = self._in.get(path)
        self._in[path] = medium
        if before is None and self._tell is not None:
            self._tell[0](medium)

    def _is_card(self, path: str, interfaces: Interfaces) -> bool:
        block = interfaces.get(_BLOCK)
        if block is None or block.get("HintIgnore") or block.get("IdUsage") != "filesystem":
            return False
        if _LOOP in interfaces:
            return self._loops_too
        drive = self._known.drive_of(path)
        removable = drive.get("Removable") or drive.get("MediaRemovable") or drive.get("ConnectionBus") in _CARD_BUSES
        return bool(removable) and not block.get("HintSystem")


def _plain(properties: Mapping[str, Any]) -> Properties:
    """Properties without their wrapping; paths come as bytes that end in a zero."""
    found = {}
    for name, value in properties.items():
        inner = value.value if isinstance(value, Variant) else value
        if isinstance(inner, bytes):
            inner = inner.rstrip(b"\0").decode("utf-8", "surrogateescape")
        found[name] = inner
    return found


def _plain_all(interfaces: Mapping[str, Mapping[str, Any]]) -> Interfaces:
    return {name: _plain(properties) for name, properties in interfaces.items()}


def _mount_points(filesystem: Properties | None) -> list[str]:
    points = filesystem.get("MountPoints", []) if filesystem is not None else []
    return [bytes(point).rstrip(b"\0").decode("utf-8", "surrogateescape") for point in points]
