"""How long running offloads still take."""

from __future__ import annotations

import time

from diadoche.services.station.card_in import Stage
from diadoche.services.station.station import Station

_RATE_OVER_S = 5.0


class RemainingTime:
    """An estimate from how much was moved in the last seconds."""

    def __init__(self, station: Station) -> None:
        self._station = station
        # When, and how many bytes had been moved by then.
        self._samples: list[tuple[float, int]] = []

    def seconds(self) -> float | None:
        """How long running offloads still take, from the speed of the last seconds."""
        todo = done = 0
        for key, card in self._station.cards.items():
            progress = self._station.progress(key) if card.stage is Stage.CROSSING else None
            if progress is not None and progress.parts:
                todo += progress.total - progress.done
                done += progress.done
            elif card.stage is Stage.WAITING and card.card:
                todo += 2 * card.card.tree.size_bytes * len(self._station.shoot.settings.places)
        if todo <= 0:
            self._samples.clear()
            return None
        now = time.monotonic()
        self._samples = [sample for sample in self._samples if now - sample[0] < _RATE_OVER_S and sample[1] <= done]
        self._samples.append((now, done))
        passed, moved = now - self._samples[0][0], done - self._samples[0][1]
        return todo * passed / moved if passed > 0.5 and moved > 0 else None
