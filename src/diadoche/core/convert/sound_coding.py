"""How sound is encoded by a recipe: known before anything is decoded, and without the libraries that do it."""

from __future__ import annotations

from dataclasses import dataclass

from diadoche.core.convert.formats import SoundFormat
from diadoche.core.sound_layouts import names_places, unnamed_layout

CODECS = ("pcm", "flac", "aac", "none")
_ENCODERS = {"s16": "pcm_s16le", "s32": "pcm_s24le", "flt": "pcm_f32le"}
# What the encoder here takes [14496-3, tables 1.18 and 1.19].
_AAC_RATES = {96_000, 88_200, 64_000, 48_000, 44_100, 32_000, 24_000, 22_050, 16_000, 12_000, 11_025, 8_000, 7_350}
_AAC_LAYOUTS = {"mono", "stereo", "3.0", "4.0", "5.0", "5.1", "7.1"}
_AAC_BITS_A_CHANNEL = 128_000
# What FLAC takes so many channels for, whatever they are; it holds no more than eight [RFC9639, 9.1.3].
_FLAC_LAYOUTS = {"mono", "stereo", "3.0", "quad", "5.0", "5.0(side)", "5.1", "5.1(side)", "6.1", "7.1"}
_FLAC_CHANNELS, _FLAC_BITS = 8, 24
_FLAC_SHARE = 0.6


@dataclass(frozen=True, slots=True)
class SoundCoding:
    """How one track is encoded. `samples` go into the encoder: "s16", "s32" (its upper `bits`) or "flt"."""

    encoder: str
    samples: str
    # Whether the same samples come out again.
    exact: bool = True
    bit_rate: int = 0
    # Of each sample that are stored; of what was encoded with losses, more would be noise.
    bits: int = 24

    def bytes_a_second(self, sound: SoundFormat) -> float:
        """About how much it takes."""
        if self.bit_rate:
            return self.bit_rate / 8
        plain = {"s16": 2, "s32": self.bits // 8, "flt": 4}[self.samples] * sound.channels * sound.rate
        return plain * (_FLAC_SHARE if self.encoder == "flac" else 1)


def coding_of(codec: str, sound: SoundFormat) -> SoundCoding:
    """How a track is encoded by a recipe: lossless where the wanted codec does not hold its channels or its rate.

    FLAC knows channels by their number alone: where it would take them for others, they become plain PCM.

    Plain PCM has 16 bits where the source has no more, 32 where it has more than 24, floats where it floats, else 24:
    nothing is rounded away.

    Args:
        codec: one of `CODECS` but "none".
        sound: of the source.
    """
    if codec == "aac" and sound.rate in _AAC_RATES and layout_name(sound.layout) in _AAC_LAYOUTS:
        return SoundCoding("aac", "flt", exact=False, bit_rate=_AAC_BITS_A_CHANNEL * sound.channels)
    samples = "s16" if sound.bit_depth is not None and sound.bit_depth <= 16 else "s32"
    layout = layout_name(sound.layout)
    kept_by_flac = layout in _FLAC_LAYOUTS or not names_places(sound.layout)
    if sound.bit_depth is not None and sound.bit_depth > _FLAC_BITS and not sound.floating:
        return SoundCoding("pcm_s32le", "s32", bits=32)
    if codec in {"aac", "flac"} and sound.channels <= _FLAC_CHANNELS and kept_by_flac:
        return SoundCoding("flac", samples)
    plain = "flt" if sound.floating else samples
    return SoundCoding(_ENCODERS[plain], plain)


def layout_name(layout: str) -> str:
    """A container that names no places for one or two channels means these; some targets want them named."""
    return {"1 channels": "mono", "2 channels": "stereo"}.get(layout, unnamed_layout(layout))
