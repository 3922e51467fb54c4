"""Every output is opened again and held against what was to be in it: each picture, its place, and every sample.

What was to be in it is written down while it is made: a signature for each picture that went to the encoder, a digest
of the samples. Whether the right picture stood there is another question, and is answered by instants that were read
from the source by other means.
"""

from __future__ import annotations

from dataclasses import dataclass, field
from fractions import Fraction
from pathlib import Path
from typing import cast

import av
import av.error
import numpy as np

from diadoche.core.convert.signature import Signature, signature_of
from diadoche.core.convert.sound import SampleDigest, Samples
from diadoche.core.convert.source_index import Instants
from diadoche.core.convert.stages.timing import PictureMap
from diadoche.core.media import decoding, opened
from diadoche.core.watch import Progress, Watch

# How far the mean of an eighth by an eighth of a picture moves through a lossy encoder, in 8-bit code values.
_CHANGED = 12
MOST_FINDINGS = 200
_CLOCK_S = 2e-3


@dataclass(frozen=True, slots=True)
class Finding:
    """A suspect place of an output.

    `kind` is "repeated", "missing", "left out", "damaged", "changed" or "out of step".
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
    """A track: its samples of all channels with their digest, and at which sample it begins."""

    value: tuple[int, str]
    first: int
    rate: int


@dataclass(slots=True)
class Expected:
    """What is to be in an output. Pictures stand at whole places of `rate`, from 0."""

    rate: Fraction
    signatures: list[Signature] = field(default_factory=list)
    sounds: list[ExpectedSound] = field(default_factory=list)


def examine(path: Path, expected: Expected, watch: Watch) -> tuple[Checks, tuple[Finding, ...]]:
    """Decodes an output to its end and holds it against what is to be in it.

    Raises:
        MediaError: it cannot be opened.
    """
    findings: list[Finding] = []
    total = max(1, len(expected.signatures))
    seen, ends_s, clean = 0, Fraction(0), True
    digests = [SampleDigest() for _ in expected.sounds]
    begins: dict[int, Fraction] = {}
    with opened([path]) as media, decoding(path):
        picture = media.streams.video[0]
        picture.thread_type = "AUTO"
        tracks = [picture, *media.streams.audio]
        tick_s = Fraction(picture.time_base or 1)
        place = {stream.index: number for number, stream in enumerate(tracks)}
        for packet in media.demux(tracks):
            try:
                frames = packet.decode()
            except av.error.FFmpegError:
                clean = False
                findings.append(_finding("damaged", seen, expected.rate, "it does not decode"))
                continue
            for frame in frames:
                if isinstance(frame, av.VideoFrame):
                    time_s = (frame.pts or 0) * Fraction(frame.time_base or 1)
                    ends_s = time_s + 1 / expected.rate
                    findings += _picture_findings(frame, seen, time_s, tick_s, expected)
                    clean = clean and not frame.is_corrupt
                    seen += 1
                    watch.step(Progress(min(seen, total), total, "checking the output"))
                elif isinstance(frame, av.AudioFrame):
                    number = place[packet.stream_index] - 1
                    begins.setdefault(number, (frame.pts or 0) * Fraction(frame.time_base or 1))
                    if number < len(digests):
                        digests[number].take(cast(Samples, frame.to_ndarray()))
        in_step = len(media.streams.audio) == len(expected.sounds)
        for number, (sound, digest) in enumerate(zip(expected.sounds, digests, strict=True)):
            right = sound.value[0] == 0 or abs(begins.get(number, Fraction(0)) * sound.rate - sound.first) <= 1
            if digest.value() != sound.value or not right:
                in_step = False
                findings.append(Finding("out of step", 0, 0.0, f"sound track {number + 1} is not what was written"))
    return (
        Checks(
            frames=seen == len(expected.signatures) and seen > 0,
            duration=abs(ends_s - len(expected.signatures) / expected.rate) <= tick_s,
            sync=in_step and not any(each.kind == "out of step" for each in findings),
            decodes=clean and not any(each.kind == "changed" for each in findings),
        ),
        tuple(findings[:MOST_FINDINGS]),
    )


def _picture_findings(
    frame: av.VideoFrame, number: int, time_s: Fraction, tick_s: Fraction, expected: Expected
) -> list[Finding]:
    found = []
    if abs(time_s - number / expected.rate) > tick_s:
        found.append(_finding("out of step", number, expected.rate, f"it stands at {float(time_s):.3f} s"))
    if number < len(expected.signatures):
        apart = np.abs(signature_of(frame).astype(np.int16) - expected.signatures[number])
        if int(apart.max()) > _CHANGED:
            found.append(_finding("changed", number, expected.rate, "it is another picture than went in"))
    return found


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
