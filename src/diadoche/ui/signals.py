"""Ctrl-C at the terminal, and the system's wish that the program ends: the window closes as it does otherwise."""

from __future__ import annotations

import signal
import socket
from typing import Any, cast

from PyQt6.QtCore import QSocketNotifier, QTimer
from PyQt6.QtWidgets import QApplication


def quit_on_signals(app: QApplication) -> None:
    """Ends the event loop on SIGINT and SIGTERM; work that is under way goes on at the next start."""
    heard, said = socket.socketpair()
    heard.setblocking(False)
    said.setblocking(False)
    # The interpreter runs its handlers only when it is at work: each signal wakes it by a byte.
    signal.set_wakeup_fd(said.fileno(), warn_on_full_buffer=False)
    notifier = QSocketNotifier(cast(Any, heard.fileno()), QSocketNotifier.Type.Read, app)
    notifier.activated.connect(lambda: heard.recv(64))
    # Both ends live as long as the application.
    app.setProperty("signals", [heard, said])
    for number in (signal.SIGINT, signal.SIGTERM):
        # By the event loop: one that comes before that runs is not lost.
        # Not `quit`: that closes the window first, which asks whether cards that are read may be left, or goes out of
        # sight while something is at work. Whoever ends the program from outside waits for no answer.
        signal.signal(number, lambda *_: QTimer.singleShot(0, lambda: app.exit(0)))
