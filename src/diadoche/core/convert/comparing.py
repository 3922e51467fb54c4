"""What a rewrapped clip decodes to, held picture by picture against what its original decodes to."""

from __future__ import annotations

from dataclasses import dataclass, field
from fractions import Fraction
from pathlib import Path

from diadoche.core.convert.check import MOST_FINDINGS, Finding
from diadoche.core.convert.signature import picture_digest
from diadoche.core.run import Missing, Picture, Run, Sound
from diadoche.core.watch import Progress, Share, Watch

# Around a join; and how much earlier decoding begins, for a decoder needs a key picture first.
_AROUND_S, _LEAD_S = Fraction(2, 5), Fraction(3)
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

    def decodes_as(self, other: Decoded) -> bool:
        """Whether both gave the same pictures, and failed at as many of them."""
        failed = (len(self.missing_s) + len(self.damaged_s), len(other.missing_s) + len(other.damaged_s))
        return self.pictures == other.pictures and failed[0] == failed[1]


@dataclass(frozen=True, slots=True)
class Comparison:
    """How an output compares with its original. `same_pictures` is None where not all of both were decoded."""

    same_pictures: bool | None
    pictures_in_step: bool
    sound_in_step: bool
    pictures_in: int
    pictures_out: int
    damaged_in: int
    damaged_out: int
    first_damaged_s: Fraction
    ends_in_s: Fraction
    ends_out_s: Fraction
    findings: tuple[Finding, ...]


def compare_decoded(
    run: Run, part: Path, copied: int, as_pcm: frozenset[int], watch: Watch, *, everything: bool = False
) -> Comparison:
    """Decodes an output to its end, and its original where the packets alone do not settle what is shown.

    Packets that were proven equal decode to the same pictures; but at a join, a decoder goes on from one part into the
    next. There both are decoded and compared. Where the output does not decode as it should, all of both is, so that
    what the original has too can be told from what was made here.

    Args:
        run: the original; its packets have been read.
        part: the output.
        copied: how many pictures were put into it.
        as_pcm: sound tracks, from 0, that became plain PCM: they were proven by their samples.
        watch: told how far it is.
        everything: whether every picture of both is compared, whatever is found.

    Raises:
        MediaError: one cannot be opened.
    """
    output = Run([part], run.rate)
    begins_s, ends_s = tuple(run.begins_s), run.ends_s
    after = _decoded(output, Share(watch, 0, 0.6), copied, "checking the output")
    joins = range(1, len(begins_s))
    healthy = not after.missing_s and not after.damaged_s and len(after.pictures) == copied
    if everything or run.rate is None or not healthy:
        return _all_compared(run, output, copied, as_pcm, watch, after)
    if not all(_is_same_at(run, place, begins_s, output) for place in joins):
        return _all_compared(run, output, copied, as_pcm, watch, after)
    before = _decoded(run, Share(watch, 0.6, 1), copied, "listening to the original", pictures=False)
    unheard = tuple(_sound_astray(before, after, as_pcm))
    ends_in_s = ends_s - 1 / run.rate
    return Comparison(None, True, not unheard, copied, copied, 0, 0, Fraction(0), ends_in_s, after.ends_s, unheard)


def _is_same_at(run: Run, place: int, begins_s: tuple[Fraction, ...], output: Run) -> bool:
    """Whether both show the same pictures around the beginning of a part."""
    before_s, join_s = begins_s[place - 1], begins_s[place]
    pair = Run([*run.parts[place - 1], *run.parts[place]], run.rate)
    mine = _pictures_around(pair, join_s - before_s)
    theirs = _pictures_around(output, join_s)
    return bool(mine) and mine == theirs


def _pictures_around(run: Run, at_s: Fraction) -> list[int]:
    """Digests of the pictures just before and after a moment."""
    found = []
    for unit in run.units(max(Fraction(0), at_s - _LEAD_S), at_s + _AROUND_S):
        if isinstance(unit, Picture) and -_AROUND_S <= unit.time_s - at_s < _AROUND_S:
            found.append(picture_digest(unit.frame))
    return found


def _all_compared(
    run: Run, output: Run, expected: int, as_pcm: frozenset[int], watch: Watch, after: Decoded
) -> Comparison:
    """All pictures of both; `after` is what the output decodes to."""
    before = _decoded(run, Share(watch, 0.6, 1), expected, "checking the original")
    if not before.decodes_as(after):
        # What damaged pictures decode to is the same every time only where one follows the other.
        before = _decoded(run, Share(watch, 0, 0.5), expected, "checking the original again", threads=False)
        after = _decoded(output, Share(watch, 0.5, 1), expected, "checking the output again", threads=False)
    bad_in, bad_out = ([*each.missing_s, *each.damaged_s] for each in (before, after))
    rate = run.rate or 25
    astray = [
        (number, mine_s)
        for number, (mine_s, theirs_s) in enumerate(zip(before.times_s, after.times_s, strict=False))
        if abs(mine_s - theirs_s) > Fraction(1, 2) / rate
    ]
    unheard = _sound_astray(before, after, as_pcm)
    findings = [
        Finding("out of step", number, float(after.times_s[number]), f"it was shown at {float(time_s):.3f} s")
        for number, time_s in astray
    ]
    findings += unheard
    findings += [
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
        not astray,
        not unheard,
        len(before.pictures),
        len(after.pictures),
        len(bad_in),
        len(bad_out),
        min(bad_in, default=Fraction(0)),
        before.ends_s,
        after.ends_s,
        tuple(findings[:MOST_FINDINGS]),
    )


def _sound_astray(before: Decoded, after: Decoded, as_pcm: frozenset[int]) -> list[Finding]:
    """The sound tracks that do not begin or end at the same sample, or one beside it."""
    if before.sounds.keys() != after.sounds.keys():
        words = f"{len(after.sounds)} sound tracks are heard, not {len(before.sounds)}"
        return [Finding("out of step", 0, 0.0, words)]
    found = []
    for number, (begin_s, end_s, rate) in before.sounds.items():
        if number in as_pcm:
            continue
        theirs = after.sounds[number]
        # A coarse clock, such as of a thousandth of a second, rounds.
        slack_s = max(Fraction(2, rate), _CLOCK_S)
        # What was heard before the first picture, containers hide.
        late_s = max(theirs[0], Fraction(0)) - max(begin_s, Fraction(0))
        longer_s = theirs[1] - end_s
        if abs(late_s) > slack_s:
            words = f"sound track {number + 1} is heard {float(late_s):+.3f} s from where it was"
            found.append(Finding("out of step", 0, float(max(begin_s, Fraction(0))), words))
        # What pads the last packet is not heard where a container can say so; it is silence where it cannot.
        elif not -slack_s <= longer_s <= slack_s + Fraction(_PADDING_SAMPLES, rate):
            words = f"sound track {number + 1} ends {float(longer_s):+.3f} s from where it did"
            found.append(Finding("out of step", 0, float(end_s), words))
    return found


def _decoded(
    run: Run, watch: Watch, expected: int, note: str, *, threads: bool = True, pictures: bool = True
) -> Decoded:
    found = Decoded()
    for unit in run.units(threads=threads, pictures=pictures):
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
