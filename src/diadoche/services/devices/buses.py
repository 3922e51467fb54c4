"""D-Bus connections on a thread of their own, for the disk service, the login manager and notifications."""

from __future__ import annotations

import asyncio
import threading
from collections.abc import Awaitable, Coroutine
from contextlib import suppress
from typing import Any, TypeVar

from dbus_fast import BusType, Message, MessageType
from dbus_fast.aio.message_bus import MessageBus
from dbus_fast.errors import DBusError

from diadoche.core.answering import HANGS_S
from diadoche.core.errors import DiadocheError

T = TypeVar("T")
PROPERTIES = "org.freedesktop.DBus.Properties"


class BusError(DiadocheError):
    """A service on the bus refused, or is not there."""


class BusThread:
    """An event loop of its own; calls may come from any thread."""

    def __init__(self) -> None:
        self.loop = asyncio.new_event_loop()
        self._buses: list[MessageBus] = []
        self._thread = threading.Thread(target=self._run, name="buses", daemon=True)
        self._thread.start()

    def _run(self) -> None:
        asyncio.set_event_loop(self.loop)
        self.loop.run_forever()

    def wait_for(self, work: Coroutine[Any, Any, T], longest_s: float = HANGS_S) -> T:
        """The result of a coroutine that runs on the loop.

        Raises:
            BusError: the service did not answer in time, or refused.
        """
        future = asyncio.run_coroutine_threadsafe(work, self.loop)
        try:
            return future.result(longest_s)
        except TimeoutError as error:
            future.cancel()
            raise BusError("A service of the desktop did not answer.", do="Try again.") from error

    def begin(self, work: Coroutine[Any, Any, Any]) -> None:
        """Starts a coroutine and does not wait for it."""
        asyncio.run_coroutine_threadsafe(work, self.loop)

    async def connected(self, bus_type: BusType, address: str | None = None) -> MessageBus:
        """A connection to a bus, which is closed with this.

        Raises:
            BusError: there is no such bus.
        """
        try:
            bus = await MessageBus(bus_address=address, bus_type=bus_type, negotiate_unix_fd=True).connect()
        except (OSError, DBusError, ValueError, EOFError, ConnectionError) as error:
            raise BusError(f"There is no {bus_type.name.lower()} bus: {error}.", do="Nothing is needed.") from error
        self._buses.append(bus)
        return bus

    async def _disconnect(self) -> None:
        for bus in self._buses:
            bus.disconnect()
        # One turn of the loop each for the sockets to close.
        await asyncio.sleep(0.02)

    def close(self) -> None:
        """Closes every connection and ends the loop."""
        with suppress(BusError):
            self.wait_for(self._disconnect())
        self.loop.call_soon_threadsafe(self.loop.stop)
        self._thread.join()
        self.loop.close()


async def call(
    bus: MessageBus, service: str, path: str, interface: str, member: str, signature: str = "", *body: object
) -> Message:
    """Calls a method and gives the answer.

    Raises:
        BusError: the service refused, or is not there.
    """
    message = Message(
        destination=service, path=path, interface=interface, member=member, signature=signature, body=list(body)
    )
    answer = await _answered(bus.call(message))
    if answer is None or answer.message_type is MessageType.ERROR:
        text = str(answer.body[0]) if answer is not None and answer.body else "no answer"
        raise BusError(f"{member}: {text}", path=path)
    return answer


async def _answered(pending: Awaitable[Message | None]) -> Message | None:
    try:
        return await asyncio.wait_for(pending, HANGS_S)
    except (EOFError, OSError, TimeoutError):
        return None


async def listen(bus: MessageBus, service: str) -> None:
    """Asks the bus for every signal of a service."""
    await call(
        bus, "org.freedesktop.DBus", "/org/freedesktop/DBus", "org.freedesktop.DBus", "AddMatch", "s",
        f"type='signal',sender='{service}'",
    )  # fmt: skip
