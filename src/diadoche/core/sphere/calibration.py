"""How a rig's lenses really lie and bend, found in the footage itself: what two lenses both see must agree.

Two lenses back to back share only a ring near their rims: what lies inside is not seen by both, and there the rig's own
values stand. So these are taken as what is likely, with how far off they may be, and the footage moves them as far as
it knows better. What it does not know stays, and is named.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, replace
from itertools import pairwise
from typing import Any

import cv2
import numpy as np
from numpy.typing import NDArray
from scipy.optimize import least_squares
from scipy.spatial.transform import Rotation

from diadoche.core.errors import MediaError
from diadoche.core.sphere.image_circle import ImageCircle, image_circle
from diadoche.core.sphere.lens import Equidistant, KannalaBrandt, Lens
from diadoche.core.sphere.rig import Rig, RigLens
from diadoche.core.sphere.strips import Strip, alike, strips_of, unrolled
from diadoche.core.watch import Progress, Watch

Array = NDArray[np.float64]
_MOST_CORNERS = 1200
_FOLLOWED_PX, _MARGIN_PX = 21, 8
# Of the clearest corners: what stands out less is not followed.
_CLEAR = 0.005
_ROUNDS = 3
# The radius of image circles that all the figures here are made for.
_CIRCLE_PX = 420.0
# A match says nothing where going there and back ends beside the start.
_ROUND_TRIP_PX = 0.6
# How well a match is believed, in pixels. It is found more sharply than that; but hundreds of them share what they are
# off by together, and must not outweigh the edges of the pictures.
_MATCH_PX = 2.0
# Every so many-th sector along the seam is held out, to tell afterwards how good the rest made it.
_SECTORS = 40
_HELD_OUT = 5
_LEAST_MATCHES = 40
_LEAST_SECTORS = 8
# Nothing nearer than this is looked for, in metres, and from there on things are as good as far.
_NEAREST_M = 0.25
_FAR_M = 20.0
_NEARNESS_WEIGHT = 15.0
# What is off by more than so many times that counts little.
_OUTLIER = 3.0
_UNLIKE = 14.0
# By how much a value is moved to see what it changes, as a part of its spread.
_STEP = 1e-6
# A value is observed where the footage makes its spread smaller than this share of what it was.
_OBSERVED = 0.7
_NAMES = ("rotation", "rotation", "rotation", "focal length", "centre", "centre", "bend", "bend", "bend", "bend")


@dataclass(frozen=True)
class Calibration:
    """A rig as the footage has it, and how well that is known.

    Args:
        rig: the lenses as found.
        residual_px: the median of what matches that were held out are off by, in pixels of the lens pictures, each at
            the distance that fits it best: what was taken for nearness is not in it.
        worst_px: below it are 95 % of them.
        matches: how many were used.
        unknown: values that the footage does not tell, by lens.
        spread_deg: how well each lens's rotation is known, as the largest standard deviation in degrees.
    """

    rig: Rig
    residual_px: float
    worst_px: float
    matches: int
    unknown: tuple[tuple[str, ...], ...]
    spread_deg: tuple[float, ...]


@dataclass(frozen=True)
class _Matches:
    """Places in two lenses that show the same thing, in pixels of each lens's own part."""

    one: int
    other: int
    places: Array
    other_places: Array
    sectors: NDArray[np.int64]

    def some(self, which: NDArray[np.bool_]) -> _Matches:
        """Those of them that are chosen."""
        return replace(
            self, places=self.places[which], other_places=self.other_places[which], sectors=self.sectors[which]
        )


def _merged(matches: Sequence[_Matches]) -> list[_Matches]:
    """Those of the same two lenses together, whatever moment they are of: many small ones take longer."""
    pairs: dict[tuple[int, int], list[_Matches]] = {}
    for each in matches:
        pairs.setdefault((each.one, each.other), []).append(each)
    return [
        _Matches(
            *pair,
            np.concatenate([each.places for each in found]),
            np.concatenate([each.other_places for each in found]),
            np.concatenate([each.sectors for each in found]),
        )
        for pair, found in pairs.items()
    ]


def calibrated(rig: Rig, frames: Sequence[Sequence[NDArray[Any]]], watch: Watch) -> Calibration:
    """Aligns the lenses of a rig by what they see in common.

    Args:
        rig: the likely values, for pictures of this size.
        frames: lumas of the rig's pictures at some moments.
        watch: told how far it is.

    Raises:
        MediaError: there is not enough to align by.
        Cancelled: the watch was stopped.
    """
    times = _times_too_fine(rig)
    if times > 1:
        width, height = rig.picture_px
        small = rig.for_size(width // times, height // times)
        found = calibrated(small, [[_shrunk(luma, times) for luma in pictures] for pictures in frames], watch)
        residual_px, worst_px = found.residual_px * times, found.worst_px * times
        return replace(found, rig=found.rig.for_size(width, height), residual_px=residual_px, worst_px=worst_px)
    prior = _bending(rig)
    circles = [_circle_of(each, frames) for each in prior.lenses]
    current, steps = prior, _ROUNDS * (len(frames) + 1)
    fit: _Fit | None = None
    for number in range(_ROUNDS):
        strips = strips_of(current)
        matches: list[_Matches] = []
        for place, pictures in enumerate(frames):
            watch.step(Progress(number * (len(frames) + 1) + place, steps, "aligning the lenses"))
            matches += [_matched(current, strip, pictures) for strip in strips]
        matches = [each for each in matches if len(each.places)]
        _must_suffice(rig, matches)
        fit = _Fit(prior, matches, circles)
        current = fit.solved(current)
        watch.step(Progress((number + 1) * (len(frames) + 1), steps, "aligning the lenses"))
    assert fit is not None
    held = fit.held_out(current)
    unknown, spread_deg = fit.knowledge(current)
    return Calibration(
        current,
        float(np.median(held)),
        float(np.percentile(held, 95)),
        sum(len(each.places) for each in fit.matches),
        unknown,
        spread_deg,
    )


def _times_too_fine(rig: Rig) -> int:
    """By how many times pictures are made smaller first: finer ones take longer, and are not what limits."""
    times = max(1, int(min(each.lens.circle_px for each in rig.lenses) / _CIRCLE_PX))
    sizes = (*rig.picture_px, *(value for each in rig.lenses for value in (*each.corner_px, *each.lens.size_px)))
    return next(each for each in range(times, 0, -1) if all(size % each == 0 for size in sizes))


def _shrunk(luma: NDArray[Any], times: int) -> NDArray[Any]:
    height, width = luma.shape
    return cv2.resize(luma, (width // times, height // times), interpolation=cv2.INTER_AREA)


def _circle_of(each: RigLens, frames: Sequence[Sequence[NDArray[Any]]]) -> ImageCircle | None:
    left, top = each.corner_px
    width, height = each.lens.size_px
    parts = [pictures[each.picture][top : top + height, left : left + width] for pictures in frames]
    return image_circle(parts, each.lens.centre_px, each.lens.circle_px)


def _bending(rig: Rig) -> Rig:
    """The rig with lenses that can bend: the equidistant one is a case of Kannala and Brandt's."""
    lenses = []
    for each in rig.lenses:
        bends = isinstance(each.lens.radial, Equidistant)
        lens = replace(each.lens, radial=KannalaBrandt()) if bends else each.lens
        lenses.append(replace(each, lens=lens))
    return replace(rig, lenses=tuple(lenses))


def _matched(rig: Rig, strip: Strip, pictures: Sequence[NDArray[Any]]) -> _Matches:
    """What both lenses of a strip show, found by following corners from one strip to the other and back."""
    one, other = alike(
        strip,
        *(unrolled(rig, number, strip, pictures[rig.lenses[number].picture]) for number in (strip.one, strip.other)),
    )
    nothing = _Matches(strip.one, strip.other, np.empty((0, 2)), np.empty((0, 2)), np.empty(0, np.int64))
    corners = _corners(one, strip)
    if not len(corners):
        return nothing
    there, found, error = _followed(one, other, corners)
    back, found_back, _ = _followed(other, one, there)
    begun, ended = corners[:, 0], there[:, 0]
    good = (found[:, 0] == 1) & (found_back[:, 0] == 1) & (error[:, 0] < _UNLIKE)
    good &= np.linalg.norm(back[:, 0] - begun, axis=1) < _ROUND_TRIP_PX
    rows, columns = strip.seen.shape
    at = np.clip(np.rint(ended).astype(int), 0, (columns - 1, rows - 1))
    good &= strip.seen[at[:, 1], at[:, 0]]
    if not good.any():
        return nothing
    begun, ended = begun[good], ended[good]
    lenses = (rig.lenses[strip.one], rig.lenses[strip.other])
    places = [lens.project(_rays_at(strip, points))[0] for lens, points in zip(lenses, (begun, ended), strict=True)]
    sectors = (begun[:, 0] / columns * _SECTORS).astype(np.int64)
    return _Matches(strip.one, strip.other, places[0], places[1], sectors)


def _corners(one: NDArray[Any], strip: Strip) -> NDArray[np.float32]:
    """Places that stand out, as many in every sector: clouds would have none beside sharp tiles."""
    rows, columns = strip.seen.shape
    edges = np.linspace(0, columns, _SECTORS + 1).astype(int)
    # Not where the window that is followed reaches beyond what both see.
    inside = cv2.erode(strip.seen.astype(np.uint8), np.ones((_FOLLOWED_PX, _FOLLOWED_PX), np.uint8))
    clear = cv2.cornerMinEigenVal(one, 7)
    inside[clear < _CLEAR * np.percentile(clear[inside > 0], 99)] = 0
    found = []
    for left, right in pairwise(edges.tolist()):
        # A little more than the sector, so that its corners are the same as in the whole.
        begin, end = max(0, left - _MARGIN_PX), min(columns, right + _MARGIN_PX)
        mask = np.zeros((rows, end - begin), np.uint8)
        mask[:, left - begin : right - begin] = inside[:, left:right]
        corners = cv2.goodFeaturesToTrack(one[:, begin:end], _MOST_CORNERS // _SECTORS, 0.05, 5, mask=mask, blockSize=7)
        if corners is not None:
            found.append(corners + np.array((begin, 0), np.float32))
    return np.concatenate(found) if found else np.empty((0, 1, 2), np.float32)


def _followed(one: NDArray[Any], other: NDArray[Any], corners: NDArray[Any]) -> tuple[NDArray[Any], ...]:
    """Where corners of one picture are in the other, whether they were found, and how unlike their surroundings are."""
    ends = (cv2.TERM_CRITERIA_EPS | cv2.TERM_CRITERIA_COUNT, 30, 0.01)
    empty = np.empty_like(corners)
    window = (_FOLLOWED_PX, _FOLLOWED_PX)
    return cv2.calcOpticalFlowPyrLK(one, other, corners, empty, winSize=window, maxLevel=2, criteria=ends)


def _rays_at(strip: Strip, points: NDArray[np.floating]) -> Array:
    """Directions of places between a strip's own, which lie on a regular grid of angles."""
    across, down = (np.ascontiguousarray(points[:, axis : axis + 1], np.float32) for axis in (0, 1))
    maps = [
        cv2.remap(np.ascontiguousarray(strip.rays[..., axis]), across, down, cv2.INTER_LINEAR).reshape(-1)
        for axis in range(3)
    ]
    rays: Array = np.stack(maps, axis=-1).astype(np.float64)
    return rays


def _must_suffice(rig: Rig, matches: Sequence[_Matches]) -> None:
    count = sum(len(each.places) for each in matches)
    sectors = {(each.one, each.other, sector) for each in matches for sector in each.sectors.tolist()}
    linked = {0}
    for _ in rig.lenses:
        for each in matches:
            if len(each.places) >= _LEAST_SECTORS and linked & {each.one, each.other}:
                linked |= {each.one, each.other}
    if count < _LEAST_MATCHES or len(sectors) < _LEAST_SECTORS or len(linked) < len(rig.lenses):
        raise MediaError(
            f"The lenses of {rig.name} cannot be aligned by these pictures: two of them see only {count} places.",
            safe="The rig's own values stand; nothing was changed.",
            do="Choose a moment with more to see around the seams, or stitch by the rig's own values.",
        )


class _Fit:
    """The values that are looked for, how likely they are, and how far matches are off by them.

    Of each lens: a turn from where the prior has it (degrees), the focal length and the centre (parts of the image
    circle's radius), and the terms of its bend.
    """

    def __init__(self, prior: Rig, matches: Sequence[_Matches], circles: Sequence[ImageCircle | None]) -> None:
        self.prior = prior
        self._circles = circles
        self.matches = _merged(matches)
        terms = [len(each.lens.radial.terms) for each in prior.lenses]
        self._sizes = [6 + count for count in terms]
        self._starts = np.concatenate(([0], np.cumsum(self._sizes)))
        spread = prior.spread
        own = [
            [spread.rotation_deg] * 3 + [spread.focal] + [spread.centre] * 2 + _term_spreads(each.lens, spread.terms)
            for each in prior.lenses
        ]
        self._spreads = np.array([value for lens in own for value in lens])
        # Where all turn together nothing changes: the first lens stays where it is.
        self._free = np.ones(len(self._spreads), bool)
        self._free[:3] = False
        held = [each.sectors % _HELD_OUT == 2 for each in self.matches]
        self._held = [each.some(of) for each, of in zip(self.matches, held, strict=True)]
        self._used = [each.some(~of) for each, of in zip(self.matches, held, strict=True)]
        self._nearness_weight = np.sqrt(_NEARNESS_WEIGHT / sum(len(each.places) for each in self.matches))

    def rig(self, values: Array) -> Rig:
        """The rig that some values mean."""
        lenses = []
        for number, each in enumerate(self.prior.lenses):
            own = values[self._starts[number] : self._starts[number + 1]]
            lenses.append(_changed(each, own))
        return replace(self.prior, lenses=tuple(lenses))

    def solved(self, begun: Rig) -> Rig:
        """The likeliest rig; what is held out has no part in it, in no round."""
        start = self._values(begun)[self._free] / self._spreads[self._free]
        found = least_squares(self._residuals, start, self._slopes, max_nfev=60)
        self._jacobian = found.jac
        return self.rig(self._whole(found.x))

    def _whole(self, free: Array) -> Array:
        values = np.zeros(len(self._spreads))
        values[self._free] = free * self._spreads[self._free]
        return values

    def _values(self, rig: Rig) -> Array:
        values = []
        for mine, theirs in zip(self.prior.lenses, rig.lenses, strict=True):
            turn = Rotation.from_matrix(theirs.matrix @ mine.matrix.T).as_rotvec(degrees=True)
            circle = mine.lens.circle_px
            centre = (np.array(theirs.lens.centre_px) - mine.lens.centre_px) / circle
            terms = np.array(theirs.lens.radial.terms) - mine.lens.radial.terms
            values += [*turn, theirs.lens.focal_px / mine.lens.focal_px - 1, *centre, *terms]
        return np.array(values)

    def _residuals(self, free: Array) -> Array:
        rig = self.rig(self._whole(free))
        parts = [free, self._off_the_circles(rig), *(self._off_by(rig, each) for each in self._used)]
        return np.concatenate(parts)

    def _off_by(self, rig: Rig, matches: _Matches) -> Array:
        off, nearness = _off(rig, matches)
        # Far away is likelier than near, but by so little that all matches together do not outweigh the edges of the
        # pictures: a floor that is near, and a sky that is far, look like lenses that are tilted.
        near = self._nearness_weight * np.sqrt(np.log1p((nearness * _FAR_M) ** 2))
        return np.concatenate((_robust(off / _MATCH_PX).ravel(), near))

    def _slopes(self, free: Array) -> Array:
        """How the residuals change with each value, shape (residuals, values): a value moves what its own lens sees."""
        rig = self.rig(self._whole(free))
        circles = self._off_the_circles(rig)
        before = [self._off_by(rig, each) for each in self._used]
        count = len(free)
        ends = count + len(circles) + np.cumsum([0, *(len(each) for each in before)])
        found = np.zeros((ends[-1], count))
        found[:count] = np.eye(count)
        owners = np.repeat(np.arange(len(self._sizes)), self._sizes)[self._free]
        for value, lens in enumerate(owners.tolist()):
            moved = free.copy()
            moved[value] += _STEP
            other = self.rig(self._whole(moved))
            found[count : ends[0], value] = (self._off_the_circles(other) - circles) / _STEP
            for number, each in enumerate(self._used):
                if lens in {each.one, each.other}:
                    change = self._off_by(other, each) - before[number]
                    found[ends[number] : ends[number + 1], value] = change / _STEP
        return found

    def _off_the_circles(self, rig: Rig) -> Array:
        """How far each lens's rim lies off the edge of its picture, by how well such an edge tells the rim."""
        parts = []
        for each, circle in zip(rig.lenses, self._circles, strict=True):
            if circle is not None:
                well_px = self.prior.spread.circle * circle.radius_px
                centre = np.array(each.lens.centre_px) - circle.centre_px
                parts += [*(centre / well_px), (each.lens.circle_px - circle.radius_px) / well_px]
        return np.array(parts)

    def held_out(self, rig: Rig) -> Array:
        """By how many pixels the matches that were held out are off."""
        return np.concatenate([np.linalg.norm(_off(rig, each)[0], axis=1) for each in self._held])

    def knowledge(self, rig: Rig) -> tuple[tuple[tuple[str, ...], ...], tuple[float, ...]]:
        """What the footage does not tell of each lens, and how well its rotation is known, in degrees."""
        information = self._jacobian.T @ self._jacobian
        spreads = np.zeros(len(self._spreads))
        # In units of what was likely before: 1 is what was known without the footage.
        spreads[self._free] = np.sqrt(np.diag(np.linalg.inv(information)))
        unknown, rotations = [], []
        for number, size in enumerate(self._sizes):
            own = spreads[self._starts[number] : self._starts[number] + size]
            names = [name for name, spread in zip(_NAMES, own, strict=False) if spread > _OBSERVED]
            unknown.append(tuple(dict.fromkeys(names)))
            rotations.append(float(own[:3].max() * self.prior.spread.rotation_deg))
        return tuple(unknown), tuple(rotations)


def _robust(off: Array) -> Array:
    """Offsets of which the large ones count little more than smaller ones [Cauchy's loss]: they are no matches."""
    length = np.linalg.norm(off, axis=1, keepdims=True)
    lessened = _OUTLIER * np.sqrt(np.log1p((length / _OUTLIER) ** 2))
    found: Array = off * np.where(length > 1e-9, lessened / np.maximum(length, 1e-9), 1)
    return found


def _term_spreads(lens: Lens, spread: float) -> list[float]:
    """How far off each term may be. Of Kannala and Brandt's, a higher power bends the rim by more, and is the less
    likely to: each is taken to move the rim by half as much as the one before.
    """
    count = len(lens.radial.terms)
    if not isinstance(lens.radial, KannalaBrandt):
        return [spread] * count
    return [spread / 2**power / lens.widest ** (2 * power + 2) for power in range(count)]


def _changed(each: RigLens, values: Array) -> RigLens:
    lens = each.lens
    circle = lens.circle_px
    terms = tuple(float(term) for term in np.array(lens.radial.terms) + values[6:])
    changed = Lens(
        type(lens.radial)(terms),
        lens.focal_px * (1 + float(values[3])),
        (lens.centre_px[0] + float(values[4]) * circle, lens.centre_px[1] + float(values[5]) * circle),
        lens.size_px,
        lens.field_deg,
    )
    turn = Rotation.from_rotvec(values[:3], degrees=True).as_matrix()
    return replace(each, lens=changed, matrix=turn @ each.matrix)


def _off(rig: Rig, matches: _Matches) -> tuple[Array, Array]:
    """How far each match is off in the second lens, in pixels, and how near it is for that, in 1/m.

    What is near is seen elsewhere by lenses that stand apart: along one line, by how near it is. So each match is held
    against the place on that line that fits it best, from far away to `_NEAREST_M`.
    """
    one, other = rig.lenses[matches.one], rig.lenses[matches.other]
    rays = np.nan_to_num(one.lens.unproject(matches.places)) @ one.matrix.T
    apart = np.array(one.position_m) - np.array(other.position_m)
    far = other.lens.project(rays @ other.matrix)[0]
    off = far - matches.other_places
    if not apart.any():
        return off, np.zeros(len(off))
    near = other.lens.project((rays + apart / _NEAREST_M) @ other.matrix)[0]
    shift = near - far
    share = -(off * shift).sum(axis=1) / np.maximum((shift**2).sum(axis=1), 1e-9)
    nearness = np.clip(share, 0, 1) / _NEAREST_M
    found: Array = other.lens.project((rays + apart * nearness[:, None]) @ other.matrix)[0]
    return found - matches.other_places, nearness
