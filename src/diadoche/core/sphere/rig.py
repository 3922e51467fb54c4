"""A rig: lenses, how they are turned and where they stand, and in which picture each is found. Kept as open JSON.

The file is described in docs/rigs.md. Frames of reference are those of `rotation`; the rig's own looks where the middle
of its result looks.
"""

from __future__ import annotations

import json
from collections.abc import Collection, Sequence
from dataclasses import dataclass, field, replace
from functools import cache
from importlib import resources
from pathlib import Path
from typing import Literal

import numpy as np
from numpy.typing import NDArray
from pydantic import BaseModel, ConfigDict, Field, ValidationError, model_validator

from diadoche.core.errors import RequestError
from diadoche.core.mistakes import mistake_words
from diadoche.core.sphere.lens import RADIAL_MODELS, Lens
from diadoche.core.sphere.rotation import angles_of, rotation

Array = NDArray[np.float64]
Eye = Literal["", "left", "right"]
FORMAT = "diadoche-rig"
_LARGEST_FILE_BYTES = 1_000_000
_MOST_LENSES = 32
_LEAST_RING, _LEAST_RING_M = 4, 0.034


@dataclass(frozen=True)
class Spread:
    """How far off a rig's values may be, as standard deviations; what calibration may change, and how much.

    `focal`, `centre` and what the first of the `terms` bends the rim by, as parts of the image circle's radius; angles
    in degrees; `circle` is how well the edge of a lens's picture tells where its field ends, as a part of that radius.
    """

    focal: float = 0.01
    centre: float = 0.01
    terms: float = 0.01
    rotation_deg: float = 1.0
    circle: float = 0.001


@dataclass(frozen=True)
class RigLens:
    """A lens of a rig.

    Args:
        name: as people call it.
        lens: its optics; its `size_px` is that of its own part of the picture.
        matrix: takes its directions into the rig's frame.
        position_m: of its entrance pupil in the rig's frame.
        picture: which file or track holds its picture, from 0.
        corner_px: the upper left corner of its part within that picture.
        eye: which eye it is for; none in particular where the rig is no stereo pair.
    """

    name: str
    lens: Lens
    matrix: Array
    position_m: tuple[float, float, float] = (0.0, 0.0, 0.0)
    picture: int = 0
    corner_px: tuple[int, int] = (0, 0)
    eye: Eye = ""

    def project(self, rays: NDArray[np.floating], distance_m: float = np.inf) -> tuple[Array, Array]:
        """Where directions of the rig fall in this lens's part, and their angles off its axis; see `Lens.project`.

        Args:
            rays: unit directions from the rig's middle.
            distance_m: how far away what is seen there is; lenses beside the middle see what is near elsewhere.
        """
        if np.isfinite(distance_m):
            rays = rays - np.array(self.position_m) / distance_m
        return self.lens.project(rays @ self.matrix)


@dataclass(frozen=True)
class Rig:
    """All lenses of a rig, in the order of their pictures. `picture_px` is the size of each file's picture."""

    name: str
    lenses: tuple[RigLens, ...]
    picture_px: tuple[int, int]
    spread: Spread = field(default_factory=Spread)
    note: str = ""
    # Of a ring: for which eye it is looked through; none in particular where one picture serves both.
    viewing_eye: Eye = ""

    @property
    def pictures(self) -> int:
        """How many files or tracks hold its lenses."""
        return max(each.picture for each in self.lenses) + 1

    @property
    def is_stereo(self) -> bool:
        """Whether each eye has lenses of its own."""
        return any(each.eye for each in self.lenses)

    @property
    def is_ring(self) -> bool:
        """Whether its lenses stand in a level ring, wide and close enough to look between them for either eye."""
        places = np.array([each.position_m for each in self.lenses])
        if len(places) < _LEAST_RING:
            return False
        places = places - places.mean(axis=0)
        up = np.mean([each.matrix[:, 1] for each in self.lenses], axis=0)
        lengths = np.linalg.norm(places, axis=1)
        level = np.abs(places @ up).max() < 0.2 * lengths.mean()
        # Narrower than eyes are apart, no ray would touch the circle between them.
        return bool(lengths.min() > _LEAST_RING_M and np.ptp(lengths) < 0.2 * lengths.mean() and level)

    @property
    def is_upside_down(self) -> bool:
        """Whether what is below its lenses' pictures is above in the result."""
        return bool(np.mean([each.matrix[1, 1] for each in self.lenses]) < 0)

    @property
    def has_two_eyes(self) -> bool:
        """Whether a picture can be made for each eye."""
        return self.is_stereo or self.is_ring

    def for_eye(self, eye: Eye) -> Rig:
        """The lenses that one eye looks through; all of them where the rig is no stereo pair."""
        if eye and not self.is_stereo:
            return replace(self, viewing_eye=eye) if self.is_ring else self
        return replace(self, lenses=tuple(each for each in self.lenses if each.eye in {"", eye}))

    def without(self, pictures: Collection[int]) -> Rig:
        """The rig without the lenses of some of its pictures, counted from 0; the others move up.

        Raises:
            RequestError: there is no such picture, or nothing is left.
        """
        if not all(0 <= each < self.pictures for each in pictures) or len(set(pictures)) >= self.pictures:
            raise RequestError(
                f"The rig {self.name} has pictures 1 to {self.pictures}: not all can be left out, and no others.",
                do="Name the lenses that are missing.",
            )
        left = [each for each in range(self.pictures) if each not in pictures]
        lenses = (replace(each, picture=left.index(each.picture)) for each in self.lenses if each.picture in left)
        return replace(self, lenses=tuple(lenses))

    @property
    def width_px(self) -> int:
        """As wide as a whole sphere may be made without more pixels than its lenses have at their middles."""
        a_degree = min(np.radians(1) * each.lens.focal_px for each in self.lenses)
        return int(a_degree * 360)

    def for_size(self, width: int, height: int) -> Rig:
        """The same rig for pictures of another size.

        Raises:
            RequestError: they have another shape than the rig's.
        """
        if (width, height) == self.picture_px:
            return self
        own_width, own_height = self.picture_px
        if width * own_height != height * own_width:
            raise RequestError(
                f"The rig {self.name} is made for pictures shaped {own_width}×{own_height}, not {width}×{height}.",
                safe="Nothing was written.",
                do="Choose the rig that the footage was taken with, or calibrate one.",
            )
        scale = width / own_width
        lenses = []
        for each in self.lenses:
            part = (round(each.lens.size_px[0] * scale), round(each.lens.size_px[1] * scale))
            try:
                lens = each.lens.resized(*part)
            except ValueError as error:
                raise RequestError(
                    f"The rig {self.name} does not divide pictures of {width}×{height} evenly.",
                    do="Choose another size, or another rig.",
                ) from error
            corner = (round(each.corner_px[0] * scale), round(each.corner_px[1] * scale))
            lenses.append(replace(each, lens=lens, corner_px=corner))
        return replace(self, lenses=tuple(lenses), picture_px=(width, height))

    def turned(self, matrix: Array) -> Rig:
        """The rig with its result turned: a lens that looked along a direction looks along `matrix @` it."""
        lenses = []
        for each in self.lenses:
            x, y, z = (float(value) for value in matrix @ np.array(each.position_m))
            lenses.append(replace(each, matrix=matrix @ each.matrix, position_m=(x, y, z)))
        return replace(self, lenses=tuple(lenses))


# -- files -----------------------------------------------------------------------------------------


class _Strict(BaseModel):
    model_config = ConfigDict(extra="forbid", allow_inf_nan=False)


class _LensFile(_Strict):
    name: str = Field(min_length=1, max_length=100)
    picture: int = Field(0, ge=0, lt=_MOST_LENSES)
    part: tuple[int, int, int, int]
    model: Literal["equidistant", "kannala-brandt", "double-sphere", "gnomonic"]
    focal: float = Field(gt=0)
    centre: tuple[float, float]
    terms: tuple[float, ...] = ()
    field_deg: float = Field(gt=0, lt=360)
    yaw_deg: float = 0.0
    pitch_deg: float = 0.0
    roll_deg: float = 0.0
    position_mm: tuple[float, float, float] = (0.0, 0.0, 0.0)
    eye: Eye = ""

    @model_validator(mode="after")
    def _sensible(self) -> _LensFile:
        left, top, width, height = self.part
        if left < 0 or top < 0 or width <= 0 or height <= 0:
            raise ValueError("part: left, top, width and height of its picture are wanted")
        try:
            radial = RADIAL_MODELS[self.model](self.terms)
        except ValueError as error:
            raise ValueError(f"terms: {error}") from error
        if self.model == "gnomonic" and self.field_deg >= 180:
            raise ValueError("field_deg: a gnomonic lens sees less than 180 degrees")
        if not radial.grows_until(np.radians(self.field_deg / 2)):
            raise ValueError("terms: places farther out would show directions nearer to the axis")
        return self


class _RigFile(_Strict):
    format: Literal["diadoche-rig"]
    version: Literal[1]
    name: str = Field(min_length=1, max_length=100)
    note: str = ""
    picture: tuple[int, int]
    lenses: list[_LensFile] = Field(min_length=1, max_length=_MOST_LENSES)
    spread: dict[Literal["focal", "centre", "terms", "rotation_deg", "circle"], float] = {}

    @model_validator(mode="after")
    def _inside(self) -> _RigFile:
        width, height = self.picture
        for each in self.lenses:
            left, top, wide, high = each.part
            if left + wide > width or top + high > height:
                raise ValueError(f"lenses: the part of {each.name} reaches out of a picture of {width}×{height}")
        if {each.eye for each in self.lenses} not in ({""}, {"left", "right"}):
            raise ValueError("lenses: both eyes have lenses of their own, or none has")
        if any(not 0 < value < 90 for value in self.spread.values()):
            raise ValueError("spread: standard deviations above 0 are wanted")
        return self


def rig_from(text: str, path: Path) -> Rig:
    """A rig from the text of its file.

    Raises:
        RequestError: it has a mistake, which is named.
    """
    try:
        found = _RigFile.model_validate_json(text)
    except ValidationError as error:
        raise RequestError(
            f"The rig {path.name} has a mistake: {mistake_words(error, text)}", path=path, do="Correct it."
        ) from error
    return Rig(
        found.name, tuple(_lens_of(each) for each in found.lenses), found.picture, Spread(**found.spread), found.note
    )


def _lens_of(each: _LensFile) -> RigLens:
    left, top, width, height = each.part
    lens = Lens(RADIAL_MODELS[each.model](each.terms), each.focal, each.centre, (width, height), each.field_deg)
    matrix = rotation(each.yaw_deg, each.pitch_deg, each.roll_deg)
    x, y, z = (value / 1000 for value in each.position_mm)
    return RigLens(each.name, lens, matrix, (x, y, z), each.picture, (left, top), each.eye)


def rig_text(rig: Rig) -> str:
    """The file of a rig."""
    lenses = []
    for each in rig.lenses:
        yaw, pitch, roll = angles_of(each.matrix)
        lenses.append(
            {
                "name": each.name,
                "picture": each.picture,
                "part": [*each.corner_px, *each.lens.size_px],
                "model": each.lens.radial.name,
                "focal": round(each.lens.focal_px, 6),
                "centre": [round(value, 6) for value in each.lens.centre_px],
                "terms": [round(term, 9) for term in each.lens.radial.terms],
                "field_deg": each.lens.field_deg,
                "yaw_deg": round(yaw, 6),
                "pitch_deg": round(pitch, 6),
                "roll_deg": round(roll, 6),
                "position_mm": [round(value * 1000, 4) for value in each.position_m],
                "eye": each.eye,
            }
        )
    spread = rig.spread
    return json.dumps(
        {
            "format": FORMAT,
            "version": 1,
            "name": rig.name,
            "note": rig.note,
            "picture": list(rig.picture_px),
            "lenses": lenses,
            "spread": {
                "focal": spread.focal,
                "centre": spread.centre,
                "terms": spread.terms,
                "rotation_deg": spread.rotation_deg,
                "circle": spread.circle,
            },
        },
        indent=2,
    )


@cache
def supplied_rigs() -> tuple[str, ...]:
    """The names of the rigs that come with the product."""
    return tuple(sorted(each.name.removesuffix(".json") for each in _folder().iterdir() if each.name.endswith(".json")))


def rig_of(rig: str, own_folders: Sequence[Path] = ()) -> Rig:
    """A rig by its name, the path of its file, or its own text.

    Raises:
        RequestError: there is none, or it has a mistake.
    """
    if rig.lstrip().startswith("{"):
        return rig_from(rig, Path("rig.json"))
    return rig_named(rig, own_folders)


def rig_named(name: str, own_folders: Sequence[Path] = ()) -> Rig:
    """A rig by its name, or by the path of its file.

    Raises:
        RequestError: there is none, or it has a mistake.
    """
    path = Path(name).expanduser()
    for candidate in (*(folder / f"{name}.json" for folder in own_folders), path):
        if candidate.suffix.lower() == ".json" and candidate.is_file():
            return _read(candidate)
    if name in supplied_rigs():
        return rig_from((_folder() / f"{name}.json").read_text("utf-8"), Path(f"{name}.json"))
    raise RequestError(
        f"There is no rig called {name}.",
        do=f"Choose from {', '.join(supplied_rigs())}, or give the path of a rig file.",
    )


def _read(path: Path) -> Rig:
    try:
        if path.stat().st_size > _LARGEST_FILE_BYTES:
            raise RequestError(f"{path.name} is no rig: it is too large.", path=path, do="Choose another file.")
        text = path.read_text("utf-8", "replace")
    except OSError as error:
        raise RequestError(
            f"The rig {path.name} cannot be read: {error}.", path=path, do="Look at the file."
        ) from error
    return rig_from(text, path)


def _folder() -> resources.abc.Traversable:
    return resources.files("diadoche.core.sphere") / "rigs"
