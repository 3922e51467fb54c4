"""Files shown by the desktop's file manager: on a real bus with a small stand-in, and where there is none."""

from __future__ import annotations

import asyncio
import threading
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path

import pytest
from dbus_fast import Message, MessageType
from dbus_fast.aio.message_bus import MessageBus
from PyQt6.QtCore import QObject, QUrl, pyqtSlot
from PyQt6.QtDBus import QDBusConnection
from PyQt6.QtGui import QDesktopServices
from pytestqt.qtbot import QtBot

from diadoche.ui.file_manager import show_in_files
from tests.system_bus import plain_bus

_NAME = "org.freedesktop.FileManager1"


class Desktop(QObject):
    """Notes what it is asked to open."""

    def __init__(self) -> None:
        super().__init__()
        self.opened: list[QUrl] = []

    @pyqtSlot(QUrl)
    def open(self, url: QUrl) -> None:
        self.opened.append(url)


@contextmanager
def file_manager(address: str, asked: list[list[str]]) -> Iterator[None]:
    """One that only notes which files it is to show."""
    loop, ready = asyncio.new_event_loop(), threading.Event()
    gone: list[asyncio.Event] = []

    def show(message: Message) -> Message | None:
        if message.message_type is not MessageType.METHOD_CALL or message.member != "ShowItems":
            return None
        asked.append(message.body[0])
        return Message.new_method_return(message)

    async def begin() -> None:
        bus = await MessageBus(bus_address=address).connect()
        bus.add_message_handler(show)
        await bus.request_name(_NAME)
        gone.append(asyncio.Event())
        ready.set()
        await gone[0].wait()
        bus.disconnect()

    thread = threading.Thread(target=lambda: loop.run_until_complete(begin()))
    thread.start()
    assert ready.wait(10)
    try:
        yield
    finally:
        loop.call_soon_threadsafe(gone[0].set)
        thread.join()
        loop.close()


def test_a_file_manager_is_asked_to_show_files(qtbot: QtBot, tmp_path: Path) -> None:
    file = tmp_path / "A day's clip é.MP4"
    asked: list[list[str]] = []
    with plain_bus(tmp_path) as address, file_manager(address, asked):
        bus = QDBusConnection.connectToBus(address, "test of files")
        try:
            show_in_files([file], bus)
            qtbot.waitUntil(lambda: bool(asked), timeout=10_000)
        finally:
            QDBusConnection.disconnectFromBus("test of files")
    assert [QUrl(each).toLocalFile() for each in asked[0]] == [str(file)]


@pytest.fixture
def desktop() -> Iterator[Desktop]:
    asked = Desktop()
    QDesktopServices.setUrlHandler("file", asked.open)
    yield asked
    QDesktopServices.unsetUrlHandler("file")


def test_without_a_file_manager_the_folder_is_opened(qtbot: QtBot, tmp_path: Path, desktop: Desktop) -> None:
    with plain_bus(tmp_path) as address:
        bus = QDBusConnection.connectToBus(address, "test without")
        assert bus.isConnected()
        try:
            show_in_files([tmp_path / "clip.MP4"], bus)
            qtbot.waitUntil(lambda: bool(desktop.opened), timeout=10_000)
        finally:
            QDBusConnection.disconnectFromBus("test without")
    assert [url.toLocalFile() for url in desktop.opened] == [str(tmp_path)]


@pytest.mark.parametrize("gone", ["before", "later"])
def test_without_a_bus_the_folder_is_opened(qtbot: QtBot, tmp_path: Path, desktop: Desktop, gone: str) -> None:
    """A desktop that has no bus, and one whose bus ended after the window had met it."""
    with plain_bus(tmp_path) as address:
        if gone == "later":
            bus = QDBusConnection.connectToBus(address, "test gone")
            assert bus.isConnected()
    if gone == "before":
        bus = QDBusConnection.connectToBus(address, "test gone")
    try:
        show_in_files([tmp_path / "clip.MP4"], bus)
        qtbot.waitUntil(lambda: bool(desktop.opened), timeout=10_000)
    finally:
        QDBusConnection.disconnectFromBus("test gone")
    assert [url.toLocalFile() for url in desktop.opened] == [str(tmp_path)]
