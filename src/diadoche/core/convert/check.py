"""What is to be in an output, and the verdicts on what is.

What is to be in it is written down while it is made: a signature for each picture that went to the encoder, a digest of
the samples. `examine` holds the output against it. Whether the right picture stood there is another question, and is
answered by instants that were read from the source by other means (`check_places`).
"""

from __future__ import annotations

from dataclasses import dataclass, field
from fractions import Fraction

from diadoche.core.convert.signature import Signature

MOST_FINDINGS = 200


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


def finding_at(kind: str, number: int, rate: Fraction, words: str = "") -> Finding:
    """A finding at a picture of an output whose pictures stand at whole places of a rate."""
    return Finding(kind, number, float(number / rate), words)
