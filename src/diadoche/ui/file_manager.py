"""Files shown where they lie, by the desktop's own file manager."""

from __future__ import annotations

from collections.abc import Sequence
from pathlib import Path
from typing import cast

from PyQt6.QtCore import QMetaType, QMimeData, QUrl
from PyQt6.QtDBus import QDBusArgument, QDBusConnection, QDBusMessage, QDBusPendingCallWatcher, QDBusPendingReply
from PyQt6.QtGui import QDesktopServices, QGuiApplication

# The interface of freedesktop.org for file managers.
_NAME, _PATH = "org.freedesktop.FileManager1", "/org/freedesktop/FileManager1"


def show_in_files(paths: Sequence[Path], bus: QDBusConnection | None = None) -> None:
    """Opens the folder of files with those files selected; without a file manager that can, the folder alone.

    It asks no disk, and does not wait for the answer. `bus` is the session's own where nothing else is said.
    """
    if not paths:
        return
    message = QDBusMessage.createMethodCall(_NAME, _PATH, _NAME, "ShowItems")
    files = QDBusArgument()
    # A plain list would go as one of variants, which the interface does not know.
    files.add([QUrl.fromLocalFile(str(path)).toString() for path in paths], cast(int, QMetaType.Type.QStringList.value))
    message.setArguments([files, ""])
    bus = QDBusConnection.sessionBus() if bus is None else bus
    folder = QUrl.fromLocalFile(str(paths[0].parent))
    # A call on a bus that is not there never ends: its watcher would wait for good.
    if not bus.isConnected():
        QDesktopServices.openUrl(folder)
        return
    watcher = QDBusPendingCallWatcher(bus.asyncCall(message), QGuiApplication.instance())

    def answered() -> None:
        if QDBusPendingReply(watcher).isError():
            QDesktopServices.openUrl(folder)
        watcher.deleteLater()

    watcher.finished.connect(answered)


def copy_paths(paths: Sequence[Path]) -> None:
    """Puts paths on the clipboard, a line each."""
    clipboard = QGuiApplication.clipboard()
    assert clipboard is not None
    clipboard.setText("\n".join(map(str, paths)))


def dragged(paths: Sequence[Path]) -> QMimeData:
    """Files as other programs take them from a drag; to be copied, for originals stay where they are."""
    data = QMimeData()
    data.setUrls([QUrl.fromLocalFile(str(path)) for path in paths])
    return data
