"""Rewrapping and joining: the same packets in another container, and the proof that they are the same."""

from __future__ import annotations

import heapq
import itertools
import time
from collections.abc import Sequence
from dataclasses import dataclass, field
from fractions import Fraction
from pathlib import Path
from typing import Any, cast

import av
from av.container import OutputContainer
from av.stream import Stream

from diadoche.core.codecnames import spoken_codec
from diadoche.core.convert.check import Checks, Finding
from diadoche.core.convert.comparing import Comparison, compare_decoded
from diadoche.core.convert.kept_boxes import Kept, is_all_there, what_to_keep, write_kept
from diadoche.core.convert.outputs import Output, withheld
from diadoche.core.convert.proof import TrackDigest
from diadoche.core.convert.sound import PLAIN, PcmTrack, SampleDigest, Samples
from diadoche.core.convert.source_index import source_instants
from diadoche.core.convert.targets import muxing, new_file, output_name
from diadoche.core.errors import MediaError, Problem, RequestError, writing
from diadoche.core.identify.facts import Facts, VideoFacts
from diadoche.core.media import decoding, opened
from diadoche.core.names import shown
from diadoche.core.run import Run, TickScale, TimedPacket, tracks_of
from diadoche.core.timecode import Timecode, may_drop
from diadoche.core.watch import Progress, Share, Watch

CONTAINERS = ("mov", "mp4", "mkv")
# Disc-style linear PCM and the like exist in transport streams only.
_PCM_OF_DISCS = {"pcm_bluray", "pcm_dvd", "s302m"}
# Sound that a container holds as it is, by the tags that FFmpeg's muxers know; other sound becomes plain PCM.
_HELD_BY_BOTH = {"aac", "ac3", "eac3", "alac", "mp1", "mp2", "mp3", "amr_nb", "amr_wb"}
_HELD_AS_IT_IS = {
    "mov": _HELD_BY_BOTH | {"adpcm_ms", "adpcm_ima_wav", "gsm"},
    "mp4": _HELD_BY_BOTH | {"dts", "flac", "opus", "vorbis", "truehd"},
}
_PLAIN_PCM_HELD = {"mov", "mkv"}
_ISO = {"mov", "mp4"}
# Parameter sets stand in the head alone, as editing programs want them [14496-15, 8.4.1].
_HEVC_TAG = "hvc1"
_REORDERING_SEEN = 300
_MOST_FINDINGS = 200


def rewrap(
    paths: Sequence[Path],
    facts: Facts,
    folder: Path,
    watch: Watch,
    *,
    container: str = "mov",
    camera: str = "",
    decode_check: bool = True,
    sounds: Sequence[Path] = (),
) -> Output:
    """Puts the picture and sound of a clip into another container, joining its spans.

    Raises:
        RequestError: an unknown container, the originals' own folder, or what this container cannot hold.
        MediaError: the source cannot be read.
        TargetError: the output cannot be written.
        Cancelled: nothing is left behind.
    """
    if container not in CONTAINERS:
        raise RequestError(f"Nothing can be rewrapped to {container}.", do=f"Choose from {', '.join(CONTAINERS)}.")
    if not facts.video:
        raise MediaError(f"{paths[0].name} holds no picture.", path=paths[0], safe="It is untouched.", do="Nothing.")
    began_s = time.monotonic()
    video = facts.video[0]
    run = Run(paths, video.frame_rate if video.frame_rate_mode == "constant" else None, sounds, every_picture=True)
    sources = tuple(str(path) for path in (*paths, *sounds))
    name = output_name(camera, facts.start, paths[0].stem, container)
    with new_file(folder, name, facts.size_bytes, (*paths, *sounds)) as made:
        copying = _Copying(run, facts, container)
        copying.write(made.part, Share(watch, 0, 0.2 if decode_check else 1))
        copying.finish(made.part)
        proof = _prove(copying, made.part, Share(watch, 0.2, 1) if decode_check else None)
        size = made.part.stat().st_size
        made.withheld = not proof.passed
    delivered = not made.withheld
    return Output(
        sources,
        str(made.final) if delivered else "",
        f"rewrap-{container}",
        copying.pictures,
        (proof.decoded if proof.decoded is not None else copying.pictures) if delivered else 0,
        proof.checks,
        proof.packets,
        proof.pictures,
        size if delivered else 0,
        facts.size_bytes,
        time.monotonic() - began_s,
        (*copying.problems(name), *proof.problems) if delivered else (proof.why_withheld(name),),
        proof.findings,
    )


@dataclass(frozen=True, slots=True)
class _Proof:
    """What was found when the output was read back; None where nobody looked."""

    packets: bool
    in_step: bool
    data: bool
    pictures: bool | None = None
    decoded: int | None = None
    checks: Checks | None = None
    problems: tuple[Problem, ...] = ()
    findings: tuple[Finding, ...] = ()

    @property
    def passed(self) -> bool:
        decodes = self.pictures is not False and (self.checks is None or self.checks.passed)
        return self.packets and self.in_step and self.data and decodes

    def why_withheld(self, name: str) -> Problem:
        told = [] if self.data else ["data tracks differ"]
        told += [*([] if self.packets else ["packets differ"]), *([] if self.in_step else ["pictures are out of step"])]
        told += ["pictures differ"] if self.pictures is False else []
        told += [self.checks.failures()] if self.checks is not None and not self.checks.passed else []
        return withheld(name, ", ".join(told), self.findings)


def _prove(copying: _Copying, part: Path, watch: Watch | None) -> _Proof:
    back = copying.read_back(part)
    wrong = copying.out_of_step(back.instants_s)
    data = copying.keeps_data(part)
    if watch is None:
        return _Proof(back.equal, not wrong, data, findings=wrong)
    found = compare_decoded(copying.run, part, copying.facts.frames or 1, copying.as_pcm, watch)
    rate = copying.facts.video[0].frame_rate
    checks = Checks(
        frames=found.pictures_in == found.pictures_out > 0,
        duration=abs(found.ends_in_s - found.ends_out_s) <= max(back.tick_s, 1 / rate / 2),
        sync=not wrong and found.sound_in_step,
        decodes=found.pictures_out > 0 and found.damaged_out <= found.damaged_in,
    )
    problems = (_damaged_original(copying, found),) if found.damaged_in else ()
    return _Proof(
        back.equal,
        not wrong,
        data,
        found.same_pictures,
        found.pictures_out,
        checks,
        problems,
        (*wrong, *found.findings),
    )


def _damaged_original(copying: _Copying, found: Comparison) -> Problem:
    path = copying.run.paths[0]
    return Problem(
        f"{shown(path.name)} has damaged pictures in the original: {found.damaged_in} of {copying.pictures} do not "
        f"decode as they should, the first at {float(found.first_damaged_s):.2f} s; the output has the same ones.",
        str(path),
        "Nothing was lost or added.",
        "Look at the clip where it breaks up before it is cut.",
    )


@dataclass(frozen=True, slots=True)
class _ReadBack:
    """What an output holds when its packets are read again."""

    equal: bool
    instants_s: list[Fraction]
    tick_s: Fraction


class _Copying:
    """The packets of a clip on their way into another container, and what is known of them afterwards."""

    def __init__(self, run: Run, facts: Facts, container: str) -> None:
        self.run = run
        self.facts = facts
        self._container = container
        self._tracks: list[_Track] = []
        self.pictures = 0
        self._hidden = 0
        # Tracks and boxes that no muxer takes along; between ISO base media alone.
        self.kept = Kept()
        self._unjoined: list[int] = []

    @property
    def as_pcm(self) -> frozenset[int]:
        """The sound tracks, counted from 0, that became plain PCM."""
        return frozenset(place - 1 for place, track in enumerate(self._tracks) if track.is_pcm)

    def write(self, part: Path, watch: Watch) -> None:
        """Writes everything.

        Raises:
            MediaError: the source cannot be read, or the container does not take a track.
        """
        expected = self.facts.frames or 1
        if self._keeps_boxes:
            self.kept = what_to_keep(self.run.paths, [Fraction(0)] * len(self.run.paths))
        options = {"write_tmcd": str(int(not self.kept.has_timecode))} if self._container in _ISO else {}
        unjoinable = _sound_that_begins_anew(self.run)
        self._unjoined = sorted(unjoinable)
        with muxing(part, self._container, options) as target:
            with opened(self.run.parts[0]) as media:
                streams = tracks_of(media, every_picture=True)
                depth = _reordering(self.run.parts[0])
                self._tracks = [
                    _Track(target, stream, self.facts, number, self._container, depth, as_pcm=number - 1 in unjoinable)
                    for number, stream in enumerate(streams)
                ]
            for number, path in enumerate(self.run.sounds, start=1):
                with opened([path]) as media:
                    self._tracks.append(
                        _Track(target, media.streams.audio[0], self.facts, number, self._container, 0, as_pcm=False)
                    )
            write_dates(target, self._tracks[0].stream, self.facts, with_timecode=not self.kept.has_timecode)
            for timed in self.run.packets():
                if timed.track >= len(self._tracks):
                    raise _another_track(self.run.paths[0])
                if timed.track == 0:
                    self._count(timed)
                    watch.step(Progress(min(self.pictures, expected), expected, "rewrapping"))
                self._tracks[timed.track].put(target, timed)
            for track in self._tracks:
                track.flush(target)

    @property
    def _keeps_boxes(self) -> bool:
        single = all(len(part) == 1 for part in self.run.parts)
        return self._container in _ISO and single and self.facts.container in {"MP4", "MOV"}

    def finish(self, part: Path) -> None:
        """Adds what no muxer takes along.

        Raises:
            OSError: a sample cannot be read, or the output not written.
        """
        if not self._keeps_boxes:
            return
        self.kept = what_to_keep(self.run.paths, self.run.begins_s)
        with writing(part):
            write_kept(part, self.kept)

    def keeps_data(self, part: Path) -> bool:
        """Whether the output holds what no muxer takes along, to the byte."""
        return not self._keeps_boxes or is_all_there(part, self.kept)

    def _count(self, timed: TimedPacket) -> None:
        self.pictures += not timed.hidden
        self._hidden += timed.hidden
        if timed.hidden and (self._container == "mkv" or timed.pts_s >= 0):
            held = "Matroska has no list for that" if self._container == "mkv" else "they lie between others"
            raise RequestError(
                f"The edit list of {shown(self.run.paths[0].name)} hides pictures, and {held}.",
                path=self.run.paths[0],
                safe="The original is untouched; nothing was written.",
                do="Rewrap it to MOV, or convert it.",
            )

    def read_back(self, part: Path) -> _ReadBack:
        """Reads every packet of the output: whether they are the same, each container's framing undone."""
        instants: list[Fraction] = []
        with opened([part]) as media, decoding(part):
            tracks = tracks_of(media, every_picture=True)
            tick_s = Fraction(tracks[0].time_base or 1)
            if len(tracks) != len(self._tracks):
                return _ReadBack(False, instants, tick_s)
            again: list[TrackDigest | SampleDigest] = [
                SampleDigest()
                if track.is_pcm
                else TrackDigest(codec_of(stream, str(part)), cast(Any, stream.codec_context).extradata)
                for stream, track in zip(tracks, self._tracks, strict=True)
            ]
            place = {stream.index: number for number, stream in enumerate(tracks)}
            for packet in media.demux(tracks):
                number = place[packet.stream_index]
                taker = again[number]
                if isinstance(taker, TrackDigest):
                    if packet.size:
                        taker.take(bytes(packet))
                        if number == 0 and packet.pts is not None and not packet.is_discard:
                            instants.append(packet.pts * tick_s)
                    continue
                for frame in packet.decode():
                    taker.take(cast(Samples, frame.to_ndarray()))  # type: ignore[union-attr]  # sound frames
        equal = all(mine.digest.value() == theirs.value() for mine, theirs in zip(self._tracks, again, strict=True))
        return _ReadBack(equal, sorted(instants), tick_s)

    def out_of_step(self, instants_s: list[Fraction]) -> tuple[Finding, ...]:
        """Where a picture of the output stands at another time than in the source, whose own stamps are asked."""
        rate = self.facts.video[0].frame_rate
        there = source_instants(self.run.paths, rate)
        if len(instants_s) != self.pictures:
            words = f"{len(instants_s)} pictures are in it, not {self.pictures}"
            return (Finding("out of step", 0, 0.0, words),)
        if there is None:
            return ()
        if len(there) == 2 * len(instants_s):
            # Each field had a stamp of its own.
            there = there[::2]
        if len(there) != len(instants_s):
            return (Finding("out of step", 0, 0.0, f"{len(there)} pictures are coded, not {len(instants_s)}"),)
        half_s = 0.5 / float(rate)
        return tuple(
            Finding("out of step", number, float(mine), f"it was shown at {theirs:.3f} s")
            for number, (mine, theirs) in enumerate(zip(instants_s, there, strict=True))
            if abs(float(mine - instants_s[0]) - theirs) > half_s
        )[:_MOST_FINDINGS]

    def problems(self, name: str) -> list[Problem]:
        """What a person should know of an output that is right."""
        found = []
        lost = self.kept.lost if self._keeps_boxes else tuple(self.facts.data)
        if not self._keeps_boxes and self.facts.video[0].timecode:
            # The label is written anew, where the container has a place for it.
            lost = tuple(each for each in lost if each != "timecode")
        if lost:
            found.append(
                Problem(
                    f"{self._container.upper()} made from {self.facts.container} cannot hold {', '.join(lost)}: "
                    f"{name} goes without.",
                    name,
                    "The original keeps everything.",
                    "Keep the original beside it if that is needed.",
                )
            )
        if self._unjoined:
            tracks = ", ".join(str(number + 1) for number in self._unjoined)
            found.append(
                Problem(
                    f"Sound track {tracks} of {name} is plain PCM: each part of the clip began its sound anew, and its "
                    "packets cannot follow each other to the sample.",
                    name,
                    "Every sample stands at its place.",
                    "Nothing needs doing.",
                )
            )
        return found


def _another_track(path: Path) -> MediaError:
    return MediaError(
        f"A later part of {shown(path.name)} has more tracks than the first.",
        path=path,
        safe="The originals are untouched; nothing was written.",
        do="Rewrap the parts one by one.",
    )


def _sound_that_begins_anew(run: Run) -> set[int]:
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


def _reordering(part: Sequence[Path]) -> int:
    """By how many pictures the order of coding runs ahead of that of showing, at most."""
    with opened(part) as media, decoding(part[0]):
        picture = tracks_of(media)[0]
        packets = (packet for packet in media.demux(picture) if packet.size and packet.pts is not None)
        stamps = [packet.pts or 0 for packet in itertools.islice(packets, _REORDERING_SEEN)]
    deepest = 0
    later: list[int] = []
    for stamp in stamps:
        later = [each for each in later if each > stamp]
        deepest = max(deepest, len(later))
        later.append(stamp)
    return deepest


def write_dates(target: OutputContainer, video: Stream, facts: Facts, *, with_timecode: bool = True) -> None:
    """Date and timecode of the recording, where the container can hold them."""
    if facts.start is not None:
        target.metadata["creation_time"] = facts.start.isoformat()
    label, rate = facts.video[0].timecode, facts.video[0].frame_rate
    if label is None or not with_timecode:
        return
    try:
        video.metadata["timecode"] = str(Timecode.parse(label, rate))
    except ValueError:
        # A camera's label may be nonsense at this rate, such as drop-frame at 25; it stays in the stream.
        if not may_drop(rate):
            video.metadata["timecode"] = label.replace(";", ":")


@dataclass(slots=True)
class _CodingTimes:
    """When pictures are to be decoded, from when they are shown: those times alone are exact in every container."""

    depth: int
    step: int
    _shown: list[int] = field(default_factory=list)
    _waiting: int = 0
    _last: int | None = None

    def next(self, shown: int) -> int:
        """The decoding time of the next picture in the order of coding; both in ticks."""
        heapq.heappush(self._shown, shown)
        if self._waiting < self.depth:
            # So many are decoded before the first one is shown.
            wanted = self._shown[0] - (self.depth - self._waiting) * self.step
            self._waiting += 1
        else:
            wanted = heapq.heappop(self._shown)
            wanted = min(wanted, shown)
        self._last = wanted if self._last is None else max(wanted, self._last + 1)
        return self._last


class _Track:
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
        self.digest: TrackDigest | SampleDigest
        self._pcm: PcmTrack | None = None
        self._times: _CodingTimes | None = None
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
            encoder = codec if plain else ""
            self._pcm = PcmTrack(target, facts.audio[number - 1], number - 1, aligned=False, encoder=encoder)
            self.stream: Stream = self._pcm.stream
            self.digest = self._pcm.digest
            self._tick_s = Fraction(1, self._pcm.rate)
            return
        self.stream = _copied_stream(target, source, facts, container)
        self.digest = TrackDigest(codec, cast(Any, source.codec_context).extradata)
        self._tick_s = _tick_of(source, number, facts)
        self.stream.time_base = self._tick_s
        if number == 0 and video.frame_rate_mode == "constant":
            self._times = _CodingTimes(depth, round(1 / video.frame_rate / self._tick_s))

    @property
    def is_pcm(self) -> bool:
        """Whether it becomes plain PCM."""
        return self._pcm is not None

    def put(self, target: OutputContainer, timed: TimedPacket) -> None:
        """Writes one packet, or the two fields of a picture as one."""
        if self._pcm is not None:
            self._begins = self._begins or timed.begins
            self._decode(target, self._pcm, timed)
            return
        assert isinstance(self.digest, TrackDigest)
        packet = timed.packets[0] if len(timed.packets) == 1 else _one_packet(timed)
        self.digest.take(bytes(packet))
        packet.time_base = self._tick_s
        if self._scale is None or timed.shift_s != self._scaled_from:
            self._scale = TickScale(timed.tick_s, timed.shift_s, self._tick_s)
            self._length = TickScale(timed.tick_s, Fraction(0), self._tick_s)
            self._scaled_from = timed.shift_s
        packet.pts = self._scale(timed.pts)
        dts = self._times.next(packet.pts) if self._times is not None else self._scale(timed.dts)
        if self._last_dts is not None:
            # Decoding times must rise; a stream that repeats one is moved on by a tick, and its packets stay.
            dts = max(dts, self._last_dts + 1)
        packet.dts, packet.pts = dts, max(packet.pts, dts)
        packet.duration = self._length(timed.duration)
        self._last_dts = dts
        packet.stream = self.stream
        target.mux(packet)

    def _decode(self, target: OutputContainer, pcm: PcmTrack, timed: TimedPacket) -> None:
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
            for sound in pcm.encode(cast(av.AudioFrame, frame), timed.pts_s + later_s, begins=self._begins):
                target.mux(sound)
            # The first packet of a part may only lead up to its sound: the first frame is what begins it.
            self._begins = False

    def flush(self, target: OutputContainer) -> None:
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
    packet: av.Packet[Any] = av.Packet(timed.data)
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
    if codec == "hevc" and container in {"mov", "mp4"}:
        cast(Any, stream.codec_context).codec_tag = _HEVC_TAG
    return stream


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
