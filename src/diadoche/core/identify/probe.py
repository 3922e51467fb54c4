"""Facts about a file or about the spans of one clip: headers first, then looking and counting.

What is asked for decides what is read: `headers` touches the ends of a file, `looked` decodes a few
pictures, `counted` reads every packet of streams that carry no index.
"""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field, replace
from datetime import datetime
from fractions import Fraction
from pathlib import Path
from typing import Literal

import av
from av.container import InputContainer
from av.video.stream import VideoStream

from diadoche.core.boxes import TrackHead, movie_payload, track_heads
from diadoche.core.coder_threads import use_processors
from diadoche.core.ebml import picture_heads
from diadoche.core.errors import DiadocheError, MediaError, Problem, reading
from diadoche.core.heif import heif_shape
from diadoche.core.identify.beginning import Beginning, beginning_of
from diadoche.core.identify.container import TRANSPORT, container_of, is_still
from diadoche.core.identify.damage import damage, is_cut_off, missing_index, no_rate
from diadoche.core.identify.facts import Facts, VideoFacts
from diadoche.core.identify.looking import looked_at
from diadoche.core.identify.looks import Seen
from diadoche.core.identify.origin import written_by
from diadoche.core.identify.pictures import raw_segment_facts, tiff_facts
from diadoche.core.identify.span_differences import several_kinds, span_differences
from diadoche.core.identify.sphere import placed
from diadoche.core.identify.telemetry import has_places, track_name
from diadoche.core.identify.tracks import (
    Count,
    audio_facts,
    count_pictures,
    decoder_of,
    joined_seconds,
    picture_streams,
    track_seconds,
    video_facts,
)
from diadoche.core.media import opened
from diadoche.core.names import shown
from diadoche.core.orientation import AS_RECORDED, Orientation
from diadoche.core.sampletable import SampleTable, picture_table
from diadoche.core.spatial import SphereHead

Depth = Literal["headers", "looked", "counted"]

_TRUSTED_FORMATS = {"flv", "asf", "ogg", "mp3", "aac", "flac", "dv", "mpegvideo", "h264", "hevc", "gxf", "ivf", "nut"}
_MATROSKA = {"Matroska", "WebM"}
_TEXT_ENDINGS = {".SRT", ".TXT", ".XML", ".CSV", ".JSON", ".MHL", ".MD", ""}
_SUBTITLE_BYTES = 65536
# Where containers keep the moment of recording; MXF has only that of its own last change.
_DATES = ("com.apple.quicktime.creationdate", "creation_time", "date", "modification_date")


def identify(paths: Sequence[Path], depth: Depth = "counted") -> Facts:
    """What a file is, or what the spans of one clip are together. Never raises for bad media.

    Raises:
        SourceUnreadable: the file cannot be read at all.
    """
    path = paths[0]
    with reading(path):
        size = sum(each.stat().st_size for each in paths)
        container = container_of(path)
        bare = Facts(str(path), container, 0.0, None, None, size)
        if container == "empty":
            return _with(bare, f"{shown(path.name)} is empty.", path, "Look for the clip on the camera.")
        if container in {"text", "SubRip"}:
            return _text_file(bare, path)
        try:
            if container in {"DNG", "TIFF"}:
                return tiff_facts(bare, paths, every=depth == "counted")
            if container == "R3D":
                return raw_segment_facts(bare, paths)
            if len(paths) > 1 and is_still(container):
                return _picture_run(_opened_facts(bare, paths[:1], depth), len(paths))
            if len(paths) > 1 and container not in TRANSPORT:
                return _together(bare, [identify([each], depth) for each in paths])
            facts = _opened_facts(bare, paths, depth)
            return _main_picture(facts, path) if container == "HEIF" else facts
        except MediaError as error:
            problem = missing_index(path) if container in {"MP4", "MOV"} else None
            return replace(bare, problems=(problem or error.problem,))


def with_sounds(facts: Facts, sounds: Sequence[Path]) -> Facts:
    """The facts of a clip whose picture's file is mute, with the tracks of the sound files beside it.

    Raises:
        SourceUnreadable: a sound file cannot be read at all.
    """
    if facts.audio or not facts.video:
        return facts
    tracks = tuple(identify([sound], "headers").audio[0] for sound in with_tracks(sounds))
    return replace(facts, audio=tracks, sound_apart=bool(tracks))


def with_tracks(sounds: Sequence[Path]) -> tuple[Path, ...]:
    """Those of some sound files that hold sound.

    Raises:
        SourceUnreadable: one cannot be read at all.
    """
    return tuple(sound for sound in sounds if identify([sound], "headers").audio)


def _opened_facts(bare: Facts, paths: Sequence[Path], depth: Depth) -> Facts:
    with opened(paths) as media:
        if bare.container == "unknown":
            bare = replace(bare, container=_known_otherwise(media, paths[0]))
        return _probe(bare, paths, media, depth)


def _main_picture(facts: Facts, path: Path) -> Facts:
    """Facts of a HEIF picture as a whole: to a film's reader, each of its tiles is a track."""
    shape = heif_shape(path)
    if shape is None or not facts.video:
        return facts
    whole = replace(facts.video[0], width=shape.width, height=shape.height, bit_depth=shape.bit_depth)
    return replace(facts, video=(whole,), projection="flat")


def _together(bare: Facts, spans: Sequence[Facts]) -> Facts:
    """Facts of spans that each have an index of their own: the first one's, and the sums."""
    first = spans[0]
    frames = [span.frames for span in spans]
    differing = span_differences(spans)
    return replace(
        first,
        size_bytes=bare.size_bytes,
        duration_s=sum(span.duration_s for span in spans),
        frames=sum(each or 0 for each in frames) if all(frames) else None,
        problems=(*(problem for span in spans for problem in span.problems), *differing),
        span_differences=tuple(problem.what for problem in differing),
    )


def _picture_run(first: Facts, count: int) -> Facts:
    """Facts of a numbered run of stills. How fast they are to be shown, nothing in them says."""
    video = tuple(replace(each, frame_rate=Fraction(25), frame_rate_told=False) for each in first.video[:1])
    problems = tuple(each for each in first.problems if "frame rate" not in each.what)
    return replace(first, frames=count, duration_s=count / 25, video=video, problems=problems)


def _known_otherwise(media: InputContainer, path: Path) -> str:
    """The library's own name for a container with a mark of its own; its wild guesses are refused."""
    if media.format.name in _TRUSTED_FORMATS:
        return media.format.name
    raise MediaError(
        f"{shown(path.name)} is no video, sound or picture that is known here.",
        path=path,
        safe="It is copied and proven like every other file.",
        do="Nothing needs doing if it is one of the card's own housekeeping files.",
    )


def _with(facts: Facts, what: str, path: Path, do: str) -> Facts:
    problem = Problem(what, str(path), "The file itself is untouched.", do)
    return replace(facts, problems=(*facts.problems, problem))


def _text_file(facts: Facts, path: Path) -> Facts:
    if path.suffix.upper() in _TEXT_ENDINGS:
        return replace(facts, data=(_text_name(facts.container, path),))
    return _with(
        facts, f"{shown(path.name)} is no video: it holds plain text.", path, "Find out who gave it that ending."
    )


def _text_name(container: str, path: Path) -> str:
    if container != "SubRip":
        return container
    return "subtitle telemetry" if has_places(path.read_text("utf-8", "replace")[:_SUBTITLE_BYTES]) else "SubRip"


def _probe(bare: Facts, paths: Sequence[Path], media: InputContainer, depth: Depth) -> Facts:
    pictures = picture_streams(media)
    # A codec that nothing here knows has no decoder to set up.
    decoder = decoder_of(pictures[0]) if pictures and depth != "headers" else None
    if decoder is not None:
        # Before the first packet is read.
        use_processors(decoder)
    still = is_still(bare.container)
    # A still is its own whole: there is nothing to count and nothing that moves.
    depth = "headers" if still else depth
    # Whoever only looks goes to places within the file in any case; who counts begins with its first packet.
    beginning = beginning_of(bare.container, paths, media, untouched=depth != "counted")
    heads = _heads(bare.container, paths[0], media)
    problems = damage(paths, bare.container, media)
    # A table tells of pictures that a file which was cut off has lost: only what is read counts then.
    table = heads.table if not is_cut_off(paths[0], bare.container) else None
    count = count_pictures(media, pictures[0], table) if depth == "counted" and pictures else None
    video = tuple(
        video_facts(
            stream,
            heads.by_stream.get(stream.index),
            beginning.packs,
            count if place == 0 else None,
            heads.orientations.get(stream.index, AS_RECORDED),
        )
        for place, stream in enumerate(pictures)
    )
    if video and heads.timecode_rate is not None:
        video = (replace(video[0], timecode_rate=heads.timecode_rate), *video[1:])
    facts = replace(
        bare,
        duration_s=0.0 if still else _duration(media, video, count),
        frames=count.pictures if count is not None else (pictures[0].frames or None if pictures else None),
        start=_start(media, beginning),
        video=video,
        audio=tuple(audio_facts(stream) for stream in media.streams.audio),
        data=_data_tracks(paths, media, heads.tracks),
        problems=problems,
    )
    facts = _with_writer(facts, media, beginning)
    if several := several_kinds(paths[0], heads.tracks):
        told = tuple(problem.what for problem in several)
        facts = replace(facts, problems=(*facts.problems, *several), span_differences=told)
    if video and not still and (problem := no_rate(paths[0], video[0])) is not None:
        facts = replace(facts, problems=(*facts.problems, problem))
    seen = Seen()
    if depth != "headers" and video and video[0].decodable:
        facts = looked_at(facts, paths, media, seen)
    return placed(facts, heads.sphere(pictures), seen.lens_circles, seen.laid_out)


@dataclass(frozen=True, slots=True)
class _Heads:
    """What was read by hand: all tracks of ISO base media, and the picture tracks by the number of their stream."""

    tracks: Sequence[TrackHead] = ()
    by_stream: Mapping[int, TrackHead] = field(default_factory=dict)
    spheres: Mapping[int, SphereHead] = field(default_factory=dict)
    orientations: Mapping[int, Orientation] = field(default_factory=dict)
    table: SampleTable | None = None

    @property
    def timecode_rate(self) -> Fraction | None:
        """At what rate the timecode track counts, where there is one."""
        return next((head.timecode_rate for head in self.tracks if head.timecode_rate is not None), None)

    def sphere(self, pictures: Sequence[VideoStream]) -> SphereHead:
        return self.spheres.get(pictures[0].index, SphereHead()) if pictures else SphereHead()


def _heads(container: str, path: Path, media: InputContainer) -> _Heads:
    numbers = [stream.index for stream in media.streams.video]
    if container in _MATROSKA:
        told = dict(zip(numbers, picture_heads(path), strict=False))
        return _Heads(
            spheres={number: head.sphere for number, head in told.items()},
            orientations={number: head.orientation for number, head in told.items()},
        )
    movie = movie_payload(path) if container in {"MP4", "MOV"} else None
    if movie is None:
        return _Heads()
    tracks = track_heads(movie)
    by_stream = dict(zip(numbers, (head for head in tracks if head.handler == "vide"), strict=False))
    spheres = {number: head.sphere for number, head in by_stream.items()}
    orientations = {number: head.orientation for number, head in by_stream.items()}
    return _Heads(tracks, by_stream, spheres, orientations, picture_table(movie))


def _with_writer(facts: Facts, media: InputContainer, beginning: Beginning) -> Facts:
    """The facts with what is written about the camera, or the program that converted it."""
    carriers = [media.metadata, *(stream.metadata for stream in (*picture_streams(media), *media.streams.data))]
    written = written_by(carriers, beginning.data, camera_packs=beginning.moment is not None)
    return replace(
        facts, camera=written.camera, origin=written.origin, origin_reason=written.reason, serial=written.serial
    )


def _data_tracks(paths: Sequence[Path], media: InputContainer, heads: Sequence[TrackHead]) -> tuple[str, ...]:
    """What the tracks beside picture and sound are; subtitles that tell places are telemetry."""
    if heads:
        names = [track_name(head) for head in heads if head.handler not in {"vide", "soun", "hint", "alis"}]
    else:
        names = [_data_track(stream) for stream in media.streams if stream.type in {"data", "subtitle"}]
        names += ["attachments"] if any(stream.type == "attachment" for stream in media.streams) else []
        names += ["chapters"] if media.chapters() else []
    if "subtitles" in names and _subtitles_tell_places(paths[:1]):
        names[names.index("subtitles")] = "subtitle telemetry"
    return tuple(names)


def _data_track(stream: av.stream.Stream) -> str:
    if stream.type == "subtitle":
        return "subtitles"
    if stream.metadata.get("timecode"):
        return "timecode"
    context = getattr(stream, "codec_context", None)
    return context.name if context is not None else stream.metadata.get("handler_name") or stream.type


def _subtitles_tell_places(paths: Sequence[Path]) -> bool:
    try:
        with opened(paths) as media:
            packets = media.demux(media.streams.subtitles[0])
            first = next((bytes(packet) for packet in packets if packet.size > 2), b"")
            return has_places(first.decode("utf-8", "replace"))
    except (av.error.FFmpegError, DiadocheError, IndexError):
        return False


def _duration(media: InputContainer, video: tuple[VideoFacts, ...], count: Count | None) -> float:
    if seconds := joined_seconds(count, video):
        return seconds
    tracks = (*picture_streams(media), *media.streams.audio)
    return next((seconds for stream in tracks if (seconds := track_seconds(stream))), (media.duration or 0) / 1_000_000)


def _start(media: InputContainer, beginning: Beginning) -> datetime | None:
    if beginning.moment is not None:
        return beginning.moment
    for carrier in (media, *media.streams):
        for key in _DATES:
            try:
                moment = datetime.fromisoformat(carrier.metadata.get(key, ""))
            except ValueError:
                continue
            # Cameras that never had their clock set write the epoch of the container.
            return moment if moment.year > 1970 else None
    return None
