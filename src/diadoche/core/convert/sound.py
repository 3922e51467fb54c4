"""Sound on its way into an output: every sample at its place, counted from the first picture.

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

from diadoche.core.convert.formats import SoundFormat
from diadoche.core.convert.sound_coding import SoundCoding, layout_name
from diadoche.core.media import layout_of, samples_of

Samples = NDArray[np.int16] | NDArray[np.int32] | NDArray[np.float32]

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
_UPPER_BITS, _UPPER = 24, np.int32(-256)
# An envelope is measured over blocks of this length; what an encoder changes of it, in full scales and as a share.
_BLOCK_S = 0.1
_QUIET, _LOUDER = 0.01, 0.3


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


class SoundEnvelope:
    """How loud sound is, ten times a second: what comes of samples that no encoder gives back as they were."""

    def __init__(self, rate: int, channels: int) -> None:
        self._block = max(1, int(rate * _BLOCK_S)) * channels
        self._rest = np.zeros(0, np.float32)
        self._loudness: list[float] = []
        self._values = 0

    def take(self, samples: Samples) -> None:
        """Interleaved samples, shape (1, count)."""
        flat = samples.reshape(-1)
        scale = 1.0 if flat.dtype.kind == "f" else 2.0 ** (8 * flat.dtype.itemsize - 1)
        self._values += flat.size
        self._rest = np.concatenate([self._rest, flat.astype(np.float32) / np.float32(scale)])
        whole = self._rest.size // self._block
        if whole:
            blocks = self._rest[: whole * self._block].reshape(whole, self._block)
            self._loudness += np.sqrt(np.mean(np.square(blocks), axis=1)).tolist()
            self._rest = self._rest[whole * self._block :]

    def value(self) -> tuple[int, tuple[float, ...]]:
        """How many samples of all channels, and the root mean square of each block, in full scales."""
        return self._values, tuple(self._loudness)


def sounds_like(mine: tuple[float, ...], theirs: tuple[float, ...]) -> bool:
    """Whether two envelopes are of one sound that was encoded with losses."""
    count = min(len(mine), len(theirs))
    one, other = np.array(mine[:count]), np.array(theirs[:count])
    return bool(np.all(np.abs(one - other) <= _QUIET + _LOUDER * np.maximum(one, other)))


@dataclass(frozen=True, slots=True)
class SoundRemark:
    """What a person should know of one place in a sound track.

    `kind` is "silence", "cut", "early" (before the first picture), "clipped" or "layout".
    """

    kind: str
    track: int
    at_s: Fraction
    samples: int = 0
    words: str = ""


class SoundTrack:
    """One sound track of an output."""

    def __init__(
        self,
        target: OutputContainer,
        sound: SoundFormat,
        coding: SoundCoding,
        number: int = 0,
        *,
        aligned: bool,
        end_s: Fraction | None = None,
    ) -> None:
        """
        Args:
            target: the output.
            sound: of the source's track.
            coding: how it is encoded.
            number: of the track, counted from 0.
            aligned: begin with the first picture; else the container holds how much later it begins.
            end_s: nothing from there on is taken, seconds from the first picture.
        """
        self.coding = coding
        self._layout = layout_name(sound.layout)
        self._format = coding.samples
        self.rate = sound.rate
        self._number = number
        self.stream = cast(AudioStream, target.add_stream(coding.encoder, rate=sound.rate, layout=self._layout))
        if coding.exact:
            # An encoder that takes several kinds of samples would take the first of them, and round.
            self.stream.codec_context.format = av.AudioFormat(self._format)
        if coding.bit_rate:
            self.stream.codec_context.bit_rate = coding.bit_rate
        self.channels = sound.channels
        self._resampler: tuple[av.AudioResampler, tuple[str, str, int]] | None = None
        self._next: int | None = 0 if aligned else None
        self._end = None if end_s is None else round(end_s * self.rate)
        self._clipped = 0
        self._has_begun = False
        self.first: int | None = 0 if aligned else None
        self.digest = SampleDigest() if coding.exact else SoundEnvelope(sound.rate, sound.channels)
        self.remarks: list[SoundRemark] = []
        # How many samples were cut behind the end, of each channel.
        self._beyond = 0
        self._ends_with_pictures = False

    def release(self) -> None:
        """Lets the encoder go, when everything is written; what is known of the samples stays."""
        del self.stream

    @property
    def samples(self) -> int:
        """How many were written so far, of each channel."""
        return self.digest.value()[0] // self.channels

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
            samples = cast(Samples, samples_of(plain))
            if self._format == "s32" and self.coding.bits == _UPPER_BITS:
                # A lossy source decodes to more.
                samples = cast(Samples, cast(Any, samples) & _UPPER)
            place = round(time_s * self.rate)
            if self._next is None:
                # What was heard before the first picture, no reader would play: containers hide it.
                self._next = self.first = max(0, place)
            apart = place - self._next
            rounding = math.ceil(tick_s * self.rate) + 1
            slack = rounding if begins else max(rounding, int(_RUNS_ON_S * self.rate))
            if not self._has_begun:
                # It runs on from nothing: a frame that begins before the output does would be late as a whole.
                slack = 0
            if apart > slack:
                yield from self._silence(apart, time_s)
            elif -apart > slack:
                samples = self._without_first(samples, -apart, time_s)
            yield from self._packets(samples)
            time_s += Fraction(plain.samples, self.rate)

    def end_at(self, end_s: Fraction) -> None:
        """Sets where the track ends, for a container that holds no sound without a picture: what comes later is cut."""
        self._end = round(end_s * self.rate)
        self._ends_with_pictures = True

    @property
    def cut_behind_s(self) -> Fraction:
        """How much was cut because no picture stands beside it, in seconds."""
        return Fraction(self._beyond, self.rate) if self._ends_with_pictures else Fraction(0)

    def fill(self) -> Iterator[av.Packet[Any]]:
        """Silence up to where the track ends."""
        if self._end is not None and (missing := self._end - (self._next or 0)) > 0:
            yield from self._silence(missing, Fraction(self._end, self.rate))

    def flush(self) -> Iterator[av.Packet[Any]]:
        """What the encoder still holds."""
        yield from self.stream.encode(None)

    def _plain(self, frame: av.AudioFrame, time_s: Fraction) -> list[av.AudioFrame]:
        shape = (frame.format.name, layout_of(frame)[0], frame.sample_rate)
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
        loud = int(np.count_nonzero(np.abs(samples_of(frame)) > 1.0))
        if loud and not self._clipped:
            self.remarks.append(SoundRemark("clipped", self._number, time_s))
        self._clipped += loud

    @property
    def clipped(self) -> int:
        """How many samples were louder than whole numbers can say."""
        return self._clipped

    def _without_first(self, samples: Samples, count: int, time_s: Fraction) -> Samples:
        cut = min(count, samples.shape[1] // self.channels)
        # What lies before the first picture is no stretch that is there twice.
        before = min(cut, max(0, -round(time_s * self.rate)))
        if before:
            self._remark("early", time_s, before)
        if cut > before and time_s > 0:
            self._remark("cut", time_s, cut)
        return samples[:, count * self.channels :]

    def _silence(self, count: int, time_s: Fraction) -> Iterator[av.Packet[Any]]:
        self._remark("silence", time_s - Fraction(count, self.rate), count)
        while count > 0 and (self._end is None or (self._next or 0) < self._end):
            block = min(count, _SILENCE_BLOCK)
            yield from self._packets(cast(Samples, np.zeros((1, block * self.channels), _KINDS[self._format])))
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
            self._beyond += max(0, place + samples.shape[1] // self.channels - max(self._end, place))
            samples = samples[:, : max(0, self._end - place) * self.channels]
        if samples.shape[1] == 0:
            return
        self.digest.take(samples)
        self._has_begun = True
        frame = av.AudioFrame.from_ndarray(
            cast(Any, np.ascontiguousarray(samples)), format=self._format, layout=self._layout
        )
        frame.sample_rate = self.rate
        frame.time_base = Fraction(1, self.rate)
        frame.pts = place
        self._next = place + frame.samples
        yield from self.stream.encode(frame)
