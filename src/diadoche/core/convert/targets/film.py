"""A film: pictures and sound in one file."""

from __future__ import annotations

import os
from collections.abc import Iterator
from contextlib import contextmanager, suppress
from fractions import Fraction
from pathlib import Path
from typing import Any

import av
from av.container import OutputContainer
from av.video.stream import VideoStream

from diadoche.core.coder_threads import use_processors
from diadoche.core.colortags import MATRICES, PRIMARIES, RANGES, TRANSFERS, UNSPECIFIED, code_of
from diadoche.core.convert.check import Checks, Expected, Finding
from diadoche.core.convert.dates import write_dates
from diadoche.core.convert.examine import examine
from diadoche.core.convert.kept_boxes import Kept, write_kept
from diadoche.core.convert.matroska_shape import write_pixel_aspects
from diadoche.core.convert.new_output import muxing
from diadoche.core.convert.packet_decoder import PacketDecoder
from diadoche.core.convert.picture_check import PictureCheck
from diadoche.core.convert.plan import Plan
from diadoche.core.convert.sound import SoundTrack
from diadoche.core.convert.sound_coding import coding_of
from diadoche.core.convert.sources import Provenance
from diadoche.core.convert.vc3_head import name_matrix
from diadoche.core.errors import writing
from diadoche.core.identify.facts import Color
from diadoche.core.memory import give_back_free_memory
from diadoche.core.orientation import Orientation
from diadoche.core.run import Sound
from diadoche.core.watch import Watch

# The media library's codes; QuickTime's field box is written from them.
_PROGRESSIVE = 1
_FIELD_CODES = {"top": 2, "bottom": 3, None: 2}
_ISO = {"mov", "mp4"}


class Film:
    """One file."""

    is_folder = False

    def __init__(self, plan: Plan, provenance: Provenance, expected: Expected) -> None:
        """
        Args:
            plan: how the source becomes pictures.
            provenance: where they come from.
            expected: what is to be in the film; it grows while it is made.
        """
        self._plan = plan
        self._provenance = provenance
        self._expected = expected
        self._decoder: PacketDecoder | None = None
        self._container: OutputContainer | None = None
        self._stream: VideoStream | None = None
        self.sounds: list[SoundTrack] = []
        # MXF holds sound in the pictures' own units [ST379-2]: what has no picture beside it has no place.
        self._sound_needs_pictures = plan.recipe.container.name == "mxf"
        self._waiting: list[tuple[Sound, Fraction]] = []
        self._pictures = 0

    @property
    def holds_boxes(self) -> bool:
        """Whether it is ISO base media."""
        return self._plan.recipe.container.name in _ISO

    @contextmanager
    def writing(self, part: Path) -> Iterator[None]:
        """Opens the file, and closes it."""
        holder = self._plan.recipe.container
        own = {"write_tmcd": "1", **self._provenance.tags.options(holder.name)} if self.holds_boxes else {}
        options = {**own, **holder.options}
        try:
            with muxing(part, holder.name, options) as self._container:
                yield
        finally:
            if self._decoder is not None:
                self._decoder.stop()
            # An encoder of large pictures holds a gigabyte, and what was written is decoded next.
            self._container = self._stream = None
            for sound in self.sounds:
                sound.release()
            give_back_free_memory()

    def begin(self, first: int, end_s: Fraction | None, *, with_timecode: bool) -> None:
        """Adds the tracks and sets their encoders."""
        assert self._container is not None
        plan, out = self._plan, self._plan.out
        options = dict(plan.variant.options)
        stream = self._container.add_stream(plan.recipe.picture.encoder, rate=out.rate, options=options)
        assert isinstance(stream, VideoStream)
        context = stream.codec_context
        context.width, context.height, context.pix_fmt = out.width, out.height, plan.pixel_format
        context.sample_aspect_ratio = out.pixel_aspect
        context.time_base = 1 / out.rate
        use_processors(context)
        tag_colours(context, out.color)
        context.field_order = _FIELD_CODES[out.field_order] if out.interlaced else _PROGRESSIVE
        if "b" in options:
            context.bit_rate = int(options["b"])
        if out.rotation or out.mirrored:
            stream.set_display_matrix(Orientation(out.rotation, out.mirrored).matrix)
        self._stream = stream
        codec = plan.recipe.sound.codec
        if codec != "none":
            self.sounds = [
                SoundTrack(self._container, sound, coding_of(codec, sound), number, aligned=True, end_s=end_s)
                for number, sound in enumerate(plan.sounds)
            ]
        self._provenance.tags.write(self._container, stream, [sound.stream for sound in self.sounds])
        write_dates(self._container, stream, self._provenance.start, out, first=first, with_timecode=with_timecode)

    def picture(self, frame: av.VideoFrame) -> None:
        """Encodes a picture."""
        assert self._stream is not None
        self._mux(self._stream.encode(frame))
        if not self._pictures:
            _take_turns()
        self._pictures += 1
        if self._waiting:
            self._release()

    def sound(self, unit: Sound, time_s: Fraction) -> None:
        """Encodes sound."""
        assert self._container is not None
        if unit.track >= len(self.sounds):
            return
        if self._sound_needs_pictures:
            self._waiting.append((unit, time_s))
            return
        for packet in self.sounds[unit.track].encode(unit.frame, time_s, begins=unit.begins):
            self._container.mux(packet)

    def _release(self, *, everything: bool = False) -> None:
        """Encodes the sound that lies beside the pictures so far."""
        assert self._container is not None
        ends_s = self._pictures / self._plan.out.rate
        waiting, self._waiting = self._waiting, []
        for unit, time_s in waiting:
            if everything or time_s + Fraction(unit.frame.samples, unit.frame.sample_rate) <= ends_s:
                for packet in self.sounds[unit.track].encode(unit.frame, time_s, begins=unit.begins):
                    self._container.mux(packet)
            else:
                self._waiting.append((unit, time_s))

    def end(self) -> None:
        """Flushes all encoders."""
        assert self._stream is not None
        assert self._container is not None
        self._mux(self._stream.encode(None))
        if self._decoder is not None:
            self._decoder.end()
        if self._sound_needs_pictures:
            for sound in self.sounds:
                sound.end_at(self._pictures / self._plan.out.rate)
            self._release(everything=True)
        for sound in self.sounds:
            for packet in sound.fill() if self._sound_needs_pictures else ():
                self._container.mux(packet)
            for packet in sound.flush():
                self._container.mux(packet)

    def finish(self, part: Path, kept: Kept) -> None:
        """Adds tracks and boxes, and what the muxer does not write.

        Raises:
            TargetError: the output cannot be written.
        """
        with writing(part):
            if self.holds_boxes:
                write_kept(part, kept)
            if self._plan.recipe.container.name == "mkv":
                write_pixel_aspects(part, [self._plan.out.pixel_aspect])

    def examine(self, part: Path, watch: Watch) -> tuple[Checks, tuple[Finding, ...]]:
        """Proves that it holds what was decoded while it was made, or decodes it to its end."""
        return examine(part, self._expected, watch, self._decoder)

    def _mux(self, packets: list[av.Packet[Any]]) -> None:
        assert self._container is not None
        assert self._stream is not None
        codec = self._plan.recipe.picture.codec
        for packet in packets:
            if codec == "dnxhd" and not self._plan.out.interlaced:
                name_matrix(packet, self._plan.out.color.matrix)
            if self._decoder is None:
                # Not before: an encoder's head is known when it has opened.
                self._decoder = PacketDecoder(codec, self._stream.codec_context, PictureCheck(self._expected))
            self._decoder.take(packet)
            self._container.mux(packet)


def _take_turns() -> None:
    """Gives up real-time priority, which the AV1 encoder takes for whoever opens it as root.

    It holds for all that is done, and started, from then on: one program that waits by spinning would then keep
    everything else, its own other threads among them, from the processors.
    """
    if os.sched_getscheduler(0) != os.SCHED_OTHER:
        with suppress(OSError):
            os.sched_setscheduler(0, os.SCHED_OTHER, os.sched_param(0))


def tag_colours(context: av.VideoCodecContext, color: Color) -> None:
    """Writes into an encoder's head what its pictures are."""
    context.color_primaries = code_of(PRIMARIES, color.primaries)
    context.color_trc = code_of(TRANSFERS, color.transfer)
    context.colorspace = code_of(MATRICES, color.matrix, otherwise=UNSPECIFIED)
    context.color_range = code_of(RANGES, color.range, otherwise=0)
