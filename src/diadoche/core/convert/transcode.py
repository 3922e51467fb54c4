"""Converting: from a picture source through one encoding pass to a checked output.

Pictures go by their times onto the places of a constant rate, and straight from the source's pixel format to the
encoder's; sound goes sample by sample to its place. What had to be repeated, left out or replaced is written down.
"""

from __future__ import annotations

import time
from collections.abc import Iterator
from dataclasses import dataclass, replace
from fractions import Fraction
from pathlib import Path
from typing import Any

import av
import av.filter
from av.container import OutputContainer
from av.video.stream import VideoStream

from diadoche.core.convert.check import Checks, Expected, ExpectedSound, Finding, examine, map_findings, placed_right
from diadoche.core.convert.dates import write_dates
from diadoche.core.convert.kept_boxes import Kept, is_all_there, write_kept
from diadoche.core.convert.outputs import Output, withheld
from diadoche.core.convert.recipes import Recipe, Variant
from diadoche.core.convert.remarks import guessed_colours, picture_remarks, remark, sound_remarks
from diadoche.core.convert.signature import signature_of
from diadoche.core.convert.sound import PcmTrack
from diadoche.core.convert.source_index import Instants
from diadoche.core.convert.sources import PictureSource
from diadoche.core.convert.stages.levels import Levels
from diadoche.core.convert.stages.timing import ConstantRate, Placed
from diadoche.core.convert.targets import muxing, new_file, output_name
from diadoche.core.convert.vc3_head import name_matrix
from diadoche.core.errors import MediaError, Problem, RequestError, writing
from diadoche.core.identify.facts import Facts, VideoFacts
from diadoche.core.names import shown
from diadoche.core.run import Picture, Sound
from diadoche.core.timecode import Timecode
from diadoche.core.watch import Progress, Share, Watch

# The media library's codes; QuickTime's field box is written from them.
_PROGRESSIVE = 1
_FIELD_CODES = {"top": 2, "bottom": 3, None: 2}


@dataclass(frozen=True, slots=True)
class Marks:
    """A part of a clip: the first picture, and the one after the last."""

    first: int
    end: int

    @classmethod
    def parse(cls, begin: str, end: str, video: VideoFacts) -> Marks:
        """Reads picture numbers, or timecodes of the clip.

        Raises:
            RequestError: they name no part of the clip.
        """
        try:
            marks = cls(_picture_number(begin, video), _picture_number(end, video))
        except ValueError as error:
            raise RequestError(
                f"{begin} to {end} is no part of this clip: {error}.", do="Give numbers or timecodes."
            ) from error
        if not 0 <= marks.first < marks.end:
            raise RequestError(f"{begin} to {end} is no part of this clip.", do="The out mark comes after the in mark.")
        return marks


def _picture_number(text: str, video: VideoFacts) -> int:
    if text.isdigit():
        return int(text)
    return video.labels.picture_of(text) if video.labels is not None else Timecode.parse(text, video.frame_rate).frame


def convert(
    source: PictureSource, recipe: Recipe, folder: Path, watch: Watch, *, camera: str = "", marks: Marks | None = None
) -> Output:
    """Encodes a source by a recipe, checks the result, and delivers it only when it is right.

    Raises:
        RequestError: the recipe cannot hold the source, or the folder is the originals' own.
        MediaError: the source cannot be decoded.
        TargetError: the output cannot be written.
        Cancelled: nothing is left behind.
    """
    facts = source.facts
    if not facts.video or not facts.video[0].decodable:
        raise MediaError(
            f"{shown(Path(facts.path).name)} has no picture that can be decoded.",
            path=facts.path,
            safe="It is untouched.",
            do="Keep the original; it can be converted where its codec is known.",
        )
    video = facts.video[0]
    variant = recipe.variant_for(video)
    began_s = time.monotonic()
    estimate = recipe.estimated_bytes(facts)
    sources = tuple(str(path) for path in source.originals)
    name = output_name(camera, facts.start, source.originals[0].stem, recipe.ending)
    if marks is not None:
        name = name.replace(f".{recipe.ending}", f"_{marks.first}-{marks.end}.{recipe.ending}")
    losses = tuple(_loss(loss, name) for loss in recipe.losses(video))
    with new_file(folder, name, estimate if marks is None else 0, source.originals) as made:
        job = _Encoding(source, recipe, variant, marks, Share(watch, 0, 0.8))
        with muxing(made.part, recipe.container, {"write_tmcd": "1"}) as target:
            job.run(target)
        job.finish(made.part)
        checks, findings = job.check(made.part, Share(watch, 0.8, 1))
        size = made.part.stat().st_size
        made.withheld = not checks.passed
    passed = tuple(job.problems(name)) if checks.passed else (withheld(name, checks.failures(), findings),)
    return Output(
        sources,
        str(made.final) if checks.passed else "",
        recipe.name,
        job.decoded,
        job.pictures if checks.passed else 0,
        checks,
        None,
        None,
        size if checks.passed else 0,
        estimate,
        time.monotonic() - began_s,
        (*losses, *passed),
        findings,
    )


def _loss(what: str, name: str) -> Problem:
    return Problem(what, name, "The original keeps everything.", "Choose a recipe that holds more if that matters.")


class _Encoding:
    """One encoding pass, and what is known of it afterwards."""

    def __init__(
        self, source: PictureSource, recipe: Recipe, variant: Variant, marks: Marks | None, watch: Watch
    ) -> None:
        self._source = source
        self._facts: Facts = source.facts
        self._video = source.facts.video[0]
        self._recipe = recipe
        self._variant = variant
        self._marks = marks
        self._watch = watch
        self._rate = self._video.frame_rate
        self._levels = Levels.between(
            self._video, variant.pixel_format, holds_full_range=recipe.holds_full_range, matrices=recipe.matrices
        )
        self._timing = ConstantRate(self._rate, *((marks.first, marks.end) if marks else (0, None)))
        self._graph: av.filter.Graph | None = None
        self._shape: tuple[int, int, str] | None = None
        self._expected = Expected(self._rate)
        self._sounds: list[PcmTrack] = []
        self._waiting: list[Sound] = []
        self._more_tracks: set[int] = set()
        self._kept = Kept()
        self.decoded = 0

    @property
    def pictures(self) -> int:
        """How many went to the encoder."""
        return len(self._expected.signatures)

    def run(self, target: OutputContainer) -> None:
        """Encodes everything and flushes.

        Raises:
            MediaError: the source changes its size, or nothing of it decodes.
        """
        marks, ends_s = self._marks, Fraction(0)
        stream: VideoStream | None = None
        begin_s, end_s = (marks.first / self._rate, marks.end / self._rate) if marks else (Fraction(0), None)
        for unit in self._source.units(begin_s, end_s):
            if isinstance(unit, Sound):
                self._take_sound(target, unit)
                continue
            for placed in self._timing.push(unit):
                if stream is None:
                    stream = self._begin(target)
                self._encode(target, stream, placed)
            if stream is not None and self._waiting:
                self._release(target)
            if isinstance(unit, Picture):
                ends_s = max(ends_s, unit.time_s + unit.length_s)
        if stream is not None and self._video.frame_rate_mode == "variable":
            for placed in self._timing.flush(ends_s):
                self._encode(target, stream, placed)
        if stream is None:
            raise self._nothing()
        self._mux(target, stream.encode(None))
        for sound in self._sounds:
            for packet in sound.flush():
                target.mux(packet)
            self._expected.sounds.append(ExpectedSound(sound.digest.value(), sound.first or 0, sound.rate))

    # -- sound ---------------------------------------------------------------------------------

    def _take_sound(self, target: OutputContainer, unit: Sound) -> None:
        """Sound waits until it is known with which picture the output begins."""
        if unit.track >= len(self._facts.audio):
            self._more_tracks.add(unit.track)
            return
        if self._timing.begins is None:
            self._waiting.append(unit)
            return
        time_s = unit.time_s - self._timing.begins / self._rate
        for packet in self._sounds[unit.track].encode(unit.frame, time_s, begins=unit.begins):
            target.mux(packet)

    def _release(self, target: OutputContainer) -> None:
        waiting, self._waiting = self._waiting, []
        for unit in waiting:
            self._take_sound(target, unit)

    # -- pictures ------------------------------------------------------------------------------

    def _begin(self, target: OutputContainer) -> VideoStream:
        stream = target.add_stream(self._recipe.encoder, rate=self._rate, options=dict(self._variant.options))
        assert isinstance(stream, VideoStream)
        context = stream.codec_context
        context.width, context.height = self._video.width, self._video.height
        context.pix_fmt = self._variant.pixel_format
        context.sample_aspect_ratio = self._video.pixel_aspect
        context.time_base = 1 / self._rate
        context.thread_type = "AUTO"
        self._levels.tag(context)
        context.field_order = _FIELD_CODES[self._video.field_order] if self._video.interlaced else _PROGRESSIVE
        if "b" in self._variant.options:
            context.bit_rate = int(self._variant.options["b"])
        if self._video.rotation:
            stream.set_display_rotation(-self._video.rotation)
        end_s = (self._marks.end - (self._timing.begins or 0)) / self._rate if self._marks else None
        self._sounds = [
            PcmTrack(target, track, number, aligned=True, end_s=end_s) for number, track in enumerate(self._facts.audio)
        ]
        # A part, or what begins later than its source, would be out of step with tracks that are taken as they are.
        if self._marks is None and not self._timing.begins:
            self._kept = self._source.kept()
        write_dates(
            target, stream, self._facts, first=self._timing.begins or 0, with_timecode=not self._kept.has_timecode
        )
        return stream

    def finish(self, part: Path) -> None:
        """Adds the tracks and boxes that come along as they are.

        Raises:
            TargetError: the output cannot be written.
        """
        if self._kept.tracks or self._kept.entry_boxes or self._kept.sphere:
            self._kept = self._source.kept()
            with writing(part):
                write_kept(part, self._kept)

    def _encode(self, target: OutputContainer, stream: VideoStream, placed: Placed) -> None:
        marks = self._marks
        total = marks.end - marks.first if marks else (self._facts.frames or self.pictures + 1)
        self._watch.step(Progress(min(self.pictures + 1, total), total, "converting"))
        self.decoded += not placed.again
        for frame in self._leveled(placed):
            self._expected.signatures.append(signature_of(frame))
            self._mux(target, stream.encode(frame))

    def _leveled(self, placed: Placed) -> Iterator[av.VideoFrame]:
        frame = placed.frame
        shape = (frame.width, frame.height, frame.format.name)
        if self._graph is None:
            self._graph, self._shape = self._levels.graph(frame, self._rate), shape
        elif shape != self._shape:
            raise self._changed(frame, placed.number)
        frame.pts = placed.number
        frame.time_base = 1 / self._rate
        # The decoder's picture type would force the encoder's.
        frame.pict_type = 0
        self._graph.push(frame)
        ready = self._graph.pull()
        assert isinstance(ready, av.VideoFrame)
        yield ready

    def _mux(self, target: OutputContainer, packets: list[av.Packet[Any]]) -> None:
        for packet in packets:
            if self._recipe.codec == "dnxhd" and not self._video.interlaced:
                name_matrix(packet, self._levels.color.matrix)
            target.mux(packet)

    # -- what is known afterwards --------------------------------------------------------------

    def check(self, part: Path, watch: Watch) -> tuple[Checks, tuple[Finding, ...]]:
        """Holds the output against what went in, and against the source's own instants."""
        checks, findings = examine(part, self._expected, watch)
        checks = replace(checks, decodes=checks.decodes and is_all_there(part, self._kept))
        first = self._timing.begins or 0
        instants = self._source.instants()
        wrong = placed_right(self._timing.map, first, self._rate, instants)
        checks = replace(checks, sync=checks.sync and not wrong, frames=checks.frames and self._all_are_there(instants))
        return checks, (*findings, *wrong, *map_findings(self._timing.map, self._rate, first))

    def _all_are_there(self, instants: Instants | None) -> bool:
        """Whether every picture that the source codes is in the output, or is known not to be."""
        if instants is None or self._marks is not None:
            return True
        found = self._timing.map
        known = len(set(found.times_s)) + len(found.left_out_s) + len(found.missing_s)
        # Fields that are coded by themselves have an instant each.
        return known in {len(instants), (len(instants) + 1) // 2}

    def problems(self, name: str) -> Iterator[Problem]:
        """What a person should know of an output that is right."""
        first, is_part = self._timing.begins or 0, self._marks is not None
        if self._levels.guessed and self._video.chroma != "RGB":
            yield guessed_colours(name, self._levels.guessed)
        yield from picture_remarks(name, self._timing.map, first, self._rate, is_part=is_part)
        yield from sound_remarks(name, self._sounds)
        if self._more_tracks:
            yield remark(name, "A later part of the clip has more sound tracks than the first: they are left out.")
        data = self._kept.lost if not is_part and not first else self._facts.data
        left = [each for each in data if each != "timecode"]
        if left:
            yield remark(name, f"{', '.join(left)}: {name} goes without; the original keeps it.")

    def _nothing(self) -> MediaError:
        name = shown(self._source.originals[0].name)
        return MediaError(
            f"No picture of {name} decodes" + (" between these marks." if self._marks else "."),
            path=self._source.originals[0],
            safe="The original is untouched; no output was kept.",
            do="Play it on the camera; if it plays there, copy the card again.",
        )

    def _changed(self, frame: av.VideoFrame, number: int) -> MediaError:
        assert self._shape is not None
        before, now = (f"{width}×{height} {kind}" for width, height, kind in (self._shape, _shape_of(frame)))
        at_s = float(((self._timing.begins or 0) + number) / self._rate)
        return MediaError(
            f"{shown(self._source.originals[0].name)} changes from {before} to {now} at {at_s:.2f} s.",
            path=self._source.originals[0],
            safe="The original is untouched; nothing is scaled unasked, and no output was kept.",
            do="Convert the parts before and after that by marks.",
        )


def _shape_of(frame: av.VideoFrame) -> tuple[int, int, str]:
    return frame.width, frame.height, frame.format.name
