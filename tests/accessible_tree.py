"""What a screen reader is told of a running window: its tree over AT-SPI, read on buses of its own.

The interfaces are those of at-spi2-core (org.a11y.atspi.*), whose numbers of states are its own enumeration.
"""

from __future__ import annotations

import asyncio
import os
import subprocess
from collections.abc import AsyncIterator, Iterator, Sequence
from contextlib import asynccontextmanager, contextmanager
from dataclasses import dataclass
from pathlib import Path
from typing import Any

from dbus_fast import Message, MessageType
from dbus_fast.aio.message_bus import MessageBus

LAUNCHER = Path("/usr/libexec/at-spi-bus-launcher")
_ACCESSIBLE, _ACTION, _TABLE = (f"org.a11y.atspi.{name}" for name in ("Accessible", "Action", "Table"))
_PROPERTIES = "org.freedesktop.DBus.Properties"
_ROOT = ("org.a11y.atspi.Registry", "/org/a11y/atspi/accessible/root")
_SHOWING = 25
# As long as other tests wait for a window that shares the machine.
_LOOK_S, _LONGEST_S = 0.2, 180.0
Reference = tuple[str, str]


@dataclass(frozen=True)
class Node:
    """One accessible thing that is on show."""

    reference: Reference
    role: str
    name: str


@contextmanager
def accessible_session(folder: Path) -> Iterator[dict[str, str]]:
    """A session with an accessibility bus: the variables that a program needs to be heard there."""
    words = ["dbus-daemon", "--session", "--nofork", "--print-address=1"]
    with subprocess.Popen(words, stdout=subprocess.PIPE, stderr=subprocess.DEVNULL, text=True) as daemon:
        assert daemon.stdout is not None
        session = {
            "DBUS_SESSION_BUS_ADDRESS": daemon.stdout.readline().strip(),
            "XDG_RUNTIME_DIR": str(folder),
            "QT_LINUX_ACCESSIBILITY_ALWAYS_ON": "1",
        }
        launcher = subprocess.Popen(
            [LAUNCHER, "--launch-immediately"],
            env={**os.environ, **session},
            stdout=subprocess.DEVNULL,
            stderr=subprocess.DEVNULL,
        )
        try:
            yield session
        finally:
            for process in (launcher, daemon):
                process.terminate()
                process.wait()


class Tree:
    """The tree of the one program that is on the bus."""

    def __init__(self, bus: MessageBus) -> None:
        self._bus = bus

    async def _call(self, at: Reference, interface: str, member: str, signature: str = "", *body: Any) -> list[Any]:
        answer = await self._bus.call(Message(at[0], at[1], interface, member, signature=signature, body=list(body)))
        # What went away while it was asked says nothing any more.
        return answer.body if answer is not None and answer.message_type is MessageType.METHOD_RETURN else []

    async def _property(self, at: Reference, interface: str, name: str) -> Any:
        found = await self._call(at, _PROPERTIES, "Get", "ss", interface, name)
        return found[0].value if found else None

    async def _children(self, at: Reference) -> list[Reference]:
        found = await self._call(at, _ACCESSIBLE, "GetChildren")
        return [(child[0], child[1]) for child in found[0]] if found else []

    async def shown(self) -> list[Node]:
        """Everything that is on show now, from the top; cells of tables are not walked through."""
        found: list[Node] = []
        waiting = [child for program in await self._children(_ROOT) for child in await self._children(program)]
        while waiting:
            at = waiting.pop(0)
            states = await self._call(at, _ACCESSIBLE, "GetState")
            if not states or not states[0][0] >> _SHOWING & 1:
                continue
            role = await self._call(at, _ACCESSIBLE, "GetRoleName")
            node = Node(at, role[0] if role else "", await self._property(at, _ACCESSIBLE, "Name") or "")
            found.append(node)
            if node.role != "table":
                waiting[:0] = await self._children(at)
        return found

    async def waits_for(self, names: Sequence[str]) -> list[Node]:
        """The tree as soon as all of these begin the name of something on show."""
        for _ in range(round(_LONGEST_S / _LOOK_S)):
            nodes = await self.shown()
            if all(any(node.name.startswith(name) for node in nodes) for name in names):
                return nodes
            await asyncio.sleep(_LOOK_S)
        raise AssertionError(f"never on show: {names}")

    async def waits_for_part(self, words: str) -> Node:
        """The first on show that has words in its name."""
        for _ in range(round(_LONGEST_S / _LOOK_S)):
            found = next((node for node in await self.shown() if words in node.name), None)
            if found is not None:
                return found
            await asyncio.sleep(_LOOK_S)
        raise AssertionError(f"never on show: {words}")

    async def press(self, node: Node) -> None:
        """Does what a click on it does."""
        assert await self._call(node.reference, _ACTION, "DoAction", "i", 0) == [True]

    async def cells(self, table: Node) -> list[str]:
        """The names of the cells of a table's first row."""
        rows = await self._property(table.reference, _TABLE, "NRows")
        columns = await self._property(table.reference, _TABLE, "NColumns")
        if not rows:
            return []
        names = []
        for column in range(columns):
            (cell,) = await self._call(table.reference, _TABLE, "GetAccessibleAt", "ii", 0, column)
            names.append(await self._property((cell[0], cell[1]), _ACCESSIBLE, "Name") or "")
        return names


@asynccontextmanager
async def tree_of(session: dict[str, str]) -> AsyncIterator[Tree]:
    """The tree, by the accessibility bus that the session names."""
    bus = await MessageBus(bus_address=session["DBUS_SESSION_BUS_ADDRESS"]).connect()
    answer = await bus.call(Message("org.a11y.Bus", "/org/a11y/bus", "org.a11y.Bus", "GetAddress"))
    assert answer is not None
    bus.disconnect()
    bus = await MessageBus(bus_address=answer.body[0]).connect()
    try:
        yield Tree(bus)
    finally:
        bus.disconnect()
