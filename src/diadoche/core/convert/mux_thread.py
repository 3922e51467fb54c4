"""Packets written on a thread of their own, while the next ones are read: neither waits for the other's disk."""

from __future__ import annotations

from collections.abc import Iterator
from contextlib import contextmanager
from typing import Any

import av
from av.container import OutputContainer

from diadoche.core.bounded_worker import BoundedWorker

# Handed over together, for each handing over costs as much as a small packet does; so much waits at most.
_BATCH, _BATCH_BYTES, _BATCHES = 32, 4_000_000, 4
_Batch = list["av.Packet[Any]"]


class MuxThread:
    """Takes packets in their order. What goes wrong with one is told with a later one, or at the end."""

    def __init__(self, target: OutputContainer, worker: BoundedWorker) -> None:
        self._target = target
        self._worker = worker
        self._batch: _Batch = []
        self._bytes = 0
        self._begun = False

    def mux(self, packet: av.Packet[Any]) -> None:
        """Has a packet written.

        Raises:
            Exception: what came of one before.
        """
        self._batch.append(packet)
        self._bytes += packet.size
        if len(self._batch) >= _BATCH or self._bytes >= _BATCH_BYTES:
            self.hand_over()

    def hand_over(self) -> None:
        """Has what was gathered written."""
        if not self._begun:
            # The head is written here: encoders are opened with it, and this thread feeds them.
            self._target.start_encoding()
            self._begun = True
        self._worker.give(self._write, self._batch)
        self._batch, self._bytes = [], 0

    def _write(self, batch: _Batch) -> None:
        for packet in batch:
            self._target.mux(packet)


@contextmanager
def muxing_beside(target: OutputContainer) -> Iterator[MuxThread]:
    """A thread that writes into an output; when the work ends well, everything is written."""
    worker = BoundedWorker("muxing", _BATCHES)
    try:
        thread = MuxThread(target, worker)
        yield thread
        thread.hand_over()
        worker.end()
    finally:
        worker.stop()
