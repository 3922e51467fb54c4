"""A second start of the application on the same ledger: the window that is there comes to the front.

A folder that the second start was given is handed over: its path, ended by a byte that no path holds.
"""

from __future__ import annotations

import os
from collections.abc import Callable
from functools import partial
from pathlib import Path

from PyQt6.QtNetwork import QLocalServer, QLocalSocket

_ANSWER_MS = 3000
_HEARD = b"heard"
_END, _LONGEST_PATH = b"\0", 4096


class SecondStarts:
    """Listens for those who come later."""

    def __init__(self, name: str, came: Callable[[Path | None], None]) -> None:
        """
        Args:
            name: what is listened under.
            came: called when somebody wanted to start a second time, with the folder that was given then.
        """
        # A name that a killed program left behind; whoever has the right to the ledger has the right to the name.
        QLocalServer.removeServer(name)
        self._server = QLocalServer()
        self._server.setSocketOptions(QLocalServer.SocketOption.UserAccessOption)
        self._came = came
        self._server.newConnection.connect(self._greet)
        self._server.listen(name)

    def _greet(self) -> None:
        socket = self._server.nextPendingConnection()
        if socket is not None:
            socket.readyRead.connect(partial(self._hear, socket))
            socket.disconnected.connect(socket.deleteLater)
            # What was sent before anybody listened is not told of again.
            self._hear(socket)

    def _hear(self, socket: QLocalSocket) -> None:
        """Answers as soon as all was said. Whoever says more than a path is not listened to."""
        said = socket.peek(_LONGEST_PATH + 1)
        if _END not in said:
            if len(said) > _LONGEST_PATH:
                socket.abort()
                socket.deleteLater()
            return
        socket.readAll()
        socket.write(_HEARD)
        socket.flush()
        socket.disconnectFromServer()
        socket.deleteLater()
        given = said.partition(_END)[0]
        self._came(Path(os.fsdecode(given)) if given else None)

    def close(self) -> None:
        """Nobody is listened to any more."""
        self._server.close()


def bring_first_to_front(name: str, folder: Path | None = None) -> bool:
    """Asks the window that is there to come to the front, and to take a folder; whether it heard that."""
    socket = QLocalSocket()
    socket.connectToServer(name)
    heard = socket.waitForConnected(_ANSWER_MS)
    if heard:
        socket.write((os.fsencode(folder) if folder is not None else b"") + _END)
        # A window that hangs takes the connection too: only its answer says that it heard.
        heard = socket.waitForReadyRead(_ANSWER_MS) and bytes(socket.readAll().data()) == _HEARD
    socket.abort()
    return heard
