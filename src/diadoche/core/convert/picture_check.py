"""Decoded pictures of an output, one after the other, held against those that went into its encoder."""

from __future__ import annotations

from collections.abc import Iterator
from fractions import Fraction

import av
import numpy as np

from diadoche.core.convert.check import MOST_FINDINGS, Expected, Finding, finding_at
from diadoche.core.convert.signature import Signature, picture_digest, signature_of

# How far the mean of an eighth by an eighth of a picture moves through a lossy encoder, in 8-bit code values.
_CHANGED = 12
# As far above black, in 8-bit code values, a picture is still told as black; as long one stands still until it is told.
_NEARLY_BLACK = 6
_FROZEN_S = Fraction(1, 2)


class PictureCheck:
    """Takes pictures in the order of showing."""

    def __init__(self, expected: Expected) -> None:
        """
        Args:
            expected: what went in; more may be added to it until the picture in question is taken.
        """
        self._expected = expected
        self._findings: list[Finding] = []
        self._black = _Stretch("black", 1)
        self._frozen = _Stretch("frozen", max(2, round(expected.rate * _FROZEN_S)))
        self._last_digest: int | None = None
        # Of each picture as it came out, and what all of them are like.
        self.signatures: list[Signature] = []
        self._shape: tuple[int, int, str] | None = None
        # Whether everything decoded, and nothing was marked as damaged.
        self.is_clean = True

    @property
    def count(self) -> int:
        """How many pictures came out."""
        return len(self.signatures)

    @property
    def has_changed(self) -> bool:
        """Whether another picture came out than went in."""
        return any(each.kind == "changed" for each in self._findings)

    def broken(self) -> None:
        """Something did not decode."""
        self.is_clean = False
        self._findings.append(finding_at("damaged", self.count, self._expected.rate, "it does not decode"))

    def take(self, frame: av.VideoFrame) -> None:
        """The next picture."""
        number, expected = self.count, self._expected
        self.is_clean = self.is_clean and not frame.is_corrupt
        signature = signature_of(frame)
        self._shape = _shape_of(frame)
        if number < len(expected.signatures):
            exact = number >= len(expected.digests) or picture_digest(frame) == expected.digests[number]
            apart = np.abs(signature.astype(np.int16) - expected.signatures[number])
            if not exact or int(apart.max()) > _CHANGED:
                words = "it is another picture than went in"
                self._findings.append(finding_at("changed", number, expected.rate, words))
        self._black.take(number, holds=int(signature.max()) <= expected.darkest + _NEARLY_BLACK)
        self._frozen.take(number, holds=self._is_as_before(frame, signature))
        self.signatures.append(signature)

    def was(self, number: int, frame: av.VideoFrame) -> bool:
        """Whether a picture is one that was taken before, as far as its size, its pixels and its few numbers tell."""
        is_alike = number < self.count and _shape_of(frame) == self._shape
        return is_alike and np.array_equal(self.signatures[number], signature_of(frame))

    def findings(self) -> tuple[Finding, ...]:
        """The places that are wrong, and those that are only suspect: black, or standing still."""
        suspect = [
            finding_at(stretch.kind, begin, self._expected.rate, f"for {float(length / self._expected.rate):.1f} s")
            for stretch, begin, length in (*self._black.found(), *self._frozen.found())
        ]
        return (*self._findings[:MOST_FINDINGS], *suspect[:MOST_FINDINGS])

    def _is_as_before(self, frame: av.VideoFrame, signature: Signature) -> bool:
        """Whether nothing at all differs from the picture before: digested only where the few numbers are the same."""
        if not self.signatures or not np.array_equal(self.signatures[-1], signature):
            self._last_digest = None
            return False
        before, self._last_digest = self._last_digest, picture_digest(frame)
        # The first of a stretch was not digested: it is taken to be like the second.
        return before is None or before == self._last_digest


def _shape_of(frame: av.VideoFrame) -> tuple[int, int, str]:
    return frame.width, frame.height, frame.format.name


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
