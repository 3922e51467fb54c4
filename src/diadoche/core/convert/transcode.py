"""Converting: from a picture source through one encoding pass to a checked output.

Samples keep their depth: the filter graph goes straight from the source's pixel format to the
encoder's. Chroma of interlaced pictures is resampled by field. Colour tags and range pass through.
"""

from __future__ import annotations

import itertools
import os
import time
from collections.abc import Iterator
from dataclasses import dataclass, replace
from fractions import Fraction
from pathlib import Path

import av
import av.error
import av.filter
from av.container import OutputContainer
from av.video.stream import VideoStream

from diadoche.core.colortags import MATRICES, PRIMARIES, RANGES, TRANSFERS, code_of
from diadoche.core.convert.check import Checks, Decoded, compare, decode_all
from diadoche.core.convert.outputs import Output, withheld
from diadoche.core.convert.recipes import Recipe, Variant
from diadoche.core.convert.rewrap import write_dates
from diadoche.core.convert.sound import PcmTrack
from diadoche.core.convert.sources import Picture, PictureSource
from diadoche.core.convert.targets import muxing, new_file, output_name
from diadoche.core.errors import MediaError, Problem, RequestError
from diadoche.core.identify.facts import Facts, VideoFacts
from diadoche.core.names import shown
from diadoche.core.timecode import Timecode
from diadoche.core.watch import Progress, Share, Watch

_FULL_RANGE = "full"
_SCALE_MATRICES = {
    "BT.709": "bt709",
    "BT.601 (625)": "bt470bg",
    "BT.601 (525)": "smpte170m",
    "SMPTE 240M": "smpte240m",
    "BT.2020": "bt2020nc",
}
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
        with muxing(made.part, recipe.container, {"write_tmcd": "1"}) as target, _decode_errors(source):
            job.run(target)
        wanted = (facts.frames or job.pictures) if marks is None else job.pictures
        checks = _check(made.part, job, video, wanted, watch)
        size = made.part.stat().st_size
        if not checks.passed:
            made.withheld = True
            return Output(
                sources,
                "",
                recipe.name,
                wanted,
                job.pictures,
                checks,
                None,
                None,
                0,
                estimate,
                time.monotonic() - began_s,
                (*losses, withheld(name, checks.failures())),
            )
    return Output(
        sources,
        str(made.final),
        recipe.name,
        wanted,
        job.pictures,
        checks,
        None,
        None,
        size,
        estimate,
        time.monotonic() - began_s,
        losses,
    )


def _loss(what: str, name: str) -> Problem:
    return Problem(what, name, "The original keeps everything.", "Choose a recipe that holds more if that matters.")


class _decode_errors:  # reads as a phrase where it is used
    """Turns a decoder's failure into ours."""

    def __init__(self, source: PictureSource) -> None:
        self._path = source.originals[0]

    def __enter__(self) -> None:
        return None

    def __exit__(self, kind: object, error: BaseException | None, trace: object) -> None:
        if isinstance(error, av.error.InvalidDataError):
            raise MediaError(
                f"{shown(self._path.name)} fails to decode in the middle.",
                path=self._path,
                safe="The original is untouched; no output was kept.",
                do="Play it to the end to see where it is damaged.",
            ) from error


class _Encoding:
    """One encoding pass. `pictures` and `sound_ends` tell afterwards what went in."""

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
        full = self._video.color.range == _FULL_RANGE and recipe.holds_full_range
        self._range = _FULL_RANGE if full else "limited"
        self._graph: tuple[av.filter.Graph, tuple[int, int, str]] | None = None
        self._seen = 0
        self.pictures = 0
        self.heard: dict[int, tuple[Fraction, Fraction]] = {}

    def run(self, target: OutputContainer) -> None:
        """Encodes everything and flushes."""
        stream = self._stream(target)
        sounds = [PcmTrack(target, track, aligned=True) for track in self._facts.audio]
        first_s = Fraction(self._marks.first if self._marks else 0) / self._video.frame_rate
        end_s = self._marks.end / self._video.frame_rate if self._marks else None
        for unit in self._source.units():
            if isinstance(unit, Picture):
                target.mux([packet for frame in self._prepared(unit) for packet in stream.encode(frame)])
                continue
            length_s = Fraction(unit.frame.samples, unit.frame.sample_rate)
            if unit.time_s + length_s <= first_s or (end_s is not None and unit.time_s >= end_s):
                continue
            begin_s = unit.time_s - first_s
            known = self.heard.get(unit.track, (begin_s, begin_s))
            self.heard[unit.track] = (known[0], begin_s + length_s)
            for packet in sounds[unit.track].encode(unit.frame, begin_s):
                target.mux(packet)
        target.mux(stream.encode(None))
        for sound in sounds:
            for packet in sound.flush():
                target.mux(packet)

    def _stream(self, target: OutputContainer) -> VideoStream:
        stream = target.add_stream(
            self._recipe.encoder, rate=self._video.frame_rate, options=dict(self._variant.options)
        )
        assert isinstance(stream, VideoStream)
        context = stream.codec_context
        context.width, context.height = self._video.width, self._video.height
        context.pix_fmt = self._variant.pixel_format
        context.sample_aspect_ratio = self._video.pixel_aspect
        context.time_base = 1 / self._video.frame_rate
        context.thread_type = "AUTO"
        colour = self._video.color
        context.color_primaries = code_of(PRIMARIES, colour.primaries)
        context.color_trc = code_of(TRANSFERS, colour.transfer)
        context.colorspace = code_of(MATRICES, colour.matrix)
        context.color_range = code_of(RANGES, self._range if colour.range in RANGES.values() else "", otherwise=0)
        context.field_order = _FIELD_CODES[self._video.field_order] if self._video.interlaced else _PROGRESSIVE
        if "b" in self._variant.options:
            context.bit_rate = int(self._variant.options["b"])
        if self._video.rotation:
            stream.set_display_rotation(-self._video.rotation)
        write_dates(target, stream, self._marked_facts())
        return stream

    def _marked_facts(self) -> Facts:
        """The facts, with the timecode of the first picture that is taken."""
        if self._marks is None or self._video.labels is None:
            return self._facts
        label = str(self._video.labels.at(self._marks.first))
        return replace(self._facts, video=(replace(self._video, timecode=label), *self._facts.video[1:]))

    def _prepared(self, picture: Picture) -> Iterator[av.VideoFrame]:
        """The picture in the encoder's pixel format, numbered by its place in time."""
        place = round(picture.time_s * self._video.frame_rate)
        number, self._seen = max(self._seen, place), max(self._seen, place) + 1
        first = self._marks.first if self._marks else 0
        if number < first or (self._marks and number >= self._marks.end):
            self._watch.check()
            return
        self.pictures += 1
        total = (self._marks.end - self._marks.first) if self._marks else (self._facts.frames or self.pictures)
        self._watch.step(Progress(min(self.pictures, total), total, "converting"))
        graph = self._graph_for(picture.frame)
        picture.frame.pts = number - first
        picture.frame.time_base = 1 / self._video.frame_rate
        # The decoder's picture type would force the encoder's.
        picture.frame.pict_type = 0
        graph.push(picture.frame)
        ready = graph.pull()
        assert isinstance(ready, av.VideoFrame)
        yield ready

    def _graph_for(self, frame: av.VideoFrame) -> av.filter.Graph:
        shape = (frame.width, frame.height, frame.format.name)
        if self._graph is None or self._graph[1] != shape:
            self._graph = (self._new_graph(frame), shape)
        return self._graph[0]

    def _new_graph(self, frame: av.VideoFrame) -> av.filter.Graph:
        graph = av.filter.Graph()
        graph.threads = os.cpu_count() or 1
        interlaced = self._video.interlaced
        chain = [
            graph.add_buffer(
                template=None,
                width=frame.width,
                height=frame.height,
                format=frame.format,
                time_base=1 / self._video.frame_rate,
            )
        ]
        order = {"top": "tff", "bottom": "bff"}.get(self._video.field_order or "top", "tff")
        chain.append(graph.add("setfield", order if interlaced else "prog"))
        if frame.format.name != self._variant.pixel_format:
            name = "full" if self._video.color.range == _FULL_RANGE else "limited"
            # The same matrix on both sides: only depth and chroma change, never a colour's coordinates.
            matrix = _SCALE_MATRICES.get(self._video.color.matrix, "bt709")
            chain.append(
                graph.add(
                    "scale",
                    f"flags=bicubic+accurate_rnd:interl={int(interlaced)}:in_range={name}:out_range={self._range}"
                    f":in_color_matrix={matrix}:out_color_matrix={matrix}",
                )
            )
            chain.append(graph.add("format", self._variant.pixel_format))
        chain.append(graph.add("buffersink"))
        for before, after in itertools.pairwise(chain):
            before.link_to(after)
        graph.configure()
        return graph


def _check(part: Path, job: _Encoding, video: VideoFacts, wanted: int, watch: Watch) -> Checks:
    output = decode_all([part], Share(watch, 0.8, 1), max(1, wanted), "checking the output", with_digest=False)
    source = Decoded(job.pictures, "", job.pictures / video.frame_rate, [job.heard[key] for key in sorted(job.heard)])
    return compare(source, output, video.frame_rate, frames_wanted=wanted)
