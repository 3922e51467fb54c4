"""Every output is opened again and held against what was to be in it: each picture, its place, and every sample.

Where its packets were decoded as they left the encoder, it is enough to prove that the file holds those very packets,
at the right instants, and that a reader who enters the file sees those pictures. Where that cannot be proven, whatever
the reason, the file is decoded to its end.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, field, replace
from fractions import Fraction
from pathlib import Path
from typing import cast

import av
import av.error
from av.audio.stream import AudioStream
from av.video.stream import VideoStream

from diadoche.core.coder_threads import use_processors
from diadoche.core.convert.check import MOST_FINDINGS, Checks, Expected, ExpectedSound, Finding, finding_at
from diadoche.core.convert.packet_decoder import PacketDecoder
from diadoche.core.convert.picture_check import PictureCheck
from diadoche.core.convert.proof import TrackDigest
from diadoche.core.convert.sound import SampleDigest, Samples, SoundEnvelope, sounds_like
from diadoche.core.errors import MediaError
from diadoche.core.media import decoding, opened, pictures_near, samples_of, sound_frame
from diadoche.core.watch import Progress, Watch

# The longest packets of the sound codecs that fill their last one up.
_PADDING_SAMPLES = 4096


@dataclass(slots=True)
class _Read:
    """What a file holds. Times in seconds, one for each picture, in the order of showing."""

    sounds: _SoundCheck
    tick_s: Fraction = Fraction(0)
    times_s: list[Fraction] = field(default_factory=list)


def examine(
    path: Path, expected: Expected, watch: Watch, decoder: PacketDecoder | None = None
) -> tuple[Checks, tuple[Finding, ...]]:
    """Reads an output to its end and holds it against what is to be in it.

    Args:
        path: the output, finished.
        expected: what is to be in it.
        watch: told how far it is.
        decoder: what decoded its packets while they were made.

    Raises:
        MediaError: it cannot be opened.
    """
    if decoder is not None:
        read = _Read(_SoundCheck(expected.sounds))
        if _holds_packets(path, decoder, read, watch, expected) and _shows(path, decoder, read):
            return _verdicts(expected, decoder.pictures, read)
    read, pictures = _Read(_SoundCheck(expected.sounds)), PictureCheck(expected)
    _decode(path, pictures, read, watch, expected)
    return _verdicts(expected, pictures, read)


def _holds_packets(path: Path, decoder: PacketDecoder, read: _Read, watch: Watch, expected: Expected) -> bool:
    """Reads every packet: whether those of the pictures are the very ones that were decoded, each shown at its time."""
    stamps: list[int] = []
    with opened([path]) as media, decoding(path):
        picture = media.streams.video[0]
        context = picture.codec_context
        digest = TrackDigest(context.codec.canonical_name, context.extradata)
        read.tick_s = Fraction(picture.time_base or 1)
        read.sounds.begin(media.streams.audio)
        for packet in media.demux([picture, *media.streams.audio]):
            if packet.stream.index != picture.index:
                read.sounds.take(cast("av.Packet[AudioStream]", packet))
            elif packet.size:
                # What an edit list hides was decoded, and yet nobody sees it.
                if packet.pts is None or packet.is_discard:
                    return False
                _told(watch, len(stamps), expected)
                digest.take(memoryview(packet))
                stamps.append(packet.pts)
    read.times_s = [stamp * read.tick_s for stamp in sorted(stamps)]
    # Packets may have exchanged their stamps, which in their order tell nothing of that.
    is_in_order = decoder.is_in_order and _order(stamps) == _order(decoder.shown)
    return is_in_order and digest.value() == decoder.digest.value()


def _order(stamps: Sequence[int | None]) -> list[int]:
    """In which order packets are shown, by their numbers."""
    return sorted(range(len(stamps)), key=lambda number: stamps[number] or 0)


def _shows(path: Path, decoder: PacketDecoder, read: _Read) -> bool:
    """Whether readers who enter the file at its beginning, its middle and its end see what was decoded before.

    The packets alone do not tell that the head of the file is right, by which they are decoded.
    """
    if not read.times_s or len(read.times_s) != decoder.pictures.count:
        return False
    number_of = {round(time_s / read.tick_s): number for number, time_s in enumerate(read.times_s)}
    with opened([path]) as media:
        picture = media.streams.video[0]
        # Threads would be given more pictures than the one that is wanted.
        picture.codec_context.thread_type = "NONE"
        for place in {0, len(read.times_s) // 2, len(read.times_s) - 1}:
            try:
                frame = next(pictures_near(media, picture, round(read.times_s[place] / read.tick_s)), None)
            except av.error.FFmpegError:
                return False
            number = number_of.get(frame.pts) if frame is not None and frame.pts is not None else None
            if frame is None or number is None or not decoder.pictures.was(number, frame):
                return False
    return True


def _decode(path: Path, pictures: PictureCheck, read: _Read, watch: Watch, expected: Expected) -> None:
    with opened([path]) as media, decoding(path):
        picture: VideoStream = media.streams.video[0]
        use_processors(picture.codec_context)
        read.tick_s = Fraction(picture.time_base or 1)
        read.sounds.begin(media.streams.audio)
        for packet in media.demux([picture, *media.streams.audio]):
            if packet.stream.index != picture.index:
                read.sounds.take(cast("av.Packet[AudioStream]", packet))
                continue
            try:
                frames = cast("list[av.VideoFrame]", packet.decode())
            except av.error.FFmpegError:
                pictures.broken()
                continue
            for frame in frames:
                _told(watch, pictures.count, expected)
                read.times_s.append((frame.pts or 0) * Fraction(frame.time_base or 1))
                pictures.take(frame)


def _told(watch: Watch, number: int, expected: Expected) -> None:
    total = max(1, len(expected.signatures))
    watch.step(Progress(min(number + 1, total), total, "checking the output"))


class StillsCheck:
    """Files of one picture each, decoded in their order and held against what is to be in them."""

    def __init__(self, expected: Expected) -> None:
        self._expected = expected
        self._pictures = PictureCheck(expected)
        self._paths: list[Path] = []

    def take(self, path: Path) -> None:
        """The next file, written and closed."""
        self._paths.append(path)
        try:
            with opened([path]) as media:
                frame = next(media.decode(media.streams.video[0]))
        except (MediaError, av.error.FFmpegError, StopIteration):
            self._pictures.broken()
            return
        self._pictures.take(frame)

    def verdicts(self, paths: Sequence[Path]) -> tuple[Checks, tuple[Finding, ...]]:
        """The verdicts, where these are the files that stand there, in the order of their names."""
        read = _Read(_SoundCheck(self._expected.sounds))
        read.times_s = [number / self._expected.rate for number, _path in enumerate(paths)]
        checks, findings = _verdicts(self._expected, self._pictures, read)
        return replace(checks, frames=checks.frames and list(paths) == self._paths), findings


class _SoundCheck:
    """The sound tracks of an output, decoded, against the samples that went into them."""

    def __init__(self, expected: list[ExpectedSound]) -> None:
        self._expected = expected
        self._digests = [
            SampleDigest() if isinstance(each.value[1], str) else SoundEnvelope(each.rate, each.channels)
            for each in expected
        ]
        self._begins: dict[int, Fraction] = {}
        self._tracks: dict[int, int] = {}
        self.is_clean = True

    def begin(self, streams: Sequence[AudioStream]) -> None:
        """The tracks of the file, before their packets."""
        self._tracks = {stream.index: number for number, stream in enumerate(streams)}

    def take(self, packet: av.Packet[AudioStream]) -> None:
        """The next packet of one of them."""
        track = self._tracks[packet.stream.index]
        try:
            frames = packet.decode()
        except av.error.FFmpegError:
            self.is_clean = False
            return
        for frame in frames:
            self._begins.setdefault(track, (frame.pts or 0) * Fraction(frame.time_base or 1))
            if track < len(self._digests):
                samples = samples_of(sound_frame(frame))
                # Planes of channels become samples that follow each other.
                self._digests[track].take(cast(Samples, samples.T.reshape(1, -1) if samples.shape[0] > 1 else samples))

    def findings(self) -> list[Finding]:
        """The tracks that are not what was written; more of them, or fewer, are said of the first that is."""
        wrong = [number for number, sound in enumerate(self._expected) if not self._is_right(number, sound)]
        if len(self._tracks) != len(self._expected):
            wrong.append(min(len(self._tracks), len(self._expected)))
        return [Finding("out of step", 0, 0.0, f"sound track {each + 1} is not what was written") for each in wrong]

    def _is_right(self, number: int, sound: ExpectedSound) -> bool:
        values, found = self._digests[number].value()
        if sound.value[0] == 0:
            return values == 0
        if abs(self._begins.get(number, Fraction(0)) * sound.rate - sound.first) > 1:
            return False
        if isinstance(found, str):
            return (values, found) == sound.value
        # Encoders fill their last packet up.
        more = values - sound.value[0]
        theirs = cast(tuple[float, ...], sound.value[1])
        return 0 <= more <= _PADDING_SAMPLES * sound.channels and sounds_like(theirs, found)


def _verdicts(expected: Expected, pictures: PictureCheck, read: _Read) -> tuple[Checks, tuple[Finding, ...]]:
    """The verdicts, and the places that they rest on."""
    length_s, written = 1 / expected.rate, len(expected.signatures)
    astray = [
        finding_at("out of step", number, expected.rate, f"it stands at {float(time_s):.3f} s")
        for number, time_s in enumerate(read.times_s)
        if abs(time_s - number * length_s) > read.tick_s
    ]
    unheard = read.sounds.findings()
    ends_s = read.times_s[-1] + length_s if read.times_s else Fraction(0)
    checks = Checks(
        frames=pictures.count == len(read.times_s) == written > 0,
        duration=abs(ends_s - written * length_s) <= read.tick_s,
        sync=not astray and not unheard,
        decodes=pictures.is_clean and read.sounds.is_clean and not pictures.has_changed,
    )
    return checks, (*unheard, *astray[:MOST_FINDINGS], *pictures.findings())
