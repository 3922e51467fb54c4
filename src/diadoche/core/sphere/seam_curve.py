"""How well the seams of a take fit, picture by picture: values only."""

from __future__ import annotations

from dataclasses import dataclass
from statistics import median


@dataclass(frozen=True, slots=True)
class SeamCurve:
    """The breaks along the seams of each picture, in pixels of the result; None for pictures that tell nothing."""

    breaks_px: tuple[float | None, ...]

    @property
    def median_px(self) -> float | None:
        """Of all pictures that tell something."""
        known = self._known
        return float(median(known)) if known else None

    @property
    def worst(self) -> tuple[int, float] | None:
        """The picture with the largest breaks, and how large they are."""
        known = [(value, -number) for number, value in enumerate(self.breaks_px) if value is not None]
        if not known:
            return None
        value, number = max(known)
        return -number, value

    def as_dict(self) -> dict[str, object]:
        """As the command line's JSON has it; null where nothing could be told."""
        worst, median = self.worst, self.median_px
        return {
            "median": None if median is None else round(median, 2),
            "worst": None if worst is None else round(worst[1], 2),
            "worst_frame": None if worst is None else worst[0],
        }

    @property
    def _known(self) -> list[float]:
        return [value for value in self.breaks_px if value is not None]
