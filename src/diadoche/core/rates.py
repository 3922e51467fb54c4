"""Exact frame rates. A rate is always a Fraction; text has the form "30000/1001"."""

from __future__ import annotations

from fractions import Fraction

STANDARD_RATES = (
    Fraction(24000, 1001),
    Fraction(24),
    Fraction(25),
    Fraction(30000, 1001),
    Fraction(30),
    Fraction(48000, 1001),
    Fraction(48),
    Fraction(50),
    Fraction(60000, 1001),
    Fraction(60),
    Fraction(100),
    Fraction(120000, 1001),
    Fraction(120),
)

# Container clocks round frame times (a 90 kHz clock cannot hold 1001/24000 s); standard rates
# lie at least 1/1001 apart, so a tenth of that never confuses two of them.
_ROUNDING = Fraction(1, 10_000)


def rate_text(rate: Fraction) -> str:
    """The rate as a fraction, with its denominator even when that is 1."""
    return f"{rate.numerator}/{rate.denominator}"


def parse_rate(text: str) -> Fraction:
    """Reads "30000/1001" or "25".

    Raises:
        ValueError: it is no positive fraction.
    """
    rate = Fraction(text)
    if rate <= 0:
        raise ValueError(f"{text} is no frame rate")
    return rate


def spoken_rate(rate: Fraction) -> str:
    """The rate as people say it: 29.97, 23.976, 25."""
    return f"{float(rate):.3f}".rstrip("0").rstrip(".") if rate.denominator == 1 else f"{float(rate):.5g}"


def nearest_standard(rate: Fraction) -> Fraction:
    """The standard rate that a container's rounded clock stands for, or the rate itself."""
    best = min(STANDARD_RATES, key=lambda standard: abs(standard - rate))
    return best if abs(best - rate) / best < _ROUNDING else rate
