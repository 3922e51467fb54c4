"""What a stage is: pictures go in one by one, and what they become comes out, in order."""

from __future__ import annotations

from collections.abc import Iterator
from typing import Protocol, TypeVar

from diadoche.core.convert.formats import PictureFormat
from diadoche.core.run import Missing, Picture

Out = TypeVar("Out", covariant=True)


class Stage(Protocol[Out]):
    """One step between a source and an encoder.

    Formats are chained before the first picture, so that what is lost, how an encoder is set and how large an output
    becomes follow from the last of them.
    """

    def format_out(self, format_in: PictureFormat) -> PictureFormat:
        """What comes out, for what goes in."""

    def push(self, unit: Picture | Missing) -> Iterator[Out]:
        """What the next picture, or its absence, settles."""

    def flush(self) -> Iterator[Out]:
        """What is still held at the end."""
