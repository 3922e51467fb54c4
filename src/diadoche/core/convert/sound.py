"""Sound on its way to plain PCM: cut or filled so that it begins with the first picture."""

from __future__ import annotations

from collections.abc import Iterator
from fractions import Fraction
from typing import Any, cast

import av
import numpy as np
import xxhash
from av.audio.stream import AudioStream
from av.container import OutputContainer
from numpy.typing import NDArray

from diadoche.core.identify.facts import AudioFacts

Samples = NDArray[np.int16] | NDArray[np.int32]

# Rounding of container clocks: a shift below two samples is none.
_SMALLEST_GAP_SAMPLES = 2
_STORED = np.int32(-256)


def pcm_encoder(track: AudioFacts) -> str:
    """24 bits where the source has more than 16 or is lossy, so that nothing is rounded away."""
    return "pcm_s16le" if track.bit_depth is not None and track.bit_depth <= 16 else "pcm_s24le"


class SampleDigest:
    """Digests samples as they sound, whatever order of bytes a container keeps them in."""

    def __init__(self) -> None:
        self._digest = xxhash.xxh3_128()
        self._values = 0

    def take(self, samples: Samples) -> None:
        """Interleaved samples of 16 or 32 bits, shape (1, count)."""
        self._values += samples.size
        self._digest.update(np.ascontiguousarray(samples).data)

    def value(self) -> tuple[int, str]:
        """How many samples of all channels, and what they were."""
        return self._values, self._digest.hexdigest()


class PcmTrack:
    """One sound track of an output."""

    def __init__(self, target: OutputContainer, facts: AudioFacts, *, aligned: bool) -> None:
        """`aligned`: begin with the first picture; else every sample stays, and the container holds the offset."""
        encoder = pcm_encoder(facts)
        # A container that names no places for one or two channels means these; some targets want them named.
        layout = {"1 channels": "mono", "2 channels": "stereo"}.get(facts.layout, facts.layout)
        self._format = "s16" if encoder == "pcm_s16le" else "s32"
        self._rate = facts.sample_rate
        self.stream = cast(AudioStream, target.add_stream(encoder, rate=facts.sample_rate, layout=layout))
        self._resampler = av.AudioResampler(format=self._format, layout=layout, rate=facts.sample_rate)
        self._aligned_start = aligned
        self._next_sample: int | None = None
        self.digest = SampleDigest()

    def encode(self, frame: av.AudioFrame, time_s: Fraction) -> Iterator[av.Packet[Any]]:
        """Packets of one decoded frame that begins at `time_s` from the first picture."""
        for plain in self._resampler.resample(frame):
            samples = cast(Samples, plain.to_ndarray())
            if self._format == "s32":
                # The encoder stores the upper 24 bits; a lossy source decodes to more.
                samples = samples & _STORED
            if self._next_sample is None:
                # What was heard before the first picture, no reader would play: containers hide it.
                if self._aligned_start or time_s < 0:
                    samples = self._aligned(samples, plain.layout.nb_channels, time_s)
                if samples.shape[1] == 0:
                    continue
                self._next_sample = 0 if self._aligned_start else max(0, round(time_s * self._rate))
            self.digest.take(samples)
            yield from self._packets(samples, plain.layout.name)

    def flush(self) -> Iterator[av.Packet[Any]]:
        """What the encoder still holds."""
        yield from self.stream.encode(None)

    def _aligned(self, samples: Samples, channels: int, time_s: Fraction) -> Samples:
        """Cuts what was heard before the first picture, or fills the time until sound began with silence."""
        gap = round(time_s * self._rate)
        if gap <= -_SMALLEST_GAP_SAMPLES:
            return samples[:, -gap * channels :]
        if gap >= _SMALLEST_GAP_SAMPLES:
            return np.concatenate([np.zeros((1, gap * channels), samples.dtype), samples], axis=1)
        return samples

    def _packets(self, samples: Samples, layout: str) -> Iterator[av.Packet[Any]]:
        frame = av.AudioFrame.from_ndarray(cast(Any, np.ascontiguousarray(samples)), format=self._format, layout=layout)
        frame.sample_rate = self._rate
        frame.time_base = Fraction(1, self._rate)
        frame.pts = self._next_sample
        self._next_sample = (self._next_sample or 0) + frame.samples
        yield from self.stream.encode(frame)
