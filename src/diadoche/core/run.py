"""The one clock of a clip: its spans one after another, as packets or decoded, from the first picture on.

Times begin with the first picture that is shown. Every part follows when the last picture of the part before has been
shown for its time. Sound keeps its place beside the picture of its part; where a recorder only cut a running sound, it
runs on instead, for neither a click nor a drift is wanted.

What is shown is what a player shows: pictures that an edit list hides are none, and two fields that are coded by
themselves are one. Of an even rate every picture lies on its place; the rounding of container clocks goes no further.
"""

from __future__ import annotations

import heapq
from collections.abc import Iterator, Sequence
from dataclasses import dataclass, field
from fractions import Fraction
from pathlib import Path
from typing import Any, cast

import av
import av.error
from av.container import InputContainer
from av.stream import Stream
from av.video.stream import VideoStream

from diadoche.core.coder_threads import use_processors
from diadoche.core.errors import MediaError
from diadoche.core.identify.fieldpairs import FieldPairs
from diadoche.core.identify.picture_order import AviTimes, avi_times
from diadoche.core.identify.tracks import decoder_of, picture_streams
from diadoche.core.media import decoding, opened, seek_to_key, sound_frame
from diadoche.core.names import shown
from diadoche.core.spans import parts

# A stamp of 33 bits starts again after this many ticks of 90 kHz [13818-1, 2.4.3.7].
_WRAP = 1 << 33
# A clock that goes back further than this began anew.
_BACK_S = Fraction(1)
# A frame of most sound codecs: less than this apart, sound that was only cut runs on.
_RUNS_ON_SAMPLES = 1024
_AT_THE_BEGINNING = Fraction(0)


@dataclass(slots=True)
class TimedPacket:
    """A packet of track `track` (counted over picture and sound tracks), or the two fields of one picture.

    Times are ticks of `tick_s` from a moment that lies `shift_s` after the first picture: whole numbers, for there are
    many packets. `hidden`: coded, but not to be shown.
    """

    track: int
    packets: tuple[av.Packet[Any], ...]
    pts: int
    dts: int
    duration: int
    tick_s: Fraction
    shift_s: Fraction
    hidden: bool = False
    # Sound that is placed by the clock to the sample: the first of a part whose sound began anew.
    begins: bool = False

    @property
    def pts_s(self) -> Fraction:
        """When it is shown or heard, in seconds from the first picture."""
        return self.pts * self.tick_s + self.shift_s

    @property
    def dts_s(self) -> Fraction:
        """When it is to be decoded, in seconds from the first picture."""
        return self.dts * self.tick_s + self.shift_s

    @property
    def duration_s(self) -> Fraction:
        """How long it lasts, in seconds."""
        return self.duration * self.tick_s

    @property
    def data(self) -> bytes:
        """What is coded."""
        return b"".join(bytes(packet) for packet in self.packets)


class TickScale:
    """Times of one clock in ticks of another, rounded once, by whole numbers alone."""

    def __init__(self, tick_s: Fraction, shift_s: Fraction, target_s: Fraction) -> None:
        """From ticks of `tick_s` that are counted from `shift_s` to ticks of `target_s`."""
        factor, addend = tick_s / target_s, shift_s / target_s
        self._below = factor.denominator * addend.denominator
        self._factor = factor.numerator * addend.denominator
        self._addend = addend.numerator * factor.denominator

    def __call__(self, ticks: int) -> int:
        """The nearest tick; of two the later one."""
        return (2 * (ticks * self._factor + self._addend) + self._below) // (2 * self._below)


@dataclass(frozen=True, slots=True)
class Picture:
    """A decoded picture and when it is shown, in seconds from the first. `damaged`: its decoder complained."""

    frame: av.VideoFrame
    time_s: Fraction
    damaged: bool = False
    # How long it says that it is shown; nothing where it does not say.
    length_s: Fraction = Fraction(0)


@dataclass(frozen=True, slots=True)
class Sound:
    """Decoded sound of one track, counted from 0; the time is that of its first sample, from the first picture."""

    track: int
    frame: av.AudioFrame
    time_s: Fraction
    # Placed by the clock to the sample: the first of a part whose sound began anew. Else it runs on.
    begins: bool = False


@dataclass(frozen=True, slots=True)
class Missing:
    """A picture that is coded and does not decode, and when it would be shown."""

    time_s: Fraction


Unit = Picture | Sound | Missing


class Run:
    """A file, or the spans of a clip, with the sound files beside them."""

    def __init__(
        self,
        paths: Sequence[Path],
        rate: Fraction | None,
        sounds: Sequence[Path] = (),
        *,
        every_picture: bool = False,
        picture_track: int = 0,
    ) -> None:
        """
        Args:
            paths: the spans, in order.
            rate: of the pictures, where it is even; None where it varies.
            sounds: files that hold sound alone and begin with the first picture; only mute pictures have them.
            every_picture: `packets` gives those of further picture tracks too, as tracks after the sound.
            picture_track: which picture track is read, of files that hold several.
        """
        self._picture_track = picture_track
        self._every_picture = every_picture
        # When each part begins, from the first picture of all; known as far as it was read.
        self.begins_s: list[Fraction] = []
        # When the last picture of all ends; known when every packet was read.
        self.ends_s = Fraction(0)
        self.paths = tuple(paths)
        self.sounds = tuple(sounds)
        self.parts = parts(self.paths)
        self.rate = rate
        self._times: dict[Path, AviTimes | None] = {}

    def packets(self) -> Iterator[TimedPacket]:
        """All packets in the order of their files, those of sound files between them.

        Raises:
            MediaError: a part cannot be read.
        """
        if not self.sounds:
            return self._part_packets()
        beside = [self._packets_beside(path, number) for number, path in enumerate(self.sounds, start=1)]
        return heapq.merge(self._part_packets(), *beside, key=lambda timed: timed.dts_s)

    def units(
        self,
        begin_s: Fraction = Fraction(0),
        end_s: Fraction | None = None,
        *,
        threads: bool = True,
        pictures: bool = True,
    ) -> Iterator[Unit]:
        """Pictures in the order of showing and sound between them, in about the order of time.

        Args:
            begin_s: units that end before may be left out.
            end_s: reading stops when everything before has been given.
            threads: whether processors share the work; what damaged pictures decode to can depend on who is first.
            pictures: whether they are decoded; else there is sound alone.

        Raises:
            MediaError: a part cannot be opened or read.
        """
        beside = [self._units_beside(path, number) for number, path in enumerate(self.sounds)]
        options = _DecodeOptions(threads, pictures)
        return heapq.merge(self._part_units(begin_s, end_s, options), *beside, key=lambda unit: unit.time_s)

    # -- parts ---------------------------------------------------------------------------------

    def _part_packets(self) -> Iterator[TimedPacket]:
        joint = _Joint(self.rate, self._picture_track)
        self.begins_s = []
        for part in self.parts:
            self.begins_s.append(joint.begins_s)
            joint.avi_times = self._avi_times(part)
            with opened(part) as media, decoding(part[0]):
                yield from joint.read(media, every_picture=self._every_picture)
            joint.end_part()
        self.ends_s = joint.ends_s

    def _part_units(self, begin_s: Fraction, end_s: Fraction | None, options: _DecodeOptions) -> Iterator[Unit]:
        joint = _Joint(self.rate, self._picture_track)
        self.begins_s = []
        for part in self.parts:
            self.begins_s.append(joint.begins_s)
            joint.avi_times = self._avi_times(part)
            if begin_s > 0 and len(self.parts) > 1 and self._ends_before(part, joint, begin_s):
                joint.end_part()
                continue
            with opened(part) as media, decoding(part[0]):
                joint.entered = begin_s > joint.begins_s and _seek(media, begin_s - joint.begins_s)
                yield from _Decoding(media, joint, end_s, options).units()
            joint.end_part()
            if end_s is not None and joint.begins_s >= end_s:
                return

    def _avi_times(self, part: Sequence[Path]) -> AviTimes | None:
        """See `avi_times`; a file is read for it once."""
        if part[0] not in self._times:
            self._times[part[0]] = avi_times(part)
        return self._times[part[0]]

    @staticmethod
    def _ends_before(part: Sequence[Path], joint: _Joint, begin_s: Fraction) -> bool:
        """Whether all of a part lies before a moment: its packets are read for that, and not decoded."""
        with opened(part) as media, decoding(part[0]):
            for _timed in joint.read(media):
                pass
        return joint.ends_s <= begin_s

    # -- files of sound alone ------------------------------------------------------------------

    def _packets_beside(self, path: Path, track: int) -> Iterator[TimedPacket]:
        with opened([path]) as media, decoding(path):
            stream = media.streams.audio[0]
            clock = _TrackClock(track, stream)
            clock.shift_s = -_start_s(stream)
            for packet in media.demux(stream):
                if packet.size:
                    yield clock.timed((packet,))

    def _units_beside(self, path: Path, track: int) -> Iterator[Unit]:
        with opened([path]) as media, decoding(path):
            stream = media.streams.audio[0]
            begin_s = _start_s(stream)
            for decoded in media.decode(stream):
                frame = sound_frame(decoded)
                yield Sound(track, frame, (frame.pts or 0) * Fraction(frame.time_base or 1) - begin_s)


def frame_length_s(frame: av.VideoFrame) -> Fraction:
    """How long a picture says that it is shown; nothing where it does not say."""
    return Fraction(frame.duration or 0) * Fraction(frame.time_base or 1)


def tracks_of(media: InputContainer, *, every_picture: bool = False, picture_track: int = 0) -> list[Stream]:
    """The picture and sound tracks that are taken along: one picture, sound, and further pictures if wanted."""
    pictures = picture_streams(media)
    if picture_track:
        pictures = pictures[picture_track:]
    return [*pictures[:1], *media.streams.audio, *(pictures[1:] if every_picture else ())]


def _start_s(stream: Stream) -> Fraction:
    return (stream.start_time or 0) * Fraction(stream.time_base or 1)


def _seek(media: InputContainer, begin_s: Fraction) -> bool:
    """Goes to the key picture before a moment; whether the file allowed that."""
    stream = tracks_of(media)[0]
    base = Fraction(stream.time_base or Fraction(1, 90_000))
    try:
        # Before the start too: transport streams are entered a little after the place that is asked for.
        seek_to_key(media, cast(VideoStream, stream), int((begin_s + _start_s(stream) - _BACK_S) / base))
    except av.error.FFmpegError:
        return False
    return True


class _Joint:
    """Where one part ends and the next begins; lives as long as the run is read."""

    def __init__(self, rate: Fraction | None, picture_track: int = 0) -> None:
        self.rate = rate
        self.picture_track = picture_track
        self.begins_s = Fraction(0)
        # Where the last picture ended, of a run that is not even.
        self._ends_s = Fraction(0)
        # Of an even run: the place of the part's first picture, the way there from the file's ticks, the last place.
        self._places: TickScale | None = None
        self._last_place = -1
        # The last packet of each sound track: where it ends, the track stands.
        self._last_sounds: dict[int, TimedPacket] = {}
        # Whether the part was entered in its middle: its first packet is not its first picture.
        self.entered = False
        # The sound tracks that were only cut where this part begins.
        self.runs_on: set[int] = set()
        # When its pictures are shown, where its container does not tell.
        self.avi_times: AviTimes | None = None

    @property
    def ends_s(self) -> Fraction:
        """Where the last picture so far ended."""
        if self.rate is not None and self._last_place >= 0:
            return (self._last_place + 1) / self.rate
        return self._ends_s

    def end_part(self) -> None:
        """The next part begins where the last picture ended."""
        self.begins_s = self.ends_s
        self.runs_on = set()

    def read(self, media: InputContainer, *, every_picture: bool = False) -> Iterator[TimedPacket]:
        """The packets of one part, on the run's clock."""
        tracks = tracks_of(media, every_picture=every_picture, picture_track=self.picture_track)
        clocks = {stream.index: _TrackClock(number, stream, self.rate) for number, stream in enumerate(tracks)}
        restarts: list[Fraction] = []
        shift_s = self.begins_s - _start_s(tracks[0])
        if self.rate is not None:
            self._places = TickScale(clocks[tracks[0].index].tick_s, shift_s, 1 / self.rate)
        context = cast(Any, tracks[0].codec_context)
        is_h264 = context is not None and context.codec.canonical_name == "h264"
        pairs = FieldPairs(context.extradata) if is_h264 else None
        first_field: av.Packet[Any] | None = None
        for packet in media.demux(tracks):
            if not packet.size:
                continue
            clock = clocks[packet.stream_index]
            clock.follow(packet, restarts)
            if clock.number == 0:
                if self.avi_times is not None:
                    self.avi_times.correct(packet)
                if pairs is not None and not pairs.never:
                    # A field waits for the other; what follows a whole picture shows that there is none.
                    if pairs.is_second(memoryview(packet)) and first_field is not None:
                        yield self._picture(clock, (first_field, packet), shift_s)
                        first_field = None
                        continue
                    if first_field is not None:
                        yield self._picture(clock, (first_field,), shift_s)
                    first_field = packet
                    continue
                yield self._picture(clock, (packet,), shift_s)
            else:
                yield self._sound(clock, packet, shift_s)
        if first_field is not None:
            yield self._picture(clocks[tracks[0].index], (first_field,), shift_s)

    def _picture(self, clock: _TrackClock, packets: tuple[av.Packet[Any], ...], shift_s: Fraction) -> TimedPacket:
        clock.shift_s = shift_s
        timed = clock.timed(packets)
        if self.rate is None or self._places is None:
            if not timed.hidden:
                self._ends_s = max(self._ends_s, timed.pts_s + timed.duration_s)
            return timed
        timed.pts, timed.dts, timed.duration = self._places(timed.pts), self._places(timed.dts), 1
        timed.tick_s, timed.shift_s = clock.picture_s, _AT_THE_BEGINNING
        if not timed.hidden and timed.pts > self._last_place:
            self._last_place = timed.pts
        return timed

    def on_its_place(self, time_s: Fraction) -> Fraction:
        """The place of a picture in an even run; where the rate varies, its own time."""
        if self.rate is None:
            return time_s
        return self.begins_s + Fraction(round((time_s - self.begins_s) * self.rate)) / self.rate

    def _sound(self, clock: _TrackClock, packet: av.Packet[Any], shift_s: Fraction) -> TimedPacket:
        if clock.begun:
            timed = clock.timed((packet,))
        else:
            clock.shift_s = shift_s
            timed = clock.timed((packet,))
            last = self._last_sounds.get(clock.number)
            apart_s = timed.pts_s - last.pts_s - last.duration_s if last is not None and not self.entered else None
            # Sound that was led up to began anew in this part; other sound was only cut.
            if (
                clock.rate
                and apart_s is not None
                and not packet.has_sidedata("skip_samples")
                and abs(apart_s) * clock.rate < _RUNS_ON_SAMPLES
            ):
                self.runs_on.add(clock.number)
                clock.shift_s -= apart_s
                timed.shift_s = clock.shift_s
            clock.begun = True
            timed.begins = clock.number not in self.runs_on
        self._last_sounds[clock.number] = timed
        return timed


class _TrackClock:
    """The times of one track of one part."""

    def __init__(self, number: int, stream: Stream, rate: Fraction | None = None) -> None:
        self.number = number
        self.picture_s = 1 / rate if rate is not None else Fraction(0)
        self.tick_s = Fraction(stream.time_base or Fraction(1, 90_000))
        context = cast(Any, stream.codec_context)
        self.rate = int(getattr(context, "sample_rate", 0) or 48_000) if stream.type == "audio" else 0
        self.shift_s = Fraction(0)
        self.begun = False
        self._ticks = 0
        self._next_dts = 0
        self._last_dts: int | None = None
        self._restarts_met = 0
        self._back = int(_BACK_S / self.tick_s)
        self._wraps = self.tick_s == Fraction(1, 90_000)

    def follow(self, packet: av.Packet[Any], restarts: list[Fraction]) -> None:
        """Straightens a clock that starts again: after 33 bits, or because the recording was cut together.

        Args:
            packet: the next of this track; its stamps are changed.
            restarts: by how many seconds the clock of the file went back so far; all tracks share them.
        """
        dts = packet.dts
        # The first ones of a container that stores no times of decoding have none; by when they are shown, they go
        # back whenever one is shown before another.
        if dts is not None and self._last_dts is not None:
            back = self._last_dts - (dts + self._ticks)
            if back > _WRAP // 2 and self._wraps:
                self._ticks += _WRAP
            elif back > self._back:
                if self._restarts_met == len(restarts):
                    restarts.append((back + (packet.duration or 0)) * self.tick_s)
                self._ticks += round(restarts[self._restarts_met] / self.tick_s)
                self._restarts_met += 1
        if self._ticks:
            packet.dts = dts + self._ticks if dts is not None else None
            packet.pts = packet.pts + self._ticks if packet.pts is not None else None
        if dts is not None:
            self._last_dts = dts + self._ticks

    def timed(self, packets: tuple[av.Packet[Any], ...]) -> TimedPacket:
        """Packets with their times; where a camera left one out, they follow right after the ones before."""
        first, length = packets[0], sum(packet.duration or 0 for packet in packets)
        dts = first.dts if first.dts is not None else first.pts
        dts = self._next_dts if dts is None else dts
        pts = first.pts if first.pts is not None else dts
        self._next_dts = dts + length
        return TimedPacket(self.number, packets, pts, dts, length, self.tick_s, self.shift_s, first.is_discard)


@dataclass(frozen=True, slots=True)
class _DecodeOptions:
    """How parts are decoded; see `Run.units`."""

    threads: bool
    pictures: bool


@dataclass(slots=True)
class _Decoding:
    """One part, decoded. Pictures whose packets were read and that never come out are missing."""

    media: InputContainer
    joint: _Joint
    end_s: Fraction | None
    options: _DecodeOptions
    _awaited: list[Fraction] = field(default_factory=list)
    # What a frame's own stamp becomes on the run's clock, by track: known with the first packet of each.
    _shifts_s: dict[int, Fraction] = field(default_factory=dict)
    # Where a picture without a stamp belongs: right after the one before.
    _next_s: Fraction = Fraction(0)
    _shown_s: Fraction = Fraction(-1)
    _heard: set[int] = field(default_factory=set)

    def units(self) -> Iterator[Unit]:
        """Everything, until the end that was asked for."""
        tracks = tracks_of(self.media, picture_track=self.joint.picture_track)
        context = decoder_of(cast(VideoStream, tracks[0]))
        if context is None:
            path = Path(self.media.name)
            raise MediaError(
                f"{shown(path.name)} holds pictures in a codec that nothing here knows.",
                path=path,
                safe="The original is untouched.",
                do="Keep the original, and open it with a program that knows it.",
            )
        if self.options.threads:
            use_processors(context)
        else:
            context.thread_type = "NONE"
        self._next_s = self.joint.begins_s
        done: set[int] = set()
        for timed in self.joint.read(self.media):
            packet = timed.packets[0]
            if packet.pts is not None:
                own_s = packet.pts * Fraction(packet.time_base or 1)
                if timed.track or self.joint.rate is None:
                    self._shifts_s[timed.track] = timed.pts_s - own_s
                else:
                    self._shifts_s.setdefault(0, timed.pts_s - own_s)
            if timed.track == 0 and not self.options.pictures:
                continue
            if timed.track == 0 and not timed.hidden and packet.pts is not None:
                self._await(timed.pts_s)
            for each in timed.packets:
                yield from self._decoded(each, timed.track)
            if self.end_s is not None and timed.dts_s >= self.end_s:
                done.add(timed.track)
                # A track that is silent for long is not waited for.
                if len(done) == len(tracks) or (timed.track == 0 and timed.dts_s >= self.end_s + _BACK_S):
                    break
        for number, stream in enumerate(tracks):
            # An empty packet asks for what is still held; what does not come is missing, and told so below.
            rest: av.Packet[Any] = av.Packet()
            rest.stream, rest.time_base = stream, stream.time_base or Fraction(1)
            yield from self._decoded(rest, number)
        yield from self._missing_before(self.end_s)

    def _await(self, time_s: Fraction) -> None:
        """Where stamps overlap, two pictures have one place: one of them is enough."""
        if time_s > self._shown_s and time_s not in self._awaited:
            heapq.heappush(self._awaited, time_s)

    def _decoded(self, packet: av.Packet[Any], track: int) -> Iterator[Unit]:
        try:
            frames = packet.decode()
        except av.error.FFmpegError:
            # One that does not decode takes no other with it; it is missed when later ones come out.
            return
        for frame in frames:
            yield from self._unit(frame, track)

    def _unit(self, frame: Any, track: int) -> Iterator[Unit]:
        if isinstance(frame, av.VideoFrame):
            time_s = self._next_s
            if frame.pts is not None:
                time_s = self.joint.on_its_place(self._time_of(frame, 0))
            self._next_s = time_s + (1 / self.joint.rate if self.joint.rate else frame_length_s(frame))
            yield from self._missing_before(time_s)
            self._shown_s = max(self._shown_s, time_s)
            if self._awaited and self._awaited[0] == time_s:
                heapq.heappop(self._awaited)
            yield Picture(frame, time_s, frame.is_corrupt, frame_length_s(frame))
        elif isinstance(frame, av.AudioFrame):
            begins = track not in self._heard and track not in self.joint.runs_on
            self._heard.add(track)
            yield Sound(track - 1, sound_frame(frame), self._time_of(frame, track), begins)

    def _time_of(self, frame: av.VideoFrame | av.AudioFrame, track: int) -> Fraction:
        own_s = (frame.pts or 0) * Fraction(frame.time_base or 1)
        return own_s + self._shifts_s.get(track, self.joint.begins_s)

    def _missing_before(self, time_s: Fraction | None) -> Iterator[Unit]:
        while self._awaited and (time_s is None or self._awaited[0] < time_s):
            yield Missing(heapq.heappop(self._awaited))
