"""A second start of the application on the same ledger: the window that is there comes to the front."""

from __future__ import annotations

from collections.abc import Callable

from PyQt6.QtNetwork import QLocalServer, QLocalSocket

_ANSWER_MS = 3000
_HEARD = b"heard"


class SecondStarts:
    """Listens for those who come later."""

    def __init__(self, name: str, came: Callable[[], None]) -> None:
        """
        Args:
            name: what is listened under.
            came: called when somebody wanted to start a second time.
        """
        # A name that a killed program left behind; whoever has the right to the ledger has the right to the name.
        QLocalServer.removeServer(name)
        self._server = QLocalServer()
        self._server.setSocketOptions(QLocalServer.SocketOption.UserAccessOption)
        self._server.newConnection.connect(lambda: self._greet(came))
        self._server.listen(name)

    def _greet(self, came: Callable[[], None]) -> None:
        socket = self._server.nextPendingConnection()
        if socket is not None:
            socket.write(_HEARD)
            socket.flush()
            socket.disconnectFromServer()
            socket.deleteLater()
        came()

    def close(self) -> None:
        """Nobody is listened to any more."""
        self._server.close()


def bring_first_to_front(name: str) -> bool:
    """Asks the window that is there to come to the front; whether it heard that."""
    socket = QLocalSocket()
    socket.connectToServer(name)
    # A window that hangs takes the connection too: only its answer says that it heard.
    heard = socket.waitForConnected(_ANSWER_MS) and socket.waitForReadyRead(_ANSWER_MS)
    socket.abort()
    return heard
