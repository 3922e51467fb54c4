"""Recipes: data files that say how an output is encoded. A new recipe is a new file in `recipes/`."""

from __future__ import annotations

import tomllib
from functools import cache
from importlib import resources
from typing import Literal

from pydantic import BaseModel, ConfigDict

from diadoche.core.errors import RequestError
from diadoche.core.identify.facts import Facts, VideoFacts
from diadoche.core.rates import rate_text

_DEPTHS = {"yuv420p": 8, "yuv422p": 8, "yuv444p": 8}
_CHROMA_RANK = {"4:0:0": 0, "4:1:1": 1, "4:2:0": 1, "4:2:2": 2, "4:4:0": 2, "4:4:4": 3, "RGB": 3}
_SOUND_BYTES_A_SAMPLE = 3


class Variant(BaseModel):
    """One way of encoding, for the sources it fits. The first that fits is taken."""

    model_config = ConfigDict(frozen=True, extra="forbid")
    scan: Literal["any", "progressive", "interlaced"] = "any"
    deepest_bits: int = 16
    chroma: tuple[str, ...] = ()
    sizes: tuple[str, ...] = ()
    rates: tuple[str, ...] = ()
    pixel_format: str
    options: dict[str, str]

    def fits(self, video: VideoFacts) -> bool:
        """Whether it can hold this picture as it is."""
        interlaced = "interlaced" if video.interlaced else "progressive"
        return (
            self.scan in {"any", interlaced}
            and video.bit_depth <= self.deepest_bits
            and (not self.chroma or video.chroma in self.chroma)
            and (not self.sizes or f"{video.width}x{video.height}" in self.sizes)
            and (not self.rates or rate_text(video.frame_rate) in self.rates)
        )

    @property
    def bit_depth(self) -> int:
        """Bits a sample."""
        return 12 if "12" in self.pixel_format else 10 if "10" in self.pixel_format else 8

    @property
    def chroma_kept(self) -> str:
        """How much of the colour it keeps."""
        for digits, name in (("420", "4:2:0"), ("422", "4:2:2"), ("444", "4:4:4")):
            if digits in self.pixel_format:
                return name
        return "RGB"


class Recipe(BaseModel):
    """How outputs of one kind are made."""

    model_config = ConfigDict(frozen=True, extra="forbid")
    name: str
    title: str
    container: str
    ending: str
    codec: str
    encoder: str
    bits_a_pixel: float
    holds_full_range: bool = True
    # The matrices that the codec's own head can name; none for all.
    matrices: tuple[str, ...] = ()
    variants: tuple[Variant, ...]

    def variant_for(self, video: VideoFacts) -> Variant:
        """The way of encoding for a source.

        Raises:
            RequestError: this recipe has none for its size, rate or scan; nothing is padded or cut.
        """
        for variant in self.variants:
            if variant.fits(video):
                return variant
        scan = "interlaced" if video.interlaced else "progressive"
        raise RequestError(
            f"{self.title} cannot hold {video.width}×{video.height} {scan} pictures at {rate_text(video.frame_rate)}.",
            safe="Nothing was written; nothing is scaled, padded or cut unasked.",
            do="Choose another recipe.",
        )

    def losses(self, video: VideoFacts) -> tuple[str, ...]:
        """What of the picture this recipe does not hold, in words to be read before the start."""
        variant = self.variant_for(video)
        losses = []
        if variant.bit_depth < video.bit_depth:
            losses.append(f"{self.title} holds {variant.bit_depth} of {video.bit_depth} bits.")
        if _CHROMA_RANK.get(variant.chroma_kept, 3) < _CHROMA_RANK.get(video.chroma, 0):
            losses.append(f"{self.title} holds colour as {variant.chroma_kept}, not as {video.chroma}.")
        if video.color.range == "full" and not self.holds_full_range:
            losses.append(f"{self.title} holds limited range: full-range levels are mapped to it.")
        return tuple(losses)

    def estimated_bytes(self, facts: Facts) -> int:
        """The size to expect, from the codec's published data rate and the sound as 24-bit PCM."""
        video = facts.video[0]
        frames = facts.frames or round(facts.duration_s * float(video.frame_rate))
        picture = video.width * video.height * self.bits_a_pixel / 8 * frames
        sound = sum(track.channels * track.sample_rate for track in facts.audio) * _SOUND_BYTES_A_SAMPLE
        return round(picture + sound * facts.duration_s)

    def as_dict(self) -> dict[str, str]:
        """The recipe as the command line's JSON has it."""
        return {
            "name": self.name,
            "title": self.title,
            "container": self.container,
            "video": self.codec,
            "audio": "pcm",
        }


@cache
def recipes() -> dict[str, Recipe]:
    """All supplied recipes by name."""
    folder = resources.files("diadoche.core.convert") / "recipes"
    found = [
        Recipe.model_validate(tomllib.loads(entry.read_text("utf-8")))
        for entry in folder.iterdir()
        if entry.name.endswith(".toml")
    ]
    return {recipe.name: recipe for recipe in sorted(found, key=lambda recipe: recipe.name)}


def recipe_named(name: str) -> Recipe:
    """A recipe by its name.

    Raises:
        RequestError: there is none of that name.
    """
    found = recipes().get(name)
    if found is None:
        raise RequestError(f"There is no recipe called {name}.", do=f"Choose from {', '.join(recipes())}.")
    return found
