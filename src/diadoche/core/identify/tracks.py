"""Facts of picture and sound tracks, from what the media library tells and from the stamps of every packet."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, field
from fractions import Fraction
from typing import cast

import av
import xxhash
from av.audio.codeccontext import AudioCodecContext
from av.audio.stream import AudioStream
from av.container import InputContainer
from av.stream import Disposition
from av.video.codeccontext import VideoCodecContext
from av.video.stream import VideoStream

from diadoche.core.boxes import TrackHead
from diadoche.core.colortags import MATRICES, PRIMARIES, RANGES, TRANSFERS, name_of
from diadoche.core.identify.cadence import PLAUSIBLE_RATES, Cadence, cadence_of
from diadoche.core.identify.facts import AudioFacts, Color, FieldOrder, Scan, VideoFacts
from diadoche.core.identify.fieldpairs import FieldPairs
from diadoche.core.identify.packs import RecordingPacks
from diadoche.core.media import layout_of
from diadoche.core.orientation import AS_RECORDED, Orientation
from diadoche.core.sampletable import SampleTable

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


@dataclass(slots=True)
class Count:
    """What reading every packet told of the pictures that are shown. Stamps in ticks, in the order of showing."""

    pictures: int = 0
    keys: int = 0
    stamps: list[int] = field(default_factory=list)
    tick_s: Fraction | None = None


def picture_streams(media: InputContainer) -> list[VideoStream]:
    """The tracks that are footage: a cover or a thumbnail inside the file is none."""
    return [stream for stream in media.streams.video if not stream.disposition & Disposition.attached_pic]


def decoder_of(stream: VideoStream) -> VideoCodecContext | None:
    """None for codecs that the media library does not know, whatever its stubs say."""
    return cast("VideoCodecContext | None", stream.codec_context)


def hearer_of(stream: AudioStream) -> AudioCodecContext | None:
    """The same for sound."""
    return cast("AudioCodecContext | None", stream.codec_context)


def count_pictures(media: InputContainer, stream: VideoStream, table: SampleTable | None) -> Count:
    """Counts the pictures that are shown; two fields that are coded by themselves are one of them.

    What an edit list hides is not counted. Where a file has a table of what it holds, that is read, else every packet.
    """
    pairs = _field_pairs(stream)
    if table is not None and pairs is None:
        return Count(len(table.stamps), table.keys, list(table.stamps), table.tick_s)
    count = Count(tick_s=Fraction(stream.time_base) if stream.time_base else None)
    try:
        for packet in media.demux(stream):
            if not packet.size or packet.is_discard:
                continue
            if pairs is not None and not pairs.never and pairs.is_second(memoryview(packet)):
                continue
            count.pictures += 1
            count.keys += packet.is_keyframe
            if packet.pts is not None:
                count.stamps.append(packet.pts)
    except av.error.FFmpegError:
        # What follows a damaged place cannot be counted; the damage is named by looking at the file.
        pass
    count.stamps = _unwrapped(count.stamps)
    return count


def _field_pairs(stream: VideoStream) -> FieldPairs | None:
    """Who tells second fields; None where none can come."""
    context = decoder_of(stream)
    if context is None or context.codec.canonical_name != "h264":
        return None
    pairs = FieldPairs(context.extradata)
    return None if pairs.never else pairs


def _unwrapped(stamps: list[int]) -> list[int]:
    """Stamps in order, where a 33-bit clock may have started again among them."""
    if stamps and max(stamps) - min(stamps) > _WRAP // 2:
        stamps = [stamp if stamp > _WRAP // 2 else stamp + _WRAP for stamp in stamps]
    return sorted(stamps)


def _cadence(stream: VideoStream, count: Count | None) -> Cadence:
    guessed = stream.average_rate or (stream.guessed_rate if decoder_of(stream) is not None else None)
    plausible = guessed is not None and PLAUSIBLE_RATES[0] <= guessed <= PLAUSIBLE_RATES[1]
    header = Fraction(guessed) if guessed is not None and plausible else None
    # Where a container stamps only some pictures, the steps between them say nothing.
    if count is None or count.tick_s is None or count.pictures != len(count.stamps):
        return cadence_of((), Fraction(1), header)
    return cadence_of(count.stamps, count.tick_s, header)


def video_facts(
    stream: VideoStream,
    head: TrackHead | None,
    packs: RecordingPacks | None,
    count: Count | None,
    oriented: Orientation = AS_RECORDED,
) -> VideoFacts:
    """The facts of a picture track.

    Args:
        stream: the track as opened.
        head: what its own boxes say, in ISO base media files.
        packs: what the camera wrote into the first pictures.
        count: of its packets, where they were counted.
        oriented: how its file says that it is to be shown.
    """
    context = decoder_of(stream)
    if context is None:
        return _nameless(stream, head, count, oriented)
    cadence = _cadence(stream, count)
    pixels = context.format
    flagged, order = _FLAGGED.get(int(context.field_order), ("undecided", None))
    name = context.codec.canonical_name
    return VideoFacts(
        codec=name,
        profile=str(stream.profile or ""),
        width=context.width,
        height=context.height,
        pixel_aspect=Fraction(stream.sample_aspect_ratio or 1),
        rotation=oriented.rotation_deg,
        frame_rate=cadence.rate,
        frame_rate_mode=cadence.mode,
        scan="undecided",
        scan_flagged=flagged,
        field_order=order,
        bit_depth=pixels.components[0].bits if pixels else 0,
        chroma=_chroma(pixels),
        intra_only=name in _ALWAYS_INTRA or (count is not None and count.pictures > 1 and count.keys == count.pictures),
        bit_rate=int(context.bit_rate or 0),
        color=Color(
            name_of(PRIMARIES, int(context.color_primaries)),
            name_of(TRANSFERS, int(context.color_trc)),
            name_of(MATRICES, int(context.colorspace)),
            name_of(RANGES, int(context.color_range)),
        ),
        timecode=_timecode(stream, packs),
        decodable=pixels is not None,
        frame_rate_told=cadence.told,
        rate_range=cadence.range,
        gaps=cadence.gaps,
        has_alpha=pixels is not None and not pixels.has_palette and len(pixels.components) in {2, 4},
        mirrored=oriented.mirrored,
        decoder_head=xxhash.xxh3_64_hexdigest(context.extradata) if context.extradata else "",
    )


def _nameless(stream: VideoStream, head: TrackHead | None, count: Count | None, oriented: Orientation) -> VideoFacts:
    """A track in a codec that the media library does not even know by name."""
    cadence = _cadence(stream, count)
    return VideoFacts(
        codec=head.entry if head is not None else "unknown",
        profile="",
        width=0,
        height=0,
        pixel_aspect=Fraction(1),
        rotation=oriented.rotation_deg,
        mirrored=oriented.mirrored,
        frame_rate=cadence.rate,
        frame_rate_mode=cadence.mode,
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
        frame_rate_told=cadence.told,
        rate_range=cadence.range,
        gaps=cadence.gaps,
    )


def _chroma(pixels: av.VideoFormat | None) -> str:
    if pixels is None:
        return "unknown"
    if pixels.is_rgb:
        return "RGB"
    if len(pixels.components) < 3:
        return "4:0:0"
    wide, high = pixels.chroma_width(8), pixels.chroma_height(8)
    return {(4, 4): "4:2:0", (4, 8): "4:2:2", (8, 8): "4:4:4", (2, 8): "4:1:1", (8, 4): "4:4:0", (2, 2): "4:1:0"}.get(
        (wide, high), "unknown"
    )


def _timecode(stream: VideoStream, packs: RecordingPacks | None) -> str | None:
    if packs is not None and packs.timecode:
        return packs.timecode
    media = stream.container
    carriers = [stream.metadata, *(track.metadata for track in media.streams.data), media.metadata]
    # Matroska's tags are written in capitals.
    named = ({key.lower(): value for key, value in carrier.items()} for carrier in carriers)
    return next((carrier["timecode"] for carrier in named if "timecode" in carrier), None)


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
    layout, channels = layout_of(context)
    return AudioFacts(name, channels, layout, context.sample_rate, depth, bool(context.format))


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
    if count is None or not count.pictures or not video:
        return 0.0
    return float(count.pictures / video[0].frame_rate) if video[0].frame_rate_mode == "constant" else 0.0
