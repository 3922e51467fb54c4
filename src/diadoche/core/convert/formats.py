"""What pictures and sound are like where they leave a source or a stage: values, known before the first picture."""

from __future__ import annotations

from dataclasses import dataclass
from fractions import Fraction
from functools import cache
from typing import TYPE_CHECKING, Literal

from diadoche.core.rates import rate_text
from diadoche.core.timecode import PictureLabels

if TYPE_CHECKING:
    # Whoever lists recipes need not wait for all that is known of files.
    from diadoche.core.identify.facts import AudioFacts, Color, Facts, FieldOrder

_FLOATING = {"pcm_f16le", "pcm_f24le", "pcm_f32le", "pcm_f32be", "pcm_f64le", "pcm_f64be"}
# How many pixels across and down share one value of colour [H273, table 1 and 6.3]; none has no colour at all.
_SHARED = {
    "4:1:0": (4, 4),
    "4:1:1": (4, 1),
    "4:2:0": (2, 2),
    "4:2:2": (2, 1),
    "4:4:0": (1, 2),
    "4:4:4": (1, 1),
    "RGB": (1, 1),
}
_COLOURLESS = 1_000


@dataclass(frozen=True, slots=True)
class PictureFormat:
    """The pictures of a source or of a stage.

    `rate` in pictures a second; `even` where they come at that rate. `timecode` is what the recording says, `labels`
    what it means for each picture, where it means anything. `pictures` is how many to expect.
    """

    width: int
    height: int
    chroma: str
    bit_depth: int
    color: Color
    rate: Fraction
    even: bool = True
    scan: Literal["progressive", "interlaced", "mixed"] = "progressive"
    field_order: FieldOrder | None = None
    pulldown: bool = False
    has_alpha: bool = False
    pixel_aspect: Fraction = Fraction(1)
    # How they are shown: mirrored first, then turned clockwise.
    rotation: int = 0
    mirrored: bool = False
    timecode: str | None = None
    labels: PictureLabels | None = None
    pictures: int = 0

    @classmethod
    def of(cls, facts: Facts) -> PictureFormat:
        """The format of the first picture track of a clip."""
        video = facts.video[0]
        scan = video.scan if video.scan != "undecided" else video.scan_flagged
        return cls(
            video.width,
            video.height,
            video.chroma,
            video.bit_depth,
            video.color,
            video.frame_rate,
            video.frame_rate_mode == "constant",
            scan if scan != "undecided" else "progressive",
            video.field_order,
            video.pulldown,
            video.has_alpha,
            video.pixel_aspect,
            video.rotation,
            video.mirrored,
            video.timecode,
            video.labels,
            facts.frames or round(facts.duration_s * float(video.frame_rate)),
        )

    @property
    def interlaced(self) -> bool:
        """Whether its pictures are, or may be, two fields of two moments."""
        return self.scan != "progressive"

    @property
    def seconds(self) -> float:
        """How long it lasts."""
        return float(self.pictures / self.rate)

    def spoken(self) -> str:
        """Size, scan and rate, in words."""
        scan = "interlaced" if self.interlaced else "progressive"
        return f"{self.width}×{self.height} {scan} pictures at {rate_text(self.rate)}"


@dataclass(frozen=True, slots=True)
class SoundFormat:
    """One sound track of a source. `bit_depth` is None where its codec has none."""

    rate: int
    layout: str
    channels: int
    bit_depth: int | None = None
    floating: bool = False

    @classmethod
    def of(cls, track: AudioFacts) -> SoundFormat:
        """The format of a track."""
        return cls(track.sample_rate, track.layout, track.channels, track.bit_depth, track.codec in _FLOATING)


@dataclass(frozen=True, slots=True)
class Samples:
    """What a pixel format of the media library holds."""

    chroma: str
    bits: int
    has_alpha: bool


@cache
def samples_of(pixel_format: str) -> Samples:
    """What a pixel format holds, by its own description and not by its name."""
    # The list of recipes needs no media library.
    import av

    pixels = av.VideoFormat(pixel_format, 16, 16)
    count = len(pixels.components)
    bits = max(component.bits for component in pixels.components)
    if pixels.is_rgb:
        return Samples("RGB", bits, count == 4)
    if count <= 2:
        return Samples("4:0:0", bits, count == 2)
    shared = (16 // (pixels.chroma_width(16) or 16), 16 // (pixels.chroma_height(16) or 16))
    chroma = next((name for name, each in _SHARED.items() if each == shared), "4:4:4")
    return Samples(chroma, bits, count == 4)


def colour_thinned(chroma_in: str, chroma_out: str) -> float:
    """How many times fewer values of colour are left; 1 where all of them are."""
    if chroma_in == "4:0:0":
        return 1
    across, down = _SHARED.get(chroma_in, (1, 1))
    across_out, down_out = _SHARED.get(chroma_out, (_COLOURLESS, _COLOURLESS))
    return max(1.0, across_out / across) * max(1.0, down_out / down)
