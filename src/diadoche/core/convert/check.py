"""Every output is opened again and held against what was to be in it: each picture, its place, and every sample.

What was to be in it is written down while it is made: a signature for each picture that went to the encoder, a digest
of the samples. Whether the right picture stood there is another question, and is answered by instants that were read
from the source by other means.
"""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from dataclasses import dataclass, field
from fractions import Fraction
from pathlib import Path
from typing import cast

import av
import av.error
import numpy as np

from diadoche.core.coder_threads import use_processors
from diadoche.core.convert.signature import Signature, picture_digest, signature_of
from diadoche.core.convert.sound import SampleDigest, Samples, SoundEnvelope, sounds_like
from diadoche.core.convert.source_index import Instants
from diadoche.core.convert.stages.timing import PictureMap
from diadoche.core.errors import MediaError
from diadoche.core.media import decoding, opened, sound_frame
from diadoche.core.watch import Progress, Watch

# How far the mean of an eighth by an eighth of a picture moves through a lossy encoder, in 8-bit code values.
_CHANGED = 12
MOST_FINDINGS = 200
_CLOCK_S = 2e-3
# As far above black, in 8-bit code values, a picture is still told as black; as long one stands still until it is told.
_NEARLY_BLACK = 6
_FROZEN_S = Fraction(1, 2)
# The longest packets of the sound codecs that fill their last one up.
_PADDING_SAMPLES = 4096


@dataclass(frozen=True, slots=True)
class Finding:
    """A suspect place of an output.

    `kind` is "repeated", "missing", "left out", "damaged", "changed", "out of step", "black" or "frozen".
    """

    kind: str
    picture: int
    time_s: float
    words: str = ""

    def as_dict(self) -> dict[str, object]:
        """The finding as the command line's JSON has it."""
        return {"kind": self.kind, "picture": self.picture, "time_s": self.time_s, "words": self.words}


@dataclass(frozen=True, slots=True)
class Checks:
    """The verdicts on an output."""

    frames: bool
    duration: bool
    sync: bool
    decodes: bool

    @property
    def passed(self) -> bool:
        """Whether it may be delivered."""
        return self.frames and self.duration and self.sync and self.decodes

    def as_dict(self) -> dict[str, bool]:
        """The verdicts as the command line's JSON has them."""
        return {"frames": self.frames, "duration": self.duration, "sync": self.sync, "decodes": self.decodes}

    def failures(self) -> str:
        """The names of what failed."""
        return ", ".join(name for name, good in self.as_dict().items() if not good)


@dataclass(frozen=True, slots=True)
class ExpectedSound:
    """A track: its samples of all channels with their digest, or their envelope, and at which sample it begins."""

    value: tuple[int, str] | tuple[int, tuple[float, ...]]
    first: int
    rate: int
    channels: int


@dataclass(slots=True)
class Expected:
    """What is to be in an output. Pictures stand at whole places of `rate`, from 0.

    `digests` are there where an encoder gives pictures back to the bit. `darkest` is black, in 8-bit code values.
    """

    rate: Fraction
    signatures: list[Signature] = field(default_factory=list)
    digests: list[int] = field(default_factory=list)
    sounds: list[ExpectedSound] = field(default_factory=list)
    darkest: int = 16


def examine(path: Path, expected: Expected, watch: Watch) -> tuple[Checks, tuple[Finding, ...]]:
    """Decodes an output to its end and holds it against what is to be in it.

    Raises:
        MediaError: it cannot be opened.
    """
    seen = _Seen(expected, watch)
    with opened([path]) as media, decoding(path):
        picture = media.streams.video[0]
        use_processors(picture.codec_context)
        seen.tick_s = Fraction(picture.time_base or 1)
        tracks = [picture, *media.streams.audio]
        seen.tracks = len(tracks) - 1
        place = {stream.index: number for number, stream in enumerate(tracks)}
        for packet in media.demux(tracks):
            try:
                frames = packet.decode()
            except av.error.FFmpegError:
                seen.broken()
                continue
            for frame in frames:
                if isinstance(frame, av.VideoFrame):
                    seen.picture(frame, (frame.pts or 0) * Fraction(frame.time_base or 1))
                elif isinstance(frame, av.AudioFrame):
                    seen.sound(place[packet.stream_index] - 1, sound_frame(frame))
    return seen.verdicts()


def examine_stills(paths: Sequence[Path], expected: Expected, watch: Watch) -> tuple[Checks, tuple[Finding, ...]]:
    """Decodes a file for each picture, in order, and holds them against what is to be in them."""
    seen = _Seen(expected, watch)
    for number, path in enumerate(paths):
        try:
            with opened([path]) as media:
                frame = next(media.decode(media.streams.video[0]))
        except (MediaError, av.error.FFmpegError, StopIteration):
            seen.broken()
            continue
        seen.picture(frame, number / expected.rate)
    return seen.verdicts()


class _Seen:
    """What came out of an output, picture by picture, against what went in."""

    def __init__(self, expected: Expected, watch: Watch) -> None:
        self._expected = expected
        self._watch = watch
        self._findings: list[Finding] = []
        self._count = 0
        self._ends_s = Fraction(0)
        self._clean = True
        self._digests = [
            SampleDigest() if isinstance(each.value[1], str) else SoundEnvelope(each.rate, each.channels)
            for each in expected.sounds
        ]
        self._begins: dict[int, Fraction] = {}
        self.tick_s = Fraction(0)
        self.tracks = 0
        self._black = _Stretch("black", 1)
        self._frozen = _Stretch("frozen", max(2, round(expected.rate * _FROZEN_S)))
        self._last: tuple[Signature, int | None] | None = None

    def broken(self) -> None:
        """Something did not decode."""
        self._clean = False
        self._findings.append(_finding("damaged", self._count, self._expected.rate, "it does not decode"))

    def picture(self, frame: av.VideoFrame, time_s: Fraction) -> None:
        """The next picture."""
        number, expected = self._count, self._expected
        total = max(1, len(expected.signatures))
        self._watch.step(Progress(min(number + 1, total), total, "checking the output"))
        self._ends_s = time_s + 1 / expected.rate
        self._clean = self._clean and not frame.is_corrupt
        self._count += 1
        if abs(time_s - number / expected.rate) > self.tick_s:
            self._find("out of step", f"it stands at {float(time_s):.3f} s")
        signature = signature_of(frame)
        if number < len(expected.signatures):
            apart = np.abs(signature.astype(np.int16) - expected.signatures[number])
            exact = number >= len(expected.digests) or picture_digest(frame) == expected.digests[number]
            if int(apart.max()) > _CHANGED or not exact:
                self._find("changed", "it is another picture than went in")
        self._black.take(number, holds=int(signature.max()) <= expected.darkest + _NEARLY_BLACK)
        self._frozen.take(number, holds=self._is_as_before(frame, signature))

    def sound(self, track: int, frame: av.AudioFrame) -> None:
        """The next samples of a track."""
        self._begins.setdefault(track, (frame.pts or 0) * Fraction(frame.time_base or 1))
        if track < len(self._digests):
            samples = frame.to_ndarray()
            # Planes of channels become samples that follow each other.
            self._digests[track].take(cast(Samples, samples.T.reshape(1, -1) if samples.shape[0] > 1 else samples))

    def verdicts(self) -> tuple[Checks, tuple[Finding, ...]]:
        """The verdicts, and the places that they rest on."""
        expected, in_step = self._expected, self.tracks == len(self._expected.sounds)
        for number, sound in enumerate(expected.sounds):
            if not self._is_right(number, sound):
                in_step = False
                words = f"sound track {number + 1} is not what was written"
                self._findings.append(Finding("out of step", 0, 0.0, words))
        checks = Checks(
            frames=self._count == len(expected.signatures) and self._count > 0,
            duration=abs(self._ends_s - len(expected.signatures) / expected.rate) <= self.tick_s,
            sync=in_step and not any(each.kind == "out of step" for each in self._findings),
            decodes=self._clean and not any(each.kind == "changed" for each in self._findings),
        )
        stretches = (*self._black.found(), *self._frozen.found())
        suspect = [
            _finding(stretch.kind, begin, expected.rate, f"for {float(length / expected.rate):.1f} s")
            for stretch, begin, length in stretches
        ]
        return checks, (*self._findings[:MOST_FINDINGS], *suspect[:MOST_FINDINGS])

    def _find(self, kind: str, words: str) -> None:
        self._findings.append(_finding(kind, self._count - 1, self._expected.rate, words))

    def _is_as_before(self, frame: av.VideoFrame, signature: Signature) -> bool:
        """Whether nothing at all differs from the picture before: digested only where the few numbers are the same."""
        last = self._last
        if last is None or not np.array_equal(last[0], signature):
            self._last = signature, None
            return False
        digest = picture_digest(frame)
        self._last = signature, digest
        # The first of a stretch was not digested: it is taken to be like the second.
        return last[1] is None or last[1] == digest

    def _is_right(self, number: int, sound: ExpectedSound) -> bool:
        values, found = self._digests[number].value()
        if sound.value[0] == 0:
            return values == 0
        if abs(self._begins.get(number, Fraction(0)) * sound.rate - sound.first) > 1:
            return False
        if isinstance(found, str):
            return (values, found) == sound.value
        # Encoders fill their last packet up.
        more = values - sound.value[0]
        theirs = cast(tuple[float, ...], sound.value[1])
        return 0 <= more <= _PADDING_SAMPLES * sound.channels and sounds_like(theirs, found)


class _Stretch:
    """Pictures in a row of which something holds."""

    def __init__(self, kind: str, shortest: int) -> None:
        self.kind = kind
        self._shortest = shortest
        self._begin: int | None = None
        self._next = 0
        self._done: list[tuple[int, int]] = []

    def take(self, number: int, *, holds: bool) -> None:
        """What holds of the next picture."""
        self._next = number + 1
        if holds and self._begin is None:
            self._begin = number
        elif not holds and self._begin is not None:
            self._done.append((self._begin, number - self._begin))
            self._begin = None

    def found(self) -> Iterator[tuple[_Stretch, int, int]]:
        """Where each stretch that is long enough begins, and how many pictures it has."""
        last = [] if self._begin is None else [(self._begin, self._next - self._begin)]
        for begin, length in (*self._done, *last):
            if length >= self._shortest:
                yield self, begin, length


def _finding(kind: str, number: int, rate: Fraction, words: str = "") -> Finding:
    return Finding(kind, number, float(number / rate), words)


def placed_right(found: PictureMap, first: int, rate: Fraction, instants: Instants | None) -> tuple[Finding, ...]:
    """The places where another picture stands than the one that was shown then in the source.

    Args:
        found: which picture stands where.
        first: the place in the source that became the output's first.
        rate: places a second.
        instants: of the source's pictures; None where they are not known, and then nothing is found.
    """
    if instants is None or not found.times_s:
        return ()
    half_s = 0.5 / float(rate)
    # Clocks of 90 kHz, or of a thousandth of a second, round.
    rounding_s = max(_CLOCK_S, half_s / 2)
    gone = np.sort([float(each) for each in (*found.missing_s, *found.left_out_s)])
    there = instants[_apart(instants, gone) > half_s / 2] if gone.size else instants
    if not there.size:
        return ()
    places_s = (first + np.arange(len(found.times_s))) / float(rate)
    # What was shown last up to the middle of a place: two answers where that is not sure.
    early, late = (
        np.maximum(np.searchsorted(there, places_s + half_s + slack_s, side="right") - 1, 0)
        for slack_s in (-rounding_s, rounding_s)
    )
    taken_s = np.array([float(each) for each in found.times_s])
    wrong = (taken_s < there[early] - half_s) | (taken_s > there[late] + half_s)
    return tuple(
        _finding("out of step", int(number), rate, f"it was shown at {taken_s[number]:.3f} s")
        for number in np.flatnonzero(wrong)[:MOST_FINDINGS]
    )


def shown_as(instants: Instants, rate: Fraction, rate_out: Fraction) -> Instants:
    """When pictures are to be shown that the scan of a source gives, by arithmetic alone.

    Args:
        instants: of the source's pictures; fields that are coded by themselves have an instant each.
        rate: of the source's pictures.
        rate_out: twice that where each field becomes a picture, four fifths where film comes off its video clock.
    """
    if rate_out == 2 * rate:
        whole = instants[::2] if _are_fields(instants, rate) else instants
        return np.sort(np.concatenate([whole, whole + 0.5 / float(rate)]))
    if rate_out < rate:
        whole = instants[::2] if _are_fields(instants, rate) else instants
        count = round(len(whole) * float(rate_out / rate))
        film: Instants = whole[0] + np.arange(count) / float(rate_out)
        return film
    return instants


def all_are_there(found: PictureMap, instants: Instants | None, *, film: bool = False) -> bool:
    """Whether every picture that a source codes is in the output, or is known not to be.

    Args:
        found: which picture stands where.
        instants: when pictures are to be shown, by `shown_as`; None where that is not known.
        film: whether film came off its video clock: it may begin and end in the middle of its turns.
    """
    if instants is None:
        return True
    known = len(set(found.times_s)) + len(found.left_out_s) + len(found.missing_s)
    if film:
        return abs(known - len(instants)) <= 1 + len(found.missing_s)
    # Fields that are coded by themselves have an instant each.
    return known in {len(instants), (len(instants) + 1) // 2}


def _are_fields(instants: Instants, rate: Fraction) -> bool:
    return len(instants) > 1 and float(np.median(np.diff(instants))) < 0.75 / float(rate)


def _apart(instants: Instants, others: Instants) -> Instants:
    """How far the nearest of others, which are sorted, is from each instant."""
    after = np.searchsorted(others, instants).clip(0, others.size - 1)
    before = (after - 1).clip(0)
    nearest: Instants = np.minimum(np.abs(others[after] - instants), np.abs(others[before] - instants))
    return nearest


def map_findings(found: PictureMap, rate: Fraction, first: int) -> tuple[Finding, ...]:
    """What is to be known of an output though it is right: pictures that stand twice, are missing or damaged."""
    findings = [_finding("repeated", number, rate) for number in sorted(found.again)]
    findings += [_finding("damaged", number, rate, "it is damaged in the original") for number in sorted(found.damaged)]
    for kind, times in (("missing", found.missing_s), ("left out", found.left_out_s)):
        findings += [_finding(kind, max(0, round(time_s * rate) - first), rate) for time_s in times]
    return tuple(sorted(findings, key=lambda each: each.picture)[:MOST_FINDINGS])
