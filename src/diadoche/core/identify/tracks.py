"""Facts of picture and sound tracks, from what the media library tells and from the stamps of every packet."""

from __future__ import annotations

import statistics
from collections.abc import Sequence
from dataclasses import dataclass, field
from fractions import Fraction
from itertools import pairwise
from typing import Literal, cast

import av
from av.audio.codeccontext import AudioCodecContext
from av.audio.stream import AudioStream
from av.container import InputContainer
from av.stream import Disposition
from av.video.codeccontext import VideoCodecContext
from av.video.stream import VideoStream

from diadoche.core.boxes import TrackHead
from diadoche.core.colortags import MATRICES, PRIMARIES, RANGES, TRANSFERS, name_of
from diadoche.core.identify.facts import AudioFacts, Color, FieldOrder, Scan, VideoFacts
from diadoche.core.identify.packs import RecordingPacks
from diadoche.core.rates import nearest_standard

_FLAGGED: dict[int, tuple[Scan, FieldOrder | None]] = {
    1: ("progressive", None),
    2: ("interlaced", "top"),
    3: ("interlaced", "bottom"),
    4: ("interlaced", "top"),
    5: ("interlaced", "bottom"),
}
_ALWAYS_INTRA = {
    "prores",
    "dnxhd",
    "mjpeg",
    "cfhd",
    "dvvideo",
    "ffv1",
    "rawvideo",
    "v210",
    "png",
    "tiff",
    "dng",
    "jpeg2000",
}
# A stamp of 33 bits starts again after this many ticks of 90 kHz [13818-1, 2.4.3.7].
_WRAP = 1 << 33
_PLAUSIBLE_RATES = (Fraction(1, 60), Fraction(1000))


@dataclass(slots=True)
class Count:
    """What reading every packet of the picture told. Stamps in ticks of the track, in the order of showing."""

    packets: int = 0
    keys: int = 0
    stamps: list[int] = field(default_factory=list)


def picture_streams(media: InputContainer) -> list[VideoStream]:
    """The tracks that are footage: a cover or a thumbnail inside the file is none."""
    return [stream for stream in media.streams.video if not stream.disposition & Disposition.attached_pic]


def decoder_of(stream: VideoStream) -> VideoCodecContext | None:
    """None for codecs that the media library does not know, whatever its stubs say."""
    return cast("VideoCodecContext | None", stream.codec_context)


def hearer_of(stream: AudioStream) -> AudioCodecContext | None:
    """The same for sound."""
    return cast("AudioCodecContext | None", stream.codec_context)


def count_packets(media: InputContainer, stream: VideoStream) -> Count:
    """Counts packets; where the file has an index, that is read instead of the packets."""
    count = Count()
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
            elif packet.size:
                count.packets += 1
                count.keys += packet.is_keyframe
    except av.error.FFmpegError:
        # What follows a damaged place cannot be counted; the damage is named by looking at the file.
        pass
    count.stamps = _unwrapped(count.stamps)
    return count


def _unwrapped(stamps: list[int]) -> list[int]:
    """Stamps in order, where a 33-bit clock may have started again among them."""
    if stamps and max(stamps) - min(stamps) > _WRAP // 2:
        stamps = [stamp if stamp > _WRAP // 2 else stamp + _WRAP for stamp in stamps]
    return sorted(stamps)


@dataclass(frozen=True, slots=True)
class _Rate:
    rate: Fraction
    mode: Literal["constant", "variable"] = "constant"
    told: bool = True
    range: tuple[Fraction, Fraction] | None = None


def _rate(stream: VideoStream, count: Count | None) -> _Rate:
    guessed = stream.average_rate or (stream.guessed_rate if decoder_of(stream) is not None else None)
    plausible = guessed is not None and _PLAUSIBLE_RATES[0] <= guessed <= _PLAUSIBLE_RATES[1]
    told = Fraction(guessed) if guessed is not None and plausible else Fraction(25)
    # Where a container stamps only some pictures, the steps between them say nothing.
    if count is None or len(count.stamps) < max(3, count.packets) or stream.time_base is None:
        return _Rate(nearest_standard(told), told=plausible)
    steps = [later - earlier for earlier, later in pairwise(count.stamps)]
    usual = statistics.median(steps)
    # Clocks round to whole ticks, so neighbours may differ by one tick either way.
    if usual > 0 and max(steps) - min(steps) <= 2 and (not stream.frames or not plausible):
        measured = len(steps) / (Fraction(count.stamps[-1] - count.stamps[0]) * stream.time_base)
        # A coarse clock blurs what was measured; what the header tells is exact, unless it tells something else.
        agrees = plausible and abs(measured - told) < told / 100
        return _Rate(nearest_standard(told if agrees else measured))
    uneven = sum(abs(step - usual) > max(2, usual // 50) for step in steps)
    if uneven <= max(1, len(steps) // 100):
        return _Rate(nearest_standard(told), told=plausible)
    positive = [step for step in steps if step > 0]
    slowest, fastest = (1 / (Fraction(step) * stream.time_base) for step in (max(positive), min(positive)))
    return _Rate(nearest_standard(told), "variable", plausible, (nearest_standard(slowest), nearest_standard(fastest)))


def video_facts(
    stream: VideoStream, head: TrackHead | None, packs: RecordingPacks | None, count: Count | None
) -> VideoFacts:
    """The facts of a picture track.

    Args:
        stream: the track as opened.
        head: what its own boxes say, in ISO base media files.
        packs: what the camera wrote into the first pictures.
        count: of its packets, where they were counted.
    """
    context = decoder_of(stream)
    if context is None:
        return _nameless(stream, head, count)
    rate = _rate(stream, count)
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
        frame_rate=rate.rate,
        frame_rate_mode=rate.mode,
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
        frame_rate_told=rate.told,
        rate_range=rate.range,
    )


def _nameless(stream: VideoStream, head: TrackHead | None, count: Count | None) -> VideoFacts:
    """A track in a codec that the media library does not even know by name."""
    rate = _rate(stream, count)
    return VideoFacts(
        codec=head.entry if head is not None else "unknown",
        profile="",
        width=0,
        height=0,
        pixel_aspect=Fraction(1),
        rotation=head.rotation_deg if head else 0,
        frame_rate=rate.rate,
        frame_rate_mode=rate.mode,
        scan="undecided",
        scan_flagged="undecided",
        field_order=None,
        bit_depth=0,
        chroma="unknown",
        intra_only=False,
        bit_rate=0,
        color=Color(),
        timecode=_timecode(stream, None),
        decodable=False,
        frame_rate_told=rate.told,
        rate_range=rate.range,
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


def audio_facts(stream: AudioStream) -> AudioFacts:
    """The facts of a sound track."""
    context = hearer_of(stream)
    if context is None:
        return AudioFacts("unknown", 0, "", 0, None, False)
    name = context.codec.canonical_name
    depth = None
    if name.startswith("pcm_") and context.format is not None:
        digits = "".join(filter(str.isdigit, name.partition("pcm_")[2]))
        depth = int(digits) if digits else context.format.bits
    elif name in {"flac", "alac"} and context.format is not None:
        depth = _lossless_depth(name, bytes(context.extradata or b""), context.format.bits)
    return AudioFacts(name, context.channels, context.layout.name, context.sample_rate, depth, bool(context.format))


def _lossless_depth(codec: str, head: bytes, otherwise: int) -> int:
    """Bits a sample from the codec's own head: STREAMINFO of FLAC [RFC9639, 8.2], the `alac` cookie (from memory)."""
    if codec == "flac" and len(head) >= 14:
        return ((head[12] & 1) << 4 | head[13] >> 4) + 1
    if codec == "alac" and len(head) >= 18:
        return head[17]
    return otherwise


def track_seconds(stream: av.stream.Stream) -> float:
    """How long a track says it is; 0 where it does not say."""
    return float(stream.duration * stream.time_base) if stream.duration and stream.time_base else 0.0


def joined_seconds(count: Count | None, video: Sequence[VideoFacts]) -> float:
    """The length by counted pictures; 0 where they were not counted, or come unevenly."""
    if count is None or not count.packets or not video:
        return 0.0
    return float(count.packets / video[0].frame_rate) if video[0].frame_rate_mode == "constant" else 0.0
