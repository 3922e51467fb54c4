"""Packets written on a thread of their own, while the next ones are read: neither waits for the other's disk."""

from __future__ import annotations

import queue
import threading
from collections.abc import Iterator
from contextlib import contextmanager
from typing import Any

import av
from av.container import OutputContainer

# Handed over together, for each handing over costs as much as a small packet does; so much waits at most.
_BATCH, _BATCH_BYTES, _BATCHES = 32, 4_000_000, 4
_Batch = list["av.Packet[Any]"]


class MuxThread:
    """Takes packets in their order. What goes wrong with one is told with a later one, or at the end."""

    def __init__(self, target: OutputContainer) -> None:
        self._target = target
        self._batches: queue.Queue[_Batch | None] = queue.Queue(_BATCHES)
        self._batch: _Batch = []
        self._bytes = 0
        self._error: Exception | None = None
        self._thread: threading.Thread | None = None

    def mux(self, packet: av.Packet[Any]) -> None:
        """Has a packet written.

        Raises:
            Exception: what came of one before.
        """
        self._batch.append(packet)
        self._bytes += packet.size
        if len(self._batch) >= _BATCH or self._bytes >= _BATCH_BYTES:
            self._hand_over()

    def _hand_over(self) -> None:
        if self._error is not None:
            raise self._error
        if self._thread is None:
            # The head is written here: encoders are opened with it, and this thread feeds them.
            self._target.start_encoding()
            self._thread = threading.Thread(target=self._write, name="muxing", daemon=True)
            self._thread.start()
        self._batches.put(self._batch)
        self._batch, self._bytes = [], 0

    def _write(self) -> None:
        while (batch := self._batches.get()) is not None:
            if self._error is not None:
                # Nobody may wait for a full queue.
                continue
            try:
                for packet in batch:
                    self._target.mux(packet)
            except Exception as error:  # noqa: BLE001  # whatever it is, it is told on the other thread
                self._error = error

    def end(self) -> None:
        """Everything is written when it returns.

        Raises:
            Exception: what came of a packet.
        """
        if self._batch:
            self._hand_over()
        self.stop()
        if self._error is not None:
            raise self._error

    def stop(self) -> None:
        """Ends the thread; what was not handed over yet is dropped."""
        if self._thread is not None:
            self._batches.put(None)
            self._thread.join()
            self._thread = None


@contextmanager
def muxing_beside(target: OutputContainer) -> Iterator[MuxThread]:
    """A thread that writes into an output; when the work ends well, everything is written."""
    thread = MuxThread(target)
    try:
        yield thread
        thread.end()
    finally:
        thread.stop()
