"""One track of a rewrap on its way: its packets as they are at times that are exact, or its sound as plain PCM."""

from __future__ import annotations

import heapq
import itertools
from dataclasses import dataclass, field
from fractions import Fraction
from pathlib import Path
from typing import Any, Protocol, cast

import av
import av.error
from av.container import OutputContainer
from av.stream import Stream
from av.video.stream import VideoStream

from diadoche.core.codecnames import spoken_codec
from diadoche.core.convert.formats import SoundFormat
from diadoche.core.convert.packet_fingerprints import PacketFingerprints, fingerprints_suffice
from diadoche.core.convert.picture_head import PictureHead
from diadoche.core.convert.proof import TrackDigest
from diadoche.core.convert.sound import PLAIN, SampleDigest, SoundTrack
from diadoche.core.convert.sound_coding import SoundCoding, coding_of
from diadoche.core.errors import MediaError
from diadoche.core.identify.facts import Facts, VideoFacts
from diadoche.core.media import decoding, opened, packet_of, sound_frame
from diadoche.core.names import shown
from diadoche.core.run import Run, TickScale, TimedPacket
from diadoche.core.sound_layouts import names_places

# Disc-style linear PCM and the like exist in transport streams only.
_PCM_OF_DISCS = {"pcm_bluray", "pcm_dvd", "s302m"}
# Sound that a container holds as it is, by the tags that FFmpeg's muxers know; other sound becomes plain PCM.
_HELD_BY_BOTH = {"aac", "ac3", "eac3", "alac", "mp1", "mp2", "mp3", "amr_nb", "amr_wb"}
_HELD_AS_IT_IS = {
    "mov": _HELD_BY_BOTH | {"adpcm_ms", "adpcm_ima_wav", "gsm"},
    "mp4": _HELD_BY_BOTH | {"dts", "flac", "opus", "vorbis", "truehd"},
}
_PLAIN_PCM_HELD = {"mov", "mkv"}
# Parameter sets stand in the head alone, as editing programs want them [14496-15, 8.4.1].
_HEVC_TAG = "hvc1"
# ProRes has one in each of its variants' names [RDD36, and the names of profiles in the media library].
_PRORES_TAGS = {"Proxy": "apco", "LT": "apcs", "Standard": "apcn", "HQ": "apch", "4444": "ap4h", "XQ": "ap4x"}
# The tags of codecs whose packets do not tell by themselves of which variant they are.
_TAGS_OF_VARIANTS = {
    "prores": set(_PRORES_TAGS.values()),
    "hap": {"Hap1", "Hap5", "HapY", "HapA", "HapM", "Hap7", "HapH"},
}
_REORDERING_SEEN = 300


def sound_that_begins_anew(run: Run) -> set[int]:
    """The sound tracks, counted from 0, whose coder was started again in a later part: it says so by what it skips."""
    found: set[int] = set()
    for part in run.parts[1:]:
        with opened(part) as media, decoding(part[0]):
            streams = list(media.streams.audio)
            wanted = {stream.index: number for number, stream in enumerate(streams)}
            for packet in media.demux(streams) if streams else ():
                if packet.size and wanted.pop(packet.stream_index, None) is not None:
                    number = next(place for place, stream in enumerate(streams) if stream.index == packet.stream_index)
                    found |= {number} if packet.has_sidedata("skip_samples") else set()
                if not wanted:
                    break
    return found


def reordering(run: Run) -> int:
    """By how many pictures the order of coding runs ahead of that of showing, at most; the beginning is looked at."""
    pictures = (timed.pts for timed in Run(run.parts[0], run.rate).packets() if timed.track == 0)
    deepest = 0
    later: list[int] = []
    for stamp in itertools.islice(pictures, _REORDERING_SEEN):
        later = [each for each in later if each > stamp]
        deepest = max(deepest, len(later))
        later.append(stamp)
    return deepest


@dataclass(slots=True)
class CodingTimes:
    """When pictures are to be decoded, from when they are shown: those times alone are exact in every container.

    Both in pictures of an even run.
    """

    depth: int
    _shown: list[int] = field(default_factory=list)
    _waiting: int = 0
    _last: int | None = None

    def next(self, shown: int) -> int:
        """The decoding time of the next picture in the order of coding."""
        heapq.heappush(self._shown, shown)
        if self._waiting < self.depth:
            # So many are decoded before the first one is shown.
            wanted = self._shown[0] - (self.depth - self._waiting)
            self._waiting += 1
        else:
            wanted = heapq.heappop(self._shown)
            wanted = min(wanted, shown)
        self._last = wanted if self._last is None else max(wanted, self._last + 1)
        return self._last


class Muxer(Protocol):
    """What takes packets that are ready."""

    def mux(self, packet: av.Packet[Any]) -> None:
        """Writes one, or has it written."""


class CopiedTrack:
    """One track on its way: copied as it is, or turned into plain PCM where the container, or a joint, asks for it."""

    def __init__(
        self,
        target: OutputContainer,
        source: Stream,
        facts: Facts,
        number: int,
        container: str,
        depth: int,
        *,
        as_pcm: bool,
    ) -> None:
        codec = codec_of(source, facts.path)
        video = facts.video[0]
        self.codec, self.extradata = codec, cast(Any, source.codec_context).extradata
        # What its source says of its pictures.
        self.head = PictureHead.of(source) if isinstance(source, VideoStream) else None
        self.pixel_aspect = Fraction((isinstance(source, VideoStream) and source.sample_aspect_ratio) or 1)
        # What is known of the packets, or samples, that went in.
        self.noted: PacketFingerprints | TrackDigest | SampleDigest
        self._pcm: SoundTrack | None = None
        # What its sound is encoded by, where it is not copied.
        self.encoder = ""
        self._times: CodingTimes | None = None
        self._last_dts: int | None = None
        self._begins = False
        # From the clock of the part that is written now, which its shift tells from others.
        self._scale: TickScale | None = None
        self._length = TickScale(Fraction(1), Fraction(0), Fraction(1))
        self._scaled_from = Fraction(0)
        # Plain PCM has no packets of its own: it goes sample by sample, so that a hole in it stays as long as it is.
        plain = codec in PLAIN and container in _PLAIN_PCM_HELD
        is_sound = source.type == "audio"
        if is_sound and (as_pcm or plain or not _holds(container, codec)):
            sound = SoundFormat.of(facts.audio[number - 1])
            # MP4 holds plain PCM only where it can tell what each channel is [23003-5, 14496-12 12.2.4].
            told = container != "mp4" or sound.floating or names_places(sound.layout)
            coding = SoundCoding(codec, PLAIN[codec]) if plain else coding_of("pcm" if told else "flac", sound)
            self._pcm = SoundTrack(target, sound, coding, number - 1, aligned=False)
            self.stream: Stream = self._pcm.stream
            assert isinstance(self._pcm.digest, SampleDigest)
            self.noted = self._pcm.digest
            self.encoder = coding.encoder
            self._tick_s = Fraction(1, self._pcm.rate)
            return
        self.stream = _copied_stream(target, source, facts, container)
        suffices = fingerprints_suffice(codec, self.extradata)
        self.noted = PacketFingerprints() if suffices else TrackDigest(codec, self.extradata)
        self._tick_s = _tick_of(source, number, facts)
        self.stream.time_base = self._tick_s
        if number == 0 and video.frame_rate_mode == "constant":
            self._times = CodingTimes(depth)
        # Of a picture that does not say how long it is shown.
        self._usual_length = 0 if is_sound else max(1, round(1 / video.frame_rate / self._tick_s))

    @property
    def is_pcm(self) -> bool:
        """Whether it becomes plain PCM."""
        return self._pcm is not None

    def put(self, target: Muxer, timed: TimedPacket) -> None:
        """Writes one packet, or the two fields of a picture as one."""
        if self._pcm is not None:
            self._begins = self._begins or timed.begins
            self._decode(target, self._pcm, timed)
            return
        assert not isinstance(self.noted, SampleDigest)
        packet = timed.packets[0] if len(timed.packets) == 1 else _one_packet(timed)
        self.noted.take(memoryview(packet))
        packet.time_base = self._tick_s
        # Mostly the very same value, which is sooner seen than compared.
        if self._scale is None or (timed.shift_s is not self._scaled_from and timed.shift_s != self._scaled_from):
            self._scale = TickScale(timed.tick_s, timed.shift_s, self._tick_s)
            self._length = TickScale(timed.tick_s, Fraction(0), self._tick_s)
            self._scaled_from = timed.shift_s
        packet.pts = self._scale(timed.pts)
        dts = self._times.next(packet.pts) if self._times is not None else self._scale(timed.dts)
        if self._last_dts is not None:
            # Decoding times must rise; a stream that repeats one is moved on by a tick, and its packets stay.
            dts = max(dts, self._last_dts + 1)
        packet.dts, packet.pts = dts, max(packet.pts, dts)
        # The last picture of a track that ends with it would not be shown at all.
        packet.duration = self._length(timed.duration) or self._usual_length
        self._last_dts = dts
        packet.stream = self.stream
        target.mux(packet)

    def _decode(self, target: Muxer, pcm: SoundTrack, timed: TimedPacket) -> None:
        packet = timed.packets[0]
        try:
            frames = packet.decode()
        except av.error.FFmpegError:
            # Silence takes its place, and is told.
            return
        for frame in frames:
            # A decoder leaves out what only led up to the sound, and then begins later than its packet.
            later_s = Fraction(0)
            if frame.pts is not None and packet.pts is not None:
                later_s = frame.pts * Fraction(frame.time_base or 1) - packet.pts * Fraction(packet.time_base or 1)
            for sound in pcm.encode(
                sound_frame(cast(av.AudioFrame, frame)), timed.pts_s + later_s, begins=self._begins
            ):
                target.mux(sound)
            # The first packet of a part may only lead up to its sound: the first frame is what begins it.
            self._begins = False

    def flush(self, target: Muxer) -> None:
        """Writes what is still held."""
        if self._pcm is not None:
            for packet in self._pcm.flush():
                target.mux(packet)


def _tick_of(source: Stream, number: int, facts: Facts) -> Fraction:
    """The clock of a copied track: of an even run a whole share of a picture, of sound one sample."""
    video: VideoFacts = facts.video[0]
    if source.type == "audio":
        return Fraction(1, facts.audio[number - 1].sample_rate or 48_000)
    if number == 0 and video.frame_rate_mode == "constant":
        # The muxer takes the rate of the timecode track from this clock; every picture lies on it.
        return 1 / video.frame_rate
    return Fraction(source.time_base or Fraction(1, 90_000))


def _one_packet(timed: TimedPacket) -> av.Packet[Any]:
    """Both fields of a picture as one packet, as boxes hold them [14496-15, 5.3.4]."""
    first = timed.packets[0]
    packet = packet_of(timed.data)
    packet.pts, packet.dts, packet.duration, packet.time_base = first.pts, first.dts, first.duration, first.time_base
    packet.is_keyframe = first.is_keyframe
    return packet


def _holds(container: str, sound: str) -> bool:
    """Whether sound stays as it is in a container."""
    if sound in _PCM_OF_DISCS:
        return False
    if sound.startswith("pcm_"):
        return container in _PLAIN_PCM_HELD
    return container not in _HELD_AS_IT_IS or sound in _HELD_AS_IT_IS[container]


def _copied_stream(target: OutputContainer, source: Stream, facts: Facts, container: str) -> Stream:
    codec = codec_of(source, facts.path)
    try:
        stream = target.add_stream_from_template(source, opaque=True)
    except ValueError as error:
        raise MediaError(
            f"{shown(Path(facts.path).name)}: {spoken_codec(codec)} cannot be put into {container.upper()}.",
            path=facts.path,
            safe="The original is untouched; nothing was written.",
            do="Choose another container, or convert it.",
        ) from error
    if isinstance(source, VideoStream):
        context: Any = stream.codec_context
        # The head of the track alone says these, of codecs that do not say them themselves.
        if source.sample_aspect_ratio:
            context.sample_aspect_ratio = source.sample_aspect_ratio
        if tag := _tag_of(codec, source, container):
            context.codec_tag = tag
    return stream


def _tag_of(codec: str, source: VideoStream, container: str) -> str:
    """Which variant of a codec the head has to name, where the muxer would name its first one; else nothing."""
    if codec == "hevc" and container in {"mov", "mp4"}:
        return _HEVC_TAG
    own: str = source.codec_context.codec_tag
    if codec in _TAGS_OF_VARIANTS and own in _TAGS_OF_VARIANTS[codec]:
        return own
    return _PRORES_TAGS.get(str(source.profile), "") if codec == "prores" else ""


def codec_of(stream: Stream, path: str) -> str:
    """The codec's published name. `path` is for the words of the error.

    Raises:
        MediaError: nothing here knows it.
    """
    # The stubs promise one; tracks in codecs that the media library does not know have none.
    context: Any = stream.codec_context
    if context is None:
        raise MediaError(
            f"{shown(Path(path).name)} holds a track in a codec that nothing here knows.",
            path=path,
            safe="The original is untouched; nothing was written.",
            do="Keep the original, and open it with a program that knows it.",
        )
    name: str = context.codec.canonical_name
    return name
