"""What the desktop is asked for: no sleep while a card is read, a short notice, and no windows of its own on cards.

Sources: [LOGIN1] org.freedesktop.login1.Manager.Inhibit; [NOTIFY] Desktop Notifications Specification 1.2.
"""

from __future__ import annotations

import contextlib
import html
import os
import shutil
import subprocess
import threading
from collections.abc import Callable

from dbus_fast import BusType, Variant
from dbus_fast.aio.message_bus import MessageBus
from dbus_fast.message import Message

from diadoche.services.devices.buses import BusError, BusThread, call

_LOGIN = "org.freedesktop.login1"
_NOTIFY = "org.freedesktop.Notifications"


class SleepLock:
    """Keeps the machine awake while it is held; without a login manager it does nothing, and says so."""

    def __init__(self, buses: BusThread, address: str | None = None) -> None:
        self._buses = buses
        self._address = address
        self._bus: MessageBus | None = None
        self._lock = threading.Lock()
        self._descriptor = -1
        self._wanted = self._asking = False
        self.works = True

    def hold(self, wanted: bool) -> None:
        """Takes or gives back the lock; asking twice does no harm."""
        with self._lock:
            self._wanted = wanted
            if not wanted:
                self._give_back()
            elif self._descriptor < 0 and self.works and not self._asking:
                self._asking = True
                self._buses.begin(self._take())

    @property
    def held(self) -> bool:
        """Whether the machine is kept awake now."""
        return self._descriptor >= 0

    def _give_back(self) -> None:
        if self._descriptor >= 0:
            os.close(self._descriptor)
            self._descriptor = -1

    async def _take(self) -> None:
        try:
            self._bus = self._bus or await self._buses.connected(BusType.SYSTEM, self._address)
            answer = await self._inhibited(self._bus)
        except BusError:
            self.works = self._asking = False
            return
        with self._lock:
            self._asking = False
            self._descriptor = answer.unix_fds[answer.body[0]]
            # The card may have been let go while the login manager was thinking.
            if not self._wanted:
                self._give_back()

    @staticmethod
    async def _inhibited(bus: MessageBus) -> Message:
        """Sleep, and what closing the lid does; where the second is not allowed, sleep alone."""
        for what in ("sleep:handle-lid-switch", "sleep"):
            try:
                return await call(
                    bus, _LOGIN, "/org/freedesktop/login1", f"{_LOGIN}.Manager", "Inhibit", "ssss",
                    what, "Diadoche", "A card is being read.", "block",
                )  # fmt: skip
            except BusError:
                if what == "sleep":
                    raise
        raise BusError("the login manager keeps nothing awake")


class Notices:
    """Short notices by the desktop; where it has no service for them, another way is taken."""

    def __init__(self, buses: BusThread, otherwise: Callable[[str, str], None], address: str | None = None) -> None:
        """`otherwise` shows a title and a text where there is no notification service; called from any thread."""
        self._buses = buses
        self._otherwise = otherwise
        self._address = address
        self._bus: MessageBus | None = None

    def show(self, title: str, text: str) -> None:
        """Shows a notice; never waits. Desktops take its text for markup: what comes from a card is none."""
        self._buses.begin(self._show(title, text))

    async def _show(self, title: str, text: str) -> None:
        try:
            self._bus = self._bus or await self._buses.connected(BusType.SESSION, self._address)
            await call(
                self._bus, _NOTIFY, "/org/freedesktop/Notifications", _NOTIFY, "Notify", "susssasa{sv}i",
                "Diadoche", 0, "", title, html.escape(text, quote=False), [], {"urgency": Variant("y", 1)}, -1,
            )  # fmt: skip
        except BusError:
            self._otherwise(title, text)


# Desktops keep these in the same store under names of their own; which ones exist is asked, not assumed.
_POP_UPS = (
    ("org.gnome.desktop.media-handling", "automount-open", "false"),
    ("org.gnome.desktop.media-handling", "autorun-never", "true"),
    ("org.cinnamon.desktop.media-handling", "automount-open", "false"),
    ("org.mate.media-handling", "automount-open", "false"),
)


class PopUps:
    """The windows that a desktop opens on every card: quieted and restored, by the desktop's own settings."""

    def __init__(self, remember: Callable[[dict[str, str]], None], remembered: dict[str, str]) -> None:
        """
        Args:
            remember: keeps what the settings were, so that they can be restored after a crash too.
            remembered: what was kept.
        """
        self._remember = remember
        self._before = dict(remembered)
        self._program = shutil.which("gsettings")

    @property
    def quieted(self) -> bool:
        """Whether we have changed the desktop's settings."""
        return bool(self._before)

    def can_be_quieted(self) -> bool:
        """Whether this desktop has such settings."""
        return self._program is not None and any(self._read(schema, key) for schema, key, _ in _POP_UPS)

    def quiet(self) -> None:
        """Changes what opens windows, and remembers how it was."""
        for schema, key, value in _POP_UPS:
            now = self._read(schema, key)
            if now and now != value:
                self._before[f"{schema} {key}"] = now
        self._remember(self._before)
        for schema, key, value in _POP_UPS:
            if f"{schema} {key}" in self._before:
                self._write(schema, key, value)

    def restore(self) -> None:
        """Puts everything back as it was."""
        for name, value in self._before.items():
            schema, _, key = name.partition(" ")
            self._write(schema, key, value)
        self._before = {}
        self._remember({})

    def _read(self, schema: str, key: str) -> str:
        if self._program is None:
            return ""
        done = subprocess.run([self._program, "get", schema, key], capture_output=True, text=True, check=False)
        return done.stdout.strip() if done.returncode == 0 else ""

    def _write(self, schema: str, key: str, value: str) -> None:
        if self._program is not None:
            with contextlib.suppress(OSError):
                subprocess.run([self._program, "set", schema, key, value], capture_output=True, check=False)
