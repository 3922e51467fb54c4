"""A bounded ring of buffers between one reader and several takers.

The reader fills a free buffer and hands it to every taker; the last taker to let go of it makes it
free again. Memory is bounded by the ring, whatever the size of the card.
"""

from __future__ import annotations

import mmap
import queue
import threading
from contextlib import suppress

BUFFER_BYTES = 4 * 1024 * 1024
BUFFERS = 16


class RingBuffer:
    """One buffer of the ring, counted by its takers."""

    def __init__(self, ring: Ring) -> None:
        self.memory = mmap.mmap(-1, BUFFER_BYTES)
        self.view = memoryview(self.memory)
        self.size_bytes = 0
        self._ring = ring
        self._takers = 0
        self._lock = threading.Lock()

    def close(self) -> None:
        """Gives the memory back to the system; what a hanging call still holds is left to it."""
        with suppress(BufferError):
            self.view.release()
            self.memory.close()

    def hand_to(self, takers: int) -> None:
        """Says how many will let go of it."""
        self._takers = takers
        if takers == 0:
            self._ring.free.put(self)

    def let_go(self) -> None:
        """One taker needs it no more."""
        with self._lock:
            self._takers -= 1
            last = self._takers == 0
        if last:
            self._ring.free.put(self)

    @property
    def data(self) -> memoryview:
        """The bytes that were read into it."""
        return self.view[: self.size_bytes]


class Ring:
    """All buffers of one offload."""

    def __init__(self, buffers: int = BUFFERS) -> None:
        self.free: queue.SimpleQueue[RingBuffer] = queue.SimpleQueue()
        self._all = [RingBuffer(self) for _ in range(buffers)]
        for buffer in self._all:
            self.free.put(buffer)

    def close(self) -> None:
        """Gives all memory back, but for what threads that were left behind still hold."""
        for buffer in self._all:
            buffer.close()

    def take(self, timeout_s: float) -> RingBuffer | None:
        """A free buffer, or None when the takers held on to all of them for that long."""
        try:
            return self.free.get(timeout=timeout_s)
        except queue.Empty:
            return None
