"""Both eyes out of a level ring of lenses, for every direction one looks in.

Each eye's ray in a direction touches a circle as wide as eyes are apart, as if a head turned to look there [ODS]. Where
it crosses the ring there is a place between two lenses; what would be seen from it lies between what those two see,
and is found by matching them. Towards the poles the eyes come together: there is no left and right when one looks up.

A lens that does not see so far to the side gives nothing: there the eye stays with the other lens, a little beside
its place.
"""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from diadoche.core.sphere.rig import Rig

Array = NDArray[np.float64]
# How far eyes are apart, in metres: common practice, no source.
EYES_M = 0.064
# Between these latitudes the eyes come together, in degrees.
_APART_DEG, _TOGETHER_DEG = 50.0, 78.0
# Towards the rim of a lens what it gives fades over so many degrees.
_RIM_DEG = 4.0
# How far from the middle between two lenses the rays of an eye lie, at most.
RING_BAND_DEG = 128.0


def ring_weights(rig: Rig, rays: NDArray[np.floating], angles: Array) -> NDArray[np.float32]:
    """How much each lens counts for the rig's viewing eye, shape (lenses, …); they add up to 1 where any lens sees.

    Args:
        rig: a ring, with its viewing eye set.
        rays: unit directions, shape (…, 3).
        angles: of the directions off each lens's axis, in radians, shape (lenses, …).
    """
    axes, radius_m, turns = _ring(rig)
    ahead, right, up = (rays @ axis for axis in axes)
    latitude = np.degrees(np.arcsin(np.clip(np.abs(up), 0, 1)))
    share = np.clip((_TOGETHER_DEG - latitude) / (_TOGETHER_DEG - _APART_DEG), 0, 1)
    offset_m = EYES_M / 2 * share * share * (3 - 2 * share)
    side = 1 if rig.viewing_eye == "right" else -1
    crossing = np.arctan2(right, ahead) + side * np.arcsin(np.clip(offset_m / radius_m, 0, 1))
    weights = np.zeros((len(rig.lenses), *crossing.shape))
    order = np.argsort(turns)
    for place, lens in enumerate(order.tolist()):
        after = int(order[(place + 1) % len(order)])
        span = (turns[after] - turns[lens]) % (2 * np.pi)
        way = ((crossing - turns[lens]) % (2 * np.pi)) / span
        between = way < 1
        weights[lens][between] += 1 - way[between]
        weights[after][between] += way[between]
    # What a lens does not see, or only at its rim, its neighbour gives.
    widest = np.array([each.lens.widest for each in rig.lenses]).reshape(-1, *(1,) * crossing.ndim)
    sees = np.clip((widest - angles) / np.radians(_RIM_DEG), 0, 1)
    weights *= sees * sees * (3 - 2 * sees)
    whole = weights.sum(axis=0)
    # Above and below the ring both may be at their rims: whoever sees best gives all.
    alone = np.where((angles - widest) == (angles - widest).min(axis=0), 1.0, 0.0) * (angles < widest)
    found = np.where(whole > 1e-3, weights / np.maximum(whole, 1e-3), alone)
    return found.astype(np.float32)


def _ring(rig: Rig) -> tuple[Array, float, Array]:
    """The axes ahead, right and up of a ring as rows, its radius in metres, and where its lenses stand, in radians."""
    places = np.array([each.position_m for each in rig.lenses])
    middle = places.mean(axis=0)
    up = -np.mean([each.matrix[:, 1] for each in rig.lenses], axis=0)
    up /= np.linalg.norm(up)
    ahead = places[0] - middle
    ahead -= up * (ahead @ up)
    radius_m = float(np.mean(np.linalg.norm(places - middle, axis=1)))
    ahead /= np.linalg.norm(ahead)
    # With y down, what is ahead crossed with what is up lies to the right.
    right = np.cross(ahead, up)
    turns = np.arctan2((places - middle) @ right, (places - middle) @ ahead)
    return np.stack((ahead, right, up)), radius_m, turns
