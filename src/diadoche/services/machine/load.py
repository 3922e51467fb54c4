"""How busy this machine is: processor, memory, and what its disks read and write."""

from __future__ import annotations

import time
from dataclasses import dataclass

import psutil


@dataclass(frozen=True, slots=True)
class Load:
    """Shares in percent; rates in bytes a second, all disks together."""

    processor_percent: float
    memory_percent: float
    read_bytes_s: float
    write_bytes_s: float


class LoadMeter:
    """Measures between one look and the next."""

    def __init__(self) -> None:
        psutil.cpu_percent()
        self._at_s, self._read, self._written = self._now()

    def look(self) -> Load:
        """The load since the last look."""
        at_s, read, written = self._now()
        passed_s = max(0.05, at_s - self._at_s)
        load = Load(
            psutil.cpu_percent(),
            psutil.virtual_memory().percent,
            (read - self._read) / passed_s,
            (written - self._written) / passed_s,
        )
        self._at_s, self._read, self._written = at_s, read, written
        return load

    @staticmethod
    def _now() -> tuple[float, int, int]:
        # Machines without disks of their own count nothing.
        counters = psutil.disk_io_counters()
        read, written = (counters.read_bytes, counters.write_bytes) if counters is not None else (0, 0)
        return time.monotonic(), read, written
