"""Sound on its way to plain PCM: every sample at its place, counted from the first picture.

What was heard before the first picture is cut; where nothing was recorded there is silence; what two parts of a clip
both hold is heard once. Nothing else is cut, moved or stretched.
"""

from __future__ import annotations

import math
from collections.abc import Iterator
from dataclasses import dataclass
from fractions import Fraction
from typing import Any, cast

import av
import numpy as np
import xxhash
from av.audio.stream import AudioStream
from av.container import OutputContainer
from numpy.typing import NDArray

from diadoche.core.identify.facts import AudioFacts

Samples = NDArray[np.int16] | NDArray[np.int32] | NDArray[np.float32]

_FLOATING = {"pcm_f16le", "pcm_f24le", "pcm_f32le", "pcm_f32be", "pcm_f64le", "pcm_f64be"}
_ENCODERS = {"s16": "pcm_s16le", "s32": "pcm_s24le", "flt": "pcm_f32le"}
# Plain PCM, and the samples that go into its encoder: what comes out of them is what went in, to the bit.
PLAIN = {
    "pcm_s16le": "s16",
    "pcm_s16be": "s16",
    "pcm_s24le": "s32",
    "pcm_s24be": "s32",
    "pcm_f32le": "flt",
    "pcm_f32be": "flt",
}
_KINDS: dict[str, type[np.generic]] = {"s16": np.int16, "s32": np.int32, "flt": np.float32}
# Sound clocks run a little off the picture's; less than this apart, sound runs on, for nobody wants clicks.
_RUNS_ON_S = Fraction(1, 250)
_SILENCE_BLOCK = 48_000
_STORED = np.int32(-256)


def pcm_format(track: AudioFacts) -> str:
    """16 bits where the source has no more, floating where it floats, else 24, so that nothing is rounded away."""
    if track.codec in _FLOATING:
        return "flt"
    return "s16" if track.bit_depth is not None and track.bit_depth <= 16 else "s32"


class SampleDigest:
    """Digests samples as they sound, whatever order of bytes a container keeps them in."""

    def __init__(self) -> None:
        self._digest = xxhash.xxh3_128()
        self._values = 0

    def take(self, samples: Samples) -> None:
        """Interleaved samples, shape (1, count)."""
        self._values += samples.size
        self._digest.update(np.ascontiguousarray(samples).data)

    def value(self) -> tuple[int, str]:
        """How many samples of all channels, and what they were."""
        return self._values, self._digest.hexdigest()


@dataclass(frozen=True, slots=True)
class SoundRemark:
    """What a person should know of one place in a sound track: `kind` is "silence", "cut", "clipped" or "layout"."""

    kind: str
    track: int
    at_s: Fraction
    samples: int = 0
    words: str = ""


class PcmTrack:
    """One sound track of an output."""

    def __init__(
        self,
        target: OutputContainer,
        facts: AudioFacts,
        number: int = 0,
        *,
        aligned: bool,
        end_s: Fraction | None = None,
        encoder: str = "",
    ) -> None:
        """
        Args:
            target: the output.
            facts: of the source's track.
            number: of the track, counted from 0.
            aligned: begin with the first picture; else the container holds how much later it begins.
            end_s: nothing from there on is taken, seconds from the first picture.
            encoder: of `PLAIN`, where one is wanted; else what holds the source.
        """
        # A container that names no places for one or two channels means these; some targets want them named.
        self._layout = {"1 channels": "mono", "2 channels": "stereo"}.get(facts.layout, facts.layout)
        self._format = PLAIN[encoder] if encoder else pcm_format(facts)
        self.rate = facts.sample_rate
        self._number = number
        self.stream = cast(
            AudioStream,
            target.add_stream(encoder or _ENCODERS[self._format], rate=facts.sample_rate, layout=self._layout),
        )
        self._channels = facts.channels
        self._resampler: tuple[av.AudioResampler, tuple[str, str, int]] | None = None
        self._next: int | None = 0 if aligned else None
        self._end = None if end_s is None else round(end_s * self.rate)
        self._clipped = 0
        self.first: int | None = 0 if aligned else None
        self.digest = SampleDigest()
        self.remarks: list[SoundRemark] = []

    @property
    def samples(self) -> int:
        """How many were written so far, of each channel."""
        return self.digest.value()[0] // self._channels

    def encode(self, frame: av.AudioFrame, time_s: Fraction, *, begins: bool = False) -> Iterator[av.Packet[Any]]:
        """Packets of one decoded frame.

        Args:
            frame: as decoded.
            time_s: of its first sample, from the first picture.
            begins: it stands at its time to the sample, and does not run on from what came before.
        """
        tick_s = Fraction(frame.time_base or Fraction(1, self.rate))
        self._note_clipping(frame, time_s)
        for plain in self._plain(frame, time_s):
            samples = cast(Samples, plain.to_ndarray())
            if self._format == "s32":
                # The encoder stores the upper 24 bits; a lossy source decodes to more.
                samples = cast(Samples, cast(Any, samples) & _STORED)
            place = round(time_s * self.rate)
            if self._next is None:
                # What was heard before the first picture, no reader would play: containers hide it.
                self._next = self.first = max(0, place)
            apart = place - self._next
            rounding = math.ceil(tick_s * self.rate) + 1
            if apart > (rounding if begins else max(rounding, int(_RUNS_ON_S * self.rate))):
                yield from self._silence(apart, time_s)
            elif -apart > (rounding if begins else max(rounding, int(_RUNS_ON_S * self.rate))):
                samples = self._without_first(samples, -apart, time_s)
            yield from self._packets(samples)
            time_s += Fraction(plain.samples, self.rate)

    def flush(self) -> Iterator[av.Packet[Any]]:
        """What the encoder still holds."""
        yield from self.stream.encode(None)

    def _plain(self, frame: av.AudioFrame, time_s: Fraction) -> list[av.AudioFrame]:
        shape = (frame.format.name, frame.layout.name, frame.sample_rate)
        if self._resampler is None or self._resampler[1] != shape:
            if self._resampler is not None:
                words = f"{self._resampler[1][1]} at {self._resampler[1][2]} Hz becomes {shape[1]} at {shape[2]} Hz"
                self.remarks.append(SoundRemark("layout", self._number, time_s, 0, words))
            made = av.AudioResampler(format=self._format, layout=self._layout, rate=self.rate)
            self._resampler = (made, shape)
        return self._resampler[0].resample(frame)

    def _note_clipping(self, frame: av.AudioFrame, time_s: Fraction) -> None:
        """Counts samples of a floating source that no whole number holds."""
        if self._format == "flt" or not frame.format.name.startswith(("flt", "dbl")):
            return
        loud = int(np.count_nonzero(np.abs(frame.to_ndarray()) > 1.0))
        if loud and not self._clipped:
            self.remarks.append(SoundRemark("clipped", self._number, time_s))
        self._clipped += loud

    @property
    def clipped(self) -> int:
        """How many samples were louder than whole numbers can say."""
        return self._clipped

    def _without_first(self, samples: Samples, count: int, time_s: Fraction) -> Samples:
        if time_s > 0:
            self._remark("cut", time_s, min(count, samples.shape[1] // self._channels))
        return samples[:, count * self._channels :]

    def _silence(self, count: int, time_s: Fraction) -> Iterator[av.Packet[Any]]:
        self._remark("silence", time_s - Fraction(count, self.rate), count)
        while count > 0 and (self._end is None or (self._next or 0) < self._end):
            block = min(count, _SILENCE_BLOCK)
            yield from self._packets(cast(Samples, np.zeros((1, block * self._channels), _KINDS[self._format])))
            count -= block

    def _remark(self, kind: str, at_s: Fraction, count: int) -> None:
        last = self.remarks[-1] if self.remarks else None
        if last is not None and last.kind == kind and at_s <= last.at_s + Fraction(last.samples, self.rate):
            self.remarks[-1] = SoundRemark(kind, self._number, last.at_s, last.samples + count)
        else:
            self.remarks.append(SoundRemark(kind, self._number, at_s, count))

    def _packets(self, samples: Samples) -> Iterator[av.Packet[Any]]:
        place = self._next or 0
        if self._end is not None:
            samples = samples[:, : max(0, self._end - place) * self._channels]
        if samples.shape[1] == 0:
            return
        self.digest.take(samples)
        frame = av.AudioFrame.from_ndarray(
            cast(Any, np.ascontiguousarray(samples)), format=self._format, layout=self._layout
        )
        frame.sample_rate = self.rate
        frame.time_base = Fraction(1, self.rate)
        frame.pts = place
        self._next = place + frame.samples
        yield from self.stream.encode(frame)
