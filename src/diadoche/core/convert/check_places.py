"""Whether the right picture stands on each place of an output, by instants that were read from the source.

Which picture of the source stands on which place is known from the making; when each was to be shown, from the source's
own tables or stamps, read without the clock that the output was made by: a check must not share its faults.
"""

from __future__ import annotations

from fractions import Fraction

import numpy as np

from diadoche.core.convert.check import MOST_FINDINGS, Finding, finding_at
from diadoche.core.convert.source_index import Instants
from diadoche.core.convert.stages.timing import PictureMap

_CLOCK_S = 2e-3


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
        finding_at("out of step", int(number), rate, f"it was shown at {taken_s[number]:.3f} s")
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
        whole = instants[::2] if are_fields(instants, rate) else instants
        return np.sort(np.concatenate([whole, whole + 0.5 / float(rate)]))
    if rate_out < rate:
        whole = instants[::2] if are_fields(instants, rate) else instants
        count = round(len(whole) * float(rate_out / rate))
        film: Instants = whole[0] + np.arange(count) / float(rate_out)
        return film
    return instants


def all_are_there(found: PictureMap, instants: Instants | None, rate: Fraction, *, film: bool = False) -> bool:
    """Whether every picture that a source codes is in the output, or is known not to be.

    Args:
        found: which picture stands where.
        instants: when pictures are to be shown, by `shown_as`; None where that is not known.
        rate: at which they are to be shown.
        film: whether film came off its video clock: it may begin and end in the middle of its turns.
    """
    if instants is None:
        return True
    known = len(set(found.times_s)) + len(found.left_out_s) + len(found.missing_s)
    if film:
        return abs(known - len(instants)) <= 1 + len(found.missing_s)
    # Half as many are all of them only where each field has an instant.
    return known == len(instants) or (known == (len(instants) + 1) // 2 and are_fields(instants, rate))


def are_fields(instants: Instants, rate: Fraction) -> bool:
    """Whether fields have an instant each: they follow each other twice as fast as pictures do.

    Args:
        instants: in the order of showing.
        rate: of the pictures.
    """
    return len(instants) > 1 and float(np.median(np.diff(instants))) < 0.75 / float(rate)


def _apart(instants: Instants, others: Instants) -> Instants:
    """How far the nearest of others, which are sorted, is from each instant."""
    after = np.searchsorted(others, instants).clip(0, others.size - 1)
    before = (after - 1).clip(0)
    nearest: Instants = np.minimum(np.abs(others[after] - instants), np.abs(others[before] - instants))
    return nearest


def map_findings(found: PictureMap, rate: Fraction, first: int) -> tuple[Finding, ...]:
    """What is to be known of an output though it is right: pictures that stand twice, are missing or damaged."""
    findings = [finding_at("repeated", number, rate) for number in sorted(found.again)]
    findings += [
        finding_at("damaged", number, rate, "it is damaged in the original") for number in sorted(found.damaged)
    ]
    for kind, times in (("missing", found.missing_s), ("left out", found.left_out_s)):
        findings += [finding_at(kind, max(0, round(time_s * rate) - first), rate) for time_s in times]
    return tuple(sorted(findings, key=lambda each: each.picture)[:MOST_FINDINGS])
