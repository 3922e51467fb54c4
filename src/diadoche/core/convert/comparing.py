"""What a rewrapped clip decodes to, held picture by picture against what its original decodes to."""

from __future__ import annotations

from dataclasses import dataclass, field
from fractions import Fraction
from pathlib import Path

import av
import numpy as np
import xxhash

from diadoche.core.convert.check import Finding
from diadoche.core.run import Missing, Picture, Run, Sound
from diadoche.core.watch import Progress, Share, Watch

_MOST_FINDINGS = 200
_CLOCK_S = Fraction(1, 500)
# The longest packets of the codecs that pad.
_PADDING_SAMPLES = 2048


@dataclass(slots=True)
class Decoded:
    """What decoding a clip to its end gave. Times in seconds from the first picture.

    Pictures as digests in order; sound as the range of each track, in samples.
    """

    pictures: list[int] = field(default_factory=list)
    times_s: list[Fraction] = field(default_factory=list)
    missing_s: list[Fraction] = field(default_factory=list)
    damaged_s: list[Fraction] = field(default_factory=list)
    ends_s: Fraction = Fraction(0)
    sounds: dict[int, tuple[Fraction, Fraction, int]] = field(default_factory=dict)


@dataclass(frozen=True, slots=True)
class Comparison:
    """How an output compares with its original, both decoded."""

    same_pictures: bool
    sound_in_step: bool
    pictures_in: int
    pictures_out: int
    damaged_in: int
    damaged_out: int
    first_damaged_s: Fraction
    ends_in_s: Fraction
    ends_out_s: Fraction
    findings: tuple[Finding, ...]


def compare_decoded(run: Run, part: Path, expected: int, as_pcm: frozenset[int], watch: Watch) -> Comparison:
    """Decodes both to their ends.

    Args:
        run: the original.
        part: the output.
        expected: how many pictures there should be, for the progress.
        as_pcm: sound tracks, from 0, that became plain PCM: they were proven by their samples.
        watch: told how far it is.

    Raises:
        MediaError: one cannot be opened.
    """
    output = Run([part], run.rate)
    before, after = Decoded(), Decoded()
    for threads, again in ((True, ""), (False, " again")):
        before = _decoded(run, Share(watch, 0, 0.5), expected, f"checking the original{again}", threads=threads)
        after = _decoded(output, Share(watch, 0.5, 1), expected, f"checking the output{again}", threads=threads)
        # Damaged pictures decode the same every time only where one follows the other.
        if before.pictures == after.pictures:
            break
    bad_in, bad_out = ([*each.missing_s, *each.damaged_s] for each in (before, after))
    rate = run.rate or 25
    findings = [
        Finding("changed", number, float(before.times_s[number]), "it decodes to another picture than the original's")
        for number, (mine, theirs) in enumerate(zip(before.pictures, after.pictures, strict=False))
        if mine != theirs
    ]
    findings += [
        Finding(kind, round(at_s * rate), float(at_s), "so in the original too")
        for kind, times in (("missing", before.missing_s), ("damaged", before.damaged_s))
        for at_s in times
    ]
    return Comparison(
        before.pictures == after.pictures,
        _in_step(before, after, as_pcm),
        len(before.pictures),
        len(after.pictures),
        len(bad_in),
        len(bad_out),
        min(bad_in, default=Fraction(0)),
        before.ends_s,
        after.ends_s,
        tuple(findings[:_MOST_FINDINGS]),
    )


def _in_step(before: Decoded, after: Decoded, as_pcm: frozenset[int]) -> bool:
    """Whether every sound track begins and ends at the same sample, or one beside it."""
    if before.sounds.keys() != after.sounds.keys():
        return False
    for number, (begin_s, end_s, rate) in before.sounds.items():
        if number in as_pcm:
            continue
        theirs = after.sounds[number]
        # A coarse clock, such as of a thousandth of a second, rounds.
        slack_s = max(Fraction(2, rate), _CLOCK_S)
        # What was heard before the first picture, containers hide.
        if abs(max(begin_s, Fraction(0)) - max(theirs[0], Fraction(0))) > slack_s:
            return False
        # What pads the last packet is not heard where a container can say so; it is silence where it cannot.
        if not -slack_s <= theirs[1] - end_s <= slack_s + Fraction(_PADDING_SAMPLES, rate):
            return False
    return True


def _decoded(run: Run, watch: Watch, expected: int, note: str, *, threads: bool) -> Decoded:
    found = Decoded()
    for unit in run.units(threads=threads):
        if isinstance(unit, Picture):
            found.pictures.append(picture_digest(unit.frame))
            found.times_s.append(unit.time_s)
            if unit.damaged:
                found.damaged_s.append(unit.time_s)
            found.ends_s = max(found.ends_s, unit.time_s)
            watch.step(Progress(min(len(found.pictures), expected), expected, note))
        elif isinstance(unit, Missing):
            found.missing_s.append(unit.time_s)
        elif isinstance(unit, Sound):
            rate = unit.frame.sample_rate
            begin_s = found.sounds.get(unit.track, (unit.time_s, unit.time_s, rate))[0]
            found.sounds[unit.track] = (begin_s, unit.time_s + Fraction(unit.frame.samples, rate), rate)
    return found


def picture_digest(frame: av.VideoFrame) -> int:
    """Digests the visible samples of a picture, all components of them, without the padding of its lines."""
    digest = xxhash.xxh3_64()
    for number, plane in enumerate(frame.planes):
        wide = line_bytes(frame, number)
        lines = np.frombuffer(plane, np.uint8)  # type: ignore[call-overload]  # a buffer
        if wide is None or lines.size < plane.line_size * plane.height:
            digest.update(lines.tobytes())
        else:
            visible = lines[: plane.line_size * plane.height].reshape(plane.height, plane.line_size)[:, :wide]
            digest.update(np.ascontiguousarray(visible).data)
    return digest.intdigest()


def line_bytes(frame: av.VideoFrame, number: int) -> int | None:
    """How many bytes of each line of a plane are visible; None for a palette, which has no lines.

    Packed pictures hold all their components in one plane; semi-planar ones both colour differences in the second.
    """
    pixels, plane = frame.format, frame.planes[number]
    count, parts = len(frame.planes), len(pixels.components)
    if pixels.has_palette:
        return plane.width if number == 0 else None
    if count == 1:
        return (frame.width * pixels.padded_bits_per_pixel + 7) // 8
    each = (pixels.components[0].bits + 7) // 8
    shared = 2 if count == 2 and parts >= 3 and number == 1 else 1
    return plane.width * each * shared
