"""Facts about a file or about the spans of one clip: headers first, then looking and counting.

What is asked for decides what is read: `headers` touches the ends of a file, `looked` decodes a few
pictures, `counted` reads every packet of streams that carry no index.
"""

from __future__ import annotations

import statistics
from collections.abc import Iterator, Sequence
from dataclasses import dataclass, field, replace
from datetime import datetime
from fractions import Fraction
from pathlib import Path
from typing import Literal

import av
import numpy as np
from av.audio.stream import AudioStream
from av.container import InputContainer
from av.video.stream import VideoStream

from diadoche.core import boxes
from diadoche.core.colortags import MATRICES, PRIMARIES, RANGES, TRANSFERS, name_of
from diadoche.core.diskfiles import unseen_file
from diadoche.core.errors import DiadocheError, MediaError, Problem, reading
from diadoche.core.identify.container import container_of, is_still
from diadoche.core.identify.facts import AudioFacts, Color, Facts, FieldOrder, Scan, VideoFacts
from diadoche.core.identify.packs import RecordingPacks, recording_packs
from diadoche.core.identify.scan import Luma, ScanVerdict, judge
from diadoche.core.media import opened
from diadoche.core.names import shown
from diadoche.core.rates import nearest_standard

Depth = Literal["headers", "looked", "counted"]

_FLAGGED: dict[int, tuple[Scan, FieldOrder | None]] = {
    1: ("progressive", None),
    2: ("interlaced", "top"),
    3: ("interlaced", "bottom"),
    4: ("interlaced", "top"),
    5: ("interlaced", "bottom"),
}
_ALWAYS_INTRA = {"prores", "dnxhd", "mjpeg", "cfhd", "dvvideo", "ffv1", "rawvideo", "v210", "png", "tiff", "dng"}
_TRUSTED_FORMATS = {"flv", "asf", "ogg", "mp3", "aac", "flac", "dv", "mpegvideo", "h264", "hevc", "gxf", "ivf", "nut"}
_LOOKS_AT = (Fraction(1, 10), Fraction(1, 2), Fraction(9, 10))
_PICTURES_A_LOOK = 7
_PACKS_WITHIN = 30


@dataclass(slots=True)
class _Count:
    """What reading every packet of the picture told."""

    packets: int = 0
    keys: int = 0
    stamps: list[int] = field(default_factory=list)


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
        with opened(paths) as media:
            if container == "unknown":
                bare = replace(bare, container=_known_otherwise(media, path))
            return _probe(bare, paths, media, depth)
    except MediaError as error:
        problem = _missing_index(path) if container in {"MP4", "MOV"} else None
        return replace(bare, problems=(problem or error.problem,))


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
    if path.suffix.upper() in {".SRT", ".TXT", ".XML", ".CSV", ".JSON", ".MHL", ".MD", ""}:
        return replace(facts, data=(facts.container,))
    return _with(
        facts, f"{shown(path.name)} is no video: it holds plain text.", path, "Find out who gave it that ending."
    )


def _missing_index(path: Path) -> Problem | None:
    if boxes.movie_payload(path) is not None:
        return None
    return Problem(
        f"{shown(path.name)} was cut off before its index was written; no program can open it as it is.",
        str(path),
        "Its picture data is kept as it is.",
        "Put the card back into the camera: many repair such a clip when switched on. Then offload again.",
    )


def _probe(bare: Facts, paths: Sequence[Path], media: InputContainer, depth: Depth) -> Facts:
    packs = _packs(media) if bare.container in {"M2TS", "MPEG-TS"} else None
    # A still is its own whole: there is nothing to count and nothing that moves.
    depth = "headers" if is_still(bare.container) else depth
    count = _count(media) if depth == "counted" and media.streams.video else None
    heads = _track_heads(paths[0]) if bare.container in {"MP4", "MOV"} else []
    video = tuple(
        _video(stream, heads[place] if place < len(heads) else None, packs, count if place == 0 else None)
        for place, stream in enumerate(media.streams.video)
    )
    facts = replace(
        bare,
        duration_s=_duration(media, video, count),
        frames=_frames(media, video, count),
        start=_start(media, packs),
        video=video,
        audio=tuple(_audio(stream) for stream in media.streams.audio),
        data=tuple(_data_track(stream) for stream in media.streams if stream.type in {"data", "subtitle"}),
        projection=heads[0].projection if heads else "flat",
        stereo=heads[0].stereo if heads else "mono",
        problems=_damage(paths, bare.container, media),
    )
    if depth == "headers" or not video or not video[0].decodable:
        return facts
    verdict = _look(paths, float(facts.duration_s))
    return replace(facts, video=(_seen(video[0], verdict), *video[1:]))


def _track_heads(path: Path) -> list[boxes.TrackHead]:
    movie = boxes.movie_payload(path)
    return boxes.video_tracks(movie) if movie is not None else []


def _packs(media: InputContainer) -> RecordingPacks | None:
    if not media.streams.video:
        return None
    found = None
    for number, packet in enumerate(media.demux(media.streams.video[0])):
        found = recording_packs(bytes(packet)) if packet.size else None
        if found is not None or number > _PACKS_WITHIN:
            break
    media.seek(0)
    return found


def _count(media: InputContainer) -> _Count | None:
    """Counts packets; where the file has an index, that is read instead of the packets."""
    stream = media.streams.video[0]
    count = _Count()
    if stream.frames and len(stream.index_entries) == stream.frames:
        for entry in stream.index_entries:
            count.packets += 1
            count.keys += entry.is_keyframe
            count.stamps.append(entry.timestamp)
        return count
    try:
        for packet in media.demux(stream):
            if packet.size and packet.pts is not None:
                count.packets += 1
                count.keys += packet.is_keyframe
                count.stamps.append(packet.pts)
    except av.error.FFmpegError:
        # What follows a damaged place cannot be counted; the damage is named by looking at the file.
        pass
    count.stamps.sort()
    return count


def _rate(stream: VideoStream, count: _Count | None) -> tuple[Fraction, Literal["constant", "variable"]]:
    told = stream.average_rate or stream.guessed_rate or Fraction(25)
    if count is None or len(count.stamps) < 3 or stream.time_base is None:
        return nearest_standard(Fraction(told)), "constant"
    steps = [later - earlier for earlier, later in zip(count.stamps, count.stamps[1:], strict=False)]
    usual = statistics.median(steps)
    # Clocks round to whole ticks, so neighbours may differ by one tick either way.
    if usual > 0 and max(steps) - min(steps) <= 2 and not stream.frames:
        measured = len(steps) / (Fraction(count.stamps[-1] - count.stamps[0]) * stream.time_base)
        # A coarse clock blurs what was measured; what the header tells is exact, unless it tells something else.
        agrees = abs(measured - told) < told / 100
        return nearest_standard(Fraction(told) if agrees else measured), "constant"
    uneven = sum(abs(step - usual) > max(2, usual // 50) for step in steps)
    mode: Literal["constant", "variable"] = "variable" if uneven > max(1, len(steps) // 100) else "constant"
    return nearest_standard(Fraction(told)), mode


def _video(
    stream: VideoStream, head: boxes.TrackHead | None, packs: RecordingPacks | None, count: _Count | None
) -> VideoFacts:
    context = stream.codec_context
    rate, mode = _rate(stream, count)
    pixels = context.format
    flagged, order = _FLAGGED.get(int(context.field_order), ("undecided", None))
    name = context.codec.canonical_name
    return VideoFacts(
        codec=name,
        profile=str(stream.profile or ""),
        width=context.width,
        height=context.height,
        pixel_aspect=Fraction(stream.sample_aspect_ratio or 1),
        rotation=head.rotation_deg if head else 0,
        frame_rate=rate,
        frame_rate_mode=mode,
        scan="undecided",
        scan_flagged=flagged,
        field_order=order,
        bit_depth=pixels.components[0].bits if pixels else 0,
        chroma=_chroma(pixels),
        intra_only=name in _ALWAYS_INTRA or (count is not None and count.packets > 1 and count.keys == count.packets),
        bit_rate=int(context.bit_rate or 0),
        color=Color(
            name_of(PRIMARIES, int(context.color_primaries)),
            name_of(TRANSFERS, int(context.color_trc)),
            name_of(MATRICES, int(context.colorspace)),
            name_of(RANGES, int(context.color_range)),
        ),
        timecode=_timecode(stream, packs),
        decodable=pixels is not None,
    )


def _chroma(pixels: av.VideoFormat | None) -> str:
    if pixels is None:
        return "unknown"
    if pixels.is_rgb:
        return "RGB"
    if len(pixels.components) < 3:
        return "4:0:0"
    wide, high = pixels.chroma_width(8), pixels.chroma_height(8)
    return {(4, 4): "4:2:0", (4, 8): "4:2:2", (8, 8): "4:4:4", (2, 8): "4:1:1", (8, 4): "4:4:0"}.get(
        (wide, high), "unknown"
    )


def _timecode(stream: VideoStream, packs: RecordingPacks | None) -> str | None:
    if packs is not None and packs.timecode:
        return packs.timecode
    media = stream.container
    carriers = [stream.metadata, *(track.metadata for track in media.streams.data), media.metadata]
    return next((carrier["timecode"] for carrier in carriers if "timecode" in carrier), None)


def _audio(stream: AudioStream) -> AudioFacts:
    context = stream.codec_context
    name = context.codec.canonical_name
    depth = None
    if name.startswith("pcm_") and context.format is not None:
        digits = "".join(filter(str.isdigit, name.partition("pcm_")[2]))
        depth = int(digits) if digits else context.format.bits
    return AudioFacts(name, context.channels, context.layout.name, context.sample_rate, depth, bool(context.format))


def _data_track(stream: av.stream.Stream) -> str:
    if stream.type == "data" and stream.metadata.get("timecode"):
        return "timecode"
    context = getattr(stream, "codec_context", None)
    return context.name if context is not None else stream.metadata.get("handler_name") or stream.type


def _duration(media: InputContainer, video: tuple[VideoFacts, ...], count: _Count | None) -> float:
    if count is not None and count.packets and video:
        return float(count.packets / video[0].frame_rate)
    for stream in (*media.streams.video, *media.streams.audio):
        if stream.duration and stream.time_base:
            return float(stream.duration * stream.time_base)
    return (media.duration or 0) / 1_000_000


def _frames(media: InputContainer, video: tuple[VideoFacts, ...], count: _Count | None) -> int | None:
    if count is not None:
        return count.packets
    return media.streams.video[0].frames or None if video else None


def _start(media: InputContainer, packs: RecordingPacks | None) -> datetime | None:
    if packs is not None and packs.moment is not None:
        return packs.moment
    for carrier in (media, *media.streams):
        text = carrier.metadata.get("creation_time")
        if text:
            try:
                moment = datetime.fromisoformat(text)
            except ValueError:
                continue
            # Cameras that never had their clock set write the epoch of the container.
            return moment if moment.year > 1970 else None
    return None


def _damage(paths: Sequence[Path], container: str, media: InputContainer) -> tuple[Problem, ...]:
    problems = []
    for path in paths:
        if container in {"MP4", "MOV"}:
            with unseen_file(path) as file:
                cut = any(box.cut_off for box in boxes.top_boxes(file))
        else:
            cut = container == "M2TS" and len(paths) == 1 and path.stat().st_size % 192 != 0
        if cut:
            problems.append(
                Problem(
                    f"{shown(path.name)} is cut off: it ends in the middle of its data.",
                    str(path),
                    "What is there is kept.",
                    "Copy it again from the card if the card still has it whole.",
                )
            )
    for stream in media.streams.video:
        if stream.codec_context.format is None:
            name = stream.codec_context.name
            problems.append(
                Problem(
                    f"{shown(paths[0].name)} holds picture in {name}, which nothing installed can decode.",
                    str(paths[0]),
                    "It is copied and proven like every other file.",
                    "Open it with a program that knows this codec.",
                )
            )
    return tuple(problems)


def _look(paths: Sequence[Path], duration_s: float) -> ScanVerdict:
    with opened(paths) as media:
        media.streams.video[0].thread_type = "AUTO"
        try:
            return judge(list(_window(media, float(place) * duration_s)) for place in _LOOKS_AT)
        except (av.error.FFmpegError, DiadocheError):
            return ScanVerdict("undecided")


def _window(media: InputContainer, at_s: float) -> Iterator[tuple[float, Luma]]:
    stream = media.streams.video[0]
    if stream.time_base is None:
        return
    begin = (stream.start_time or 0) + int(at_s / stream.time_base)
    media.seek(begin, stream=stream)
    for number, frame in enumerate(media.decode(stream)):
        if number >= _PICTURES_A_LOOK:
            return
        yield float(frame.time or 0) - float((stream.start_time or 0) * stream.time_base), luma_of(frame)


def luma_of(frame: av.VideoFrame) -> Luma:
    """The luma of a decoded picture: shape (lines, columns), scaled to 8 bits for looking only."""
    if frame.format.is_rgb or (frame.format.components[0].bits > 8 and "le" not in frame.format.name):
        frame = frame.reformat(format="gray")
    plane = frame.planes[0]
    bits = frame.format.components[0].bits
    kind = np.uint8 if bits <= 8 else np.uint16
    wide = plane.line_size // np.dtype(kind).itemsize
    data = np.frombuffer(plane, kind).reshape(-1, wide)[: frame.height, : frame.width]  # type: ignore[call-overload]  # a buffer
    luma: Luma = data.copy() if bits <= 8 else (data >> (bits - 8)).astype(np.uint8)
    return luma


def _seen(video: VideoFacts, verdict: ScanVerdict) -> VideoFacts:
    order = verdict.field_order
    if verdict.scan == "undecided":
        order = video.field_order
    elif verdict.scan == "progressive":
        order = None
    return replace(video, scan=verdict.scan, field_order=order, evidence=verdict.evidence)
