"""Stills: a file for each picture, in a folder of their own, numbered as in the recording."""

from __future__ import annotations

from collections.abc import Iterator
from contextlib import contextmanager
from fractions import Fraction
from pathlib import Path
from typing import Any, cast

import av

from diadoche.core.bounded_worker import BoundedWorker
from diadoche.core.coder_threads import use_processors
from diadoche.core.convert.check import Checks, Expected, Finding
from diadoche.core.convert.examine import StillsCheck
from diadoche.core.convert.kept_boxes import Kept
from diadoche.core.convert.plan import Plan
from diadoche.core.convert.sound import SoundTrack
from diadoche.core.convert.targets.film import tag_colours
from diadoche.core.errors import writing
from diadoche.core.run import Sound
from diadoche.core.watch import Watch

_DIGITS = 6


class Stills:
    """A folder of pictures."""

    is_folder = True
    holds_boxes = False

    def __init__(self, plan: Plan, stem: str, expected: Expected) -> None:
        """
        Args:
            plan: how the source becomes pictures.
            stem: what each file's name begins with.
            expected: what is to be in the files; it grows while they are made.
        """
        self._plan = plan
        self._stem = stem
        self._folder = Path()
        self._check = StillsCheck(expected)
        # A file is read again while the next one is coded.
        self._checker = BoundedWorker("reading stills again")
        self._encoder: av.VideoCodecContext | None = None
        self._next = 0
        self.sounds: list[SoundTrack] = []

    @contextmanager
    def writing(self, part: Path) -> Iterator[None]:
        """The folder stands already."""
        self._folder = part
        try:
            with writing(part):
                yield
        finally:
            self._checker.stop()

    def begin(self, first: int, end_s: Fraction | None, *, with_timecode: bool) -> None:
        """Sets the encoder; files are numbered by the recording's pictures, from 0."""
        plan, out = self._plan, self._plan.out
        encoder = cast(av.VideoCodecContext, av.CodecContext.create(plan.recipe.picture.encoder, "w"))
        encoder.width, encoder.height, encoder.pix_fmt = out.width, out.height, plan.pixel_format
        encoder.time_base = 1 / out.rate
        encoder.sample_aspect_ratio = out.pixel_aspect
        encoder.options = dict(plan.variant.options)
        use_processors(encoder)
        tag_colours(encoder, out.color)
        self._encoder, self._next = encoder, first

    def picture(self, frame: av.VideoFrame) -> None:
        """Writes a file."""
        assert self._encoder is not None
        self._write(self._encoder.encode(frame))

    def sound(self, unit: Sound, time_s: Fraction) -> None:
        """There is no place for sound; that was told before the start."""

    def end(self) -> None:
        """Writes the last files."""
        assert self._encoder is not None
        self._write(self._encoder.encode(None))
        self._checker.end()

    def finish(self, part: Path, kept: Kept) -> None:
        """Nothing comes along."""

    def examine(self, part: Path, watch: Watch) -> tuple[Checks, tuple[Finding, ...]]:
        """Each file was decoded when it was written; whether they are all there is asked now."""
        return self._check.verdicts(sorted(part.iterdir()))

    def _write(self, packets: list[av.Packet[Any]]) -> None:
        for packet in packets:
            ending = self._plan.recipe.container.ending
            path = self._folder / f"{self._stem}_{self._next:0{_DIGITS}}.{ending}"
            path.write_bytes(bytes(packet))
            self._checker.give(self._check.take, path)
            self._next += 1
