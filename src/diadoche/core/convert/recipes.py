"""Recipes: data files that say how an output is encoded. A new recipe is a new file in `recipes/`, or in a person's own
folder.
"""

from __future__ import annotations

from collections.abc import Sequence
from pathlib import Path
from typing import Literal

from pydantic import BaseModel, ConfigDict, Field, ValidationInfo, field_validator

from diadoche.core.convert.formats import PictureFormat, SoundFormat, colour_thinned, samples_of
from diadoche.core.convert.recipe_heads import SUPPLIED, RecipeHead, own_files
from diadoche.core.convert.sound_coding import CODECS, coding_of
from diadoche.core.errors import RequestError
from diadoche.core.mistakes import own_text, read_toml
from diadoche.core.rates import rate_text

ScanChange = Literal["keep", "frame", "field", "film"]
USUAL_RECIPE = "prores-422"


_WITH_LIBRARY = "supplied"


def _ships_with_library(info: ValidationInfo) -> bool:
    return bool(info.context and info.context[_WITH_LIBRARY])


class _Part(BaseModel):
    model_config = ConfigDict(frozen=True, extra="forbid")


class Variant(_Part):
    """One way of encoding, for the sources it fits. The first that fits is taken."""

    scan: Literal["any", "progressive", "interlaced"] = "any"
    deepest_bits: int = 16
    chroma: tuple[str, ...] = ()
    sizes: tuple[str, ...] = ()
    rates: tuple[str, ...] = ()
    width_multiple: int = Field(1, ge=1)
    height_multiple: int = Field(1, ge=1)
    smallest: tuple[int, int] = (1, 1)
    # From the least to the most that they hold; the first that holds all of the source is taken.
    pixel_formats: tuple[str, ...] = Field(min_length=1)
    options: dict[str, str] = {}
    bits_a_pixel: float | None = None

    @field_validator("pixel_formats")
    @classmethod
    def _known(cls, names: tuple[str, ...], info: ValidationInfo) -> tuple[str, ...]:
        for name in () if _ships_with_library(info) else names:
            try:
                samples_of(name)
            except ValueError as error:
                raise ValueError(f"there is no pixel format called {name}") from error
        return names

    def fits(self, picture: PictureFormat) -> bool:
        """Whether it can hold pictures of this size, rate and scan as they are."""
        return (
            self.scan in {"any", "interlaced" if picture.interlaced else "progressive"}
            and picture.bit_depth <= self.deepest_bits
            and (not self.chroma or picture.chroma in self.chroma)
            and (not self.sizes or f"{picture.width}x{picture.height}" in self.sizes)
            and (not self.rates or rate_text(picture.rate) in self.rates)
            and picture.width % self.width_multiple == 0
            and picture.height % self.height_multiple == 0
            and picture.width >= self.smallest[0]
            and picture.height >= self.smallest[1]
        )

    def pixel_format_for(self, picture: PictureFormat) -> str:
        """The pixel format that keeps most of a picture; of several the one that holds least beyond it."""

        def kept(name: str) -> tuple[float, ...]:
            out = samples_of(name)
            return (
                out.has_alpha or not picture.has_alpha,
                -colour_thinned(picture.chroma, out.chroma),
                (out.chroma == "RGB") == (picture.chroma == "RGB"),
                min(out.bits, picture.bit_depth),
                out.chroma == picture.chroma,
            )

        return max(self.pixel_formats, key=kept)


class PictureCoding(_Part):
    """How pictures are encoded."""

    codec: str
    encoder: str
    # What a pixel takes, for the size told before the start: the codec's published rate, or a measured one.
    bits_a_pixel: float = Field(gt=0)
    holds_full_range: bool = True
    # Whether pictures come back to the bit; then they are checked to the bit.
    lossless: bool = False
    # The matrices that the codec's own head can name; none for all.
    matrices: tuple[str, ...] = ()
    variants: tuple[Variant, ...] = Field(min_length=1)

    @field_validator("encoder")
    @classmethod
    def _installed(cls, name: str, info: ValidationInfo) -> str:
        if _ships_with_library(info):
            return name
        import av.codec
        import av.error

        try:
            found = av.codec.Codec(name, "w")
        except (ValueError, av.error.FFmpegError) as error:
            raise ValueError(f"there is no encoder called {name}") from error
        if found.type != "video":
            raise ValueError(f"{name} encodes no pictures")
        return name


class SoundCoding(_Part):
    """How sound is encoded: plain PCM, FLAC, AAC where it holds the channels, or not at all."""

    codec: str = "pcm"

    @field_validator("codec")
    @classmethod
    def _known(cls, name: str) -> str:
        if name not in CODECS:
            raise ValueError(f"there is no sound codec called {name} here; choose from {', '.join(CODECS)}")
        return name


class Container(_Part):
    """What holds picture and sound. `files`: one film, or one file for each picture."""

    name: str
    ending: str
    files: Literal["film", "stills"] = "film"
    holds_rotation: bool = True
    # The sample rates that it takes; any, where none is named.
    sound_rates: tuple[int, ...] = ()
    # How many bits a sample of plain PCM has at most; floats are none that it counts.
    sound_bits: int = 32
    holds_floats: bool = True
    options: dict[str, str] = {}


class Changes(_Part):
    """What is changed on the way, on purpose."""

    # Fields as they are; one picture of each frame; one of each field; film taken off its video clock.
    scan: ScanChange = "keep"
    # A look-up table in the common .cube form, and the colours that it gives.
    table: Path | None = None
    table_gives: Literal["BT.709", "BT.2020"] = "BT.709"


class Recipe(_Part):
    """How outputs of one kind are made: picture, sound, container, and what is changed on the way."""

    name: str = Field(pattern=r"^[\w.-]+$")
    title: str
    # What it is for, in a few words.
    purpose: str = ""
    # Whether an editing program is to take it in the original's place.
    edit_ready: bool = True
    container: Container
    picture: PictureCoding
    sound: SoundCoding = SoundCoding()
    changes: Changes = Changes()

    def variant_for(self, picture: PictureFormat) -> Variant:
        """The way of encoding for pictures.

        Raises:
            RequestError: this recipe has none for their size, rate or scan; nothing is padded or cut.
        """
        for variant in self.picture.variants:
            if variant.fits(picture):
                return variant
        raise RequestError(
            f"{self.title} cannot hold {picture.spoken()}.",
            safe="Nothing was written; nothing is scaled, padded or cut unasked.",
            do="Choose another recipe.",
        )

    def refuse_sounds(self, sounds: Sequence[SoundFormat]) -> None:
        """Sound is never resampled or rounded: what the container does not take as it is, is refused.

        Raises:
            RequestError: naming the track, and what is taken.
        """
        holder = self.container
        for number, sound in enumerate(sounds if self.sound.codec != "none" else (), start=1):
            words = ""
            if holder.sound_rates and sound.rate not in holder.sound_rates:
                taken = " or ".join(f"{rate:,}" for rate in holder.sound_rates)
                words = f"of {taken} samples a second alone; sound track {number} has {sound.rate:,}"
            elif sound.floating and not holder.holds_floats:
                words = f"in whole numbers alone; sound track {number} has floating ones"
            elif (sound.bit_depth or 0) > holder.sound_bits:
                words = f"of up to {holder.sound_bits} bits; sound track {number} has {sound.bit_depth}"
            if words:
                raise RequestError(
                    f"{self.title} holds sound {words}.",
                    safe="Nothing was written; nothing is resampled or rounded unasked.",
                    do="Choose a recipe in MOV.",
                )

    def losses(self, picture: PictureFormat, sounds: tuple[SoundFormat, ...] = ()) -> tuple[str, ...]:
        """What of a source this recipe does not hold, in words to be read before the start."""
        out = samples_of(self.variant_for(picture).pixel_format_for(picture))
        losses = []
        if out.bits < picture.bit_depth:
            losses.append(f"{self.title} holds {out.bits} of {picture.bit_depth} bits.")
        if colour_thinned(picture.chroma, out.chroma) > 1:
            losses.append(f"{self.title} holds colour as {out.chroma}, not as {picture.chroma}.")
        if picture.has_alpha and not out.has_alpha:
            losses.append(f"{self.title} holds no transparency.")
        if picture.color.range == "full" and not self.picture.holds_full_range and picture.chroma != "RGB":
            losses.append(f"{self.title} holds limited range: full-range levels are mapped to it.")
        if (picture.rotation or picture.mirrored) and not self.container.holds_rotation:
            told = ("rotation" if picture.rotation else "", "mirroring" if picture.mirrored else "")
            what = " and no ".join(filter(None, told))
            losses.append(f"{self.title} holds no {what}: pictures lie as they were recorded.")
        if sounds and self.sound.codec == "none":
            losses.append(f"{self.title} holds no sound.")
        return tuple(losses)

    def estimated_bytes(self, picture: PictureFormat, sounds: tuple[SoundFormat, ...]) -> int:
        """The size to expect, from the codec's published data rate and the sound's.

        Args:
            picture: what is encoded.
            sounds: of the source.
        """
        bits = self.picture.bits_a_pixel
        for variant in self.picture.variants:
            if variant.fits(picture):
                bits = variant.bits_a_pixel or bits
                break
        if self.picture.lossless:
            # In bits a value: what is kept grows with depth and colour.
            bits *= picture.bit_depth * {"4:0:0": 1, "4:2:0": 1.5, "4:2:2": 2}.get(picture.chroma, 3)
        pictures = picture.width * picture.height * bits / 8 * picture.pictures
        sound = sum(coding_of(self.sound.codec, each).bytes_a_second(each) for each in sounds)
        return round(pictures + sound * picture.seconds)

    @property
    def head(self) -> RecipeHead:
        """What a list tells of it."""
        return RecipeHead(
            self.name,
            self.title,
            self.purpose,
            self.container.name,
            self.container.files,
            self.picture.codec,
            self.sound.codec,
            self.picture.lossless,
            self.changes.scan,
        )


def recipes(own_folder: Path | None = None) -> dict[str, Recipe]:
    """All recipes by name: the supplied ones, and a person's own instead of or beside them. Read anew at every call.

    One of the person's own that has a mistake is left out here, and named by `recipe_named` and `mistaken_recipes`.
    """
    found = {recipe.name: recipe for recipe in _supplied()}
    for path in own_files(own_folder):
        try:
            recipe = parse_recipe(own_text(path, "recipe"), path)
        except RequestError:
            continue
        found[recipe.name] = recipe
    return dict(sorted(found.items()))


def mistaken_recipes(own_folder: Path | None) -> tuple[RequestError, ...]:
    """What is wrong with a person's own recipes, a file each."""
    found = []
    for path in own_files(own_folder):
        try:
            parse_recipe(own_text(path, "recipe"), path)
        except RequestError as error:
            found.append(error)
    return tuple(found)


def recipe_named(name: str, own_folder: Path | None = None) -> Recipe:
    """A recipe by its name.

    Raises:
        RequestError: there is none of that name, or the person's own has a mistake; it is named.
    """
    for path in own_files(own_folder):
        if path.stem == name:
            return parse_recipe(own_text(path, "recipe"), path)
    known = recipes(own_folder)
    if name not in known:
        raise RequestError(f"There is no recipe called {name}.", do=f"Choose from {', '.join(known)}.")
    return known[name]


def parse_recipe(text: str, path: Path, *, supplied: bool = False) -> Recipe:
    """Reads a recipe.

    Args:
        text: of its file.
        path: of its file.
        supplied: it ships with the program, and so with the media library that it was tried with: whether that has
            its encoder and pixel formats is not asked, for loading it takes longer than all the rest.

    Raises:
        RequestError: it has a mistake; its line is named.
    """
    return read_toml(Recipe, text, path, "recipe", {_WITH_LIBRARY: supplied})


def own_recipe_file(folder: Path, name: str) -> Path:
    """A recipe of the person's own under a name, made from the supplied one of that name where there is none yet.

    Raises:
        RequestError: there is no supplied one to begin with.
        OSError: it cannot be written.
    """
    path = folder / f"{name}.toml"
    if not path.exists():
        supplied = SUPPLIED / f"{name}.toml"
        if not supplied.is_file():
            raise RequestError(f"There is no supplied recipe called {name}.", do="Look for the file of your own.")
        folder.mkdir(parents=True, exist_ok=True)
        path.write_text(supplied.read_text("utf-8"), "utf-8")
    return path


# Supplied ones ship with the program and do not change under it; a person's own are read anew each time.
_supplied_once: list[Recipe] = []


def _supplied() -> list[Recipe]:
    if not _supplied_once:
        _supplied_once.extend(
            parse_recipe(path.read_text("utf-8"), path, supplied=True) for path in sorted(SUPPLIED.glob("*.toml"))
        )
    return _supplied_once
