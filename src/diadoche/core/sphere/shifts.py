"""By how much lenses are looked up elsewhere at the seams, so that what is near in both comes to lie at one place."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from typing import Any

import numpy as np
from numpy.typing import NDArray

from diadoche.core.sphere.strips import Strip, looked_up

Field = NDArray[np.float32]
# A strip goes round: what lies behind its end is its beginning. So many places are there twice.
ROUND = 64
# Less than so many pixels of a lens picture changes nothing.
_NOTHING_PX = 0.05


@dataclass(frozen=True)
class Shifts:
    """By how much lenses are looked up elsewhere in one picture.

    Args:
        strips: the bands that two lenses both see.
        fields: of each strip those of its one and of its other lens: pixels across and down in the luma of that lens's
            picture, shape (rows, columns + 2 × `ROUND`, 2).
    """

    strips: tuple[Strip, ...]
    fields: tuple[tuple[Field, Field], ...]

    def places(self, rays: NDArray[np.floating]) -> list[NDArray[np.float32]]:
        """Where directions lie in the fields of each strip, shape (…, 2)."""
        return [(strip.places(rays) + np.array((ROUND, 0))).astype(np.float32) for strip in self.strips]

    def at(self, lens: int, places: Sequence[NDArray[np.float32]]) -> Field | None:
        """The shifts of a lens, shape (rows, columns, 2); None where it is not shifted at all.

        Args:
            lens: its place in the rig.
            places: as `places` has them, of shape (rows, columns, 2).
        """
        total: Field | None = None
        for strip, fields, where in zip(self.strips, self.fields, places, strict=True):
            if lens not in {strip.one, strip.other}:
                continue
            found = looked_up(fields[lens == strip.other], where)
            if max(float(found.max()), -float(found.min())) > _NOTHING_PX:
                total = found if total is None else total + found
        return total


def gone_round(view: NDArray[Any]) -> NDArray[Any]:
    """A view of a strip with its end before its beginning, and its beginning behind its end."""
    return np.concatenate((view[:, -ROUND:], view, view[:, :ROUND]), axis=1)
