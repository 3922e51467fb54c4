"""Rewrapping and joining: the same packets in another container, and the proof that they are the same."""

from __future__ import annotations

import math
import time
from collections.abc import Sequence
from contextlib import ExitStack
from dataclasses import dataclass
from fractions import Fraction
from pathlib import Path
from typing import Any, cast

import av
from av.container import OutputContainer
from av.stream import Stream

from diadoche.core.codecnames import spoken_codec
from diadoche.core.convert.check import Checks, Decoded, compare, decode_all
from diadoche.core.convert.outputs import Output, withheld
from diadoche.core.convert.proof import TrackDigest
from diadoche.core.convert.sound import PcmTrack, SampleDigest
from diadoche.core.convert.targets import muxing, new_file, output_name
from diadoche.core.errors import MediaError, Problem, RequestError
from diadoche.core.identify.facts import Facts
from diadoche.core.media import decoding, opened
from diadoche.core.names import shown
from diadoche.core.spans import TimedPacket, packets, parts, tracks_of
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
        RequestError: an unknown container, or the originals' own folder.
        MediaError: the source cannot be read.
        TargetError: the output cannot be written.
        Cancelled: nothing is left behind.
    """
    if container not in CONTAINERS:
        raise RequestError(f"Nothing can be rewrapped to {container}.", do=f"Choose from {', '.join(CONTAINERS)}.")
    if not facts.video:
        raise MediaError(f"{paths[0].name} holds no picture.", path=paths[0], safe="It is untouched.", do="Nothing.")
    began_s = time.monotonic()
    sources = tuple(str(path) for path in (*paths, *sounds))
    expected = facts.frames or 1
    name = output_name(camera, facts.start, paths[0].stem, container)
    with new_file(folder, name, facts.size_bytes, (*paths, *sounds)) as made:
        source = _Source(tuple(paths), tuple(sounds), facts)
        digests = _copy_packets(source, made.part, container, Share(watch, 0, 0.2 if decode_check else 1), expected)
        pictures = digests[0].value()[0]
        proof = _prove(source, made.part, digests, watch if decode_check else None)
        size = made.part.stat().st_size
        made.withheld = not proof.passed
    delivered = not made.withheld
    return Output(
        sources,
        str(made.final) if delivered else "",
        f"rewrap-{container}",
        pictures,
        pictures if delivered else 0,
        proof.checks,
        proof.packets,
        proof.pictures,
        size if delivered else 0,
        facts.size_bytes,
        time.monotonic() - began_s,
        proof.problems if delivered else (withheld(name, proof.failures()),),
    )


@dataclass(frozen=True, slots=True)
class _Source:
    """What is rewrapped: the spans, the sound files beside them, and what both hold."""

    paths: tuple[Path, ...]
    sounds: tuple[Path, ...]
    facts: Facts


@dataclass(frozen=True, slots=True)
class _Proof:
    """What was found when the output was read back; None where nobody looked."""

    packets: bool
    pictures: bool | None = None
    checks: Checks | None = None
    problems: tuple[Problem, ...] = ()

    @property
    def passed(self) -> bool:
        return self.packets and self.pictures is not False and (self.checks is None or self.checks.passed)

    def failures(self) -> str:
        return (self.checks.failures() if self.checks else "") or "packets or pictures differ"


def _prove(source: _Source, part: Path, digests: list[TrackDigest | SampleDigest], watch: Watch | None) -> _Proof:
    identical = _read_back(part, digests)
    if watch is None:
        return _Proof(identical)
    before, output = _decoded(source, part, watch)
    same = before.digest == output.digest
    problems: tuple[Problem, ...] = ()
    if not before.clean and same:
        # Nothing was damaged here: the same packets give the same damaged pictures.
        output.clean = True
        problems = (_damaged_original(source.paths[0]),)
    rate = source.facts.video[0].frame_rate
    return _Proof(identical, same, compare(before, output, rate, frames_wanted=before.pictures), problems)


def _decoded(source: _Source, part: Path, watch: Watch) -> tuple[Decoded, Decoded]:
    """What the original and the output decode to."""
    for threads, again in ((True, ""), (False, " again")):
        before = decode_all(
            source.paths,
            Share(watch, 0.2, 0.6),
            source.facts.frames or 1,
            f"checking the original{again}",
            threads=threads,
            sounds=source.sounds,
        )
        output = decode_all(
            [part], Share(watch, 0.6, 1), source.facts.frames or 1, f"checking the output{again}", threads=threads
        )
        # Damaged pictures decode the same every time only where one follows the other.
        if before.digest == output.digest:
            break
    return before, output


def _damaged_original(path: Path) -> Problem:
    return Problem(
        f"{shown(path.name)} has damaged pictures in the original; the output has the same ones.",
        str(path),
        "Nothing was lost or added.",
        "Look at the clip where it breaks up before it is cut.",
    )


def _copy_packets(
    source: _Source, part: Path, container: str, watch: Watch, expected: int
) -> list[TrackDigest | SampleDigest]:
    options = {"write_tmcd": "1"} if container in {"mov", "mp4"} else {}
    with muxing(part, container, options) as target:
        with ExitStack() as files:
            media = files.enter_context(opened(parts(source.paths)[0]))
            apart = [files.enter_context(opened([path])).streams.audio[0] for path in source.sounds]
            tracks = [
                _Track(target, stream, source.facts, number, container)
                for number, stream in enumerate([*tracks_of(media), *apart])
            ]
            write_dates(target, tracks[0].stream, source.facts)
        pictures = 0
        for timed in packets(source.paths, source.sounds):
            tracks[timed.track].put(target, timed)
            if timed.track == 0:
                pictures += 1
                watch.step(Progress(min(pictures, expected), expected, "rewrapping"))
        for track in tracks:
            track.flush(target)
    return [track.digest for track in tracks]


def write_dates(target: OutputContainer, video: Stream, facts: Facts) -> None:
    """Date and timecode of the recording, where the container can hold them."""
    if facts.start is not None:
        target.metadata["creation_time"] = facts.start.isoformat()
    label, rate = facts.video[0].timecode, facts.video[0].frame_rate
    if label is None:
        return
    try:
        video.metadata["timecode"] = str(Timecode.parse(label, rate))
    except ValueError:
        # A camera's label may be nonsense at this rate, such as drop-frame at 25; it stays in the stream.
        if not may_drop(rate):
            video.metadata["timecode"] = label.replace(";", ":")


class _Track:
    """One track on its way: copied as it is, or, for disc-style PCM, turned into plain PCM."""

    def __init__(self, target: OutputContainer, source: Stream, facts: Facts, number: int, container: str) -> None:
        codec = codec_of(source, facts.path)
        self.digest: TrackDigest | SampleDigest
        self._pcm: PcmTrack | None = None
        self._next_dts: int | None = None
        # A coarser clock of the target must still tell two packets apart; for sound that is one sample.
        rate = facts.audio[number - 1].sample_rate if number else 90_000
        self._step = max(1, math.ceil(1 / (rate * Fraction(source.time_base or Fraction(1, 90_000)))))
        if number and not _holds(container, codec):
            self._pcm = PcmTrack(target, facts.audio[number - 1], aligned=False)
            self.stream: Stream = self._pcm.stream
            self.digest = self._pcm.digest
        else:
            self.stream = _copied_stream(target, source, facts, container)
            self.digest = TrackDigest(codec, source.codec_context.extradata)
        if number == 0 and facts.video[0].frame_rate_mode == "constant":
            # The muxer takes the rate of the timecode track from this clock; every picture lies on it.
            self.stream.time_base = 1 / facts.video[0].frame_rate

    def put(self, target: OutputContainer, timed: TimedPacket) -> None:
        """Writes one packet."""
        if self._pcm is not None:
            for frame in timed.packet.decode():
                # A decoder leaves out what only led up to the sound, and then begins later than its packet.
                later = frame.pts - timed.packet.pts if frame.pts is not None and timed.packet.pts is not None else 0
                begin_s = (timed.pts + later) * timed.tick_s
                for sound in self._pcm.encode(cast(av.AudioFrame, frame), begin_s):
                    target.mux(sound)
            return
        packet = timed.packet
        assert isinstance(self.digest, TrackDigest)
        self.digest.take(bytes(packet))
        # Decoding times must rise; a stream that repeats one is moved on by a tick, and its packets stay.
        packet.dts = timed.dts if self._next_dts is None else max(timed.dts, self._next_dts)
        packet.pts = max(timed.pts, packet.dts)
        self._next_dts = packet.dts + self._step
        packet.stream = self.stream
        target.mux(packet)

    def flush(self, target: OutputContainer) -> None:
        """Writes what is still held."""
        if self._pcm is not None:
            for packet in self._pcm.flush():
                target.mux(packet)


def _holds(container: str, sound: str) -> bool:
    """Whether sound stays as it is in a container."""
    if sound in _PCM_OF_DISCS:
        return False
    if sound.startswith("pcm_"):
        return container in _PLAIN_PCM_HELD
    return container not in _HELD_AS_IT_IS or sound in _HELD_AS_IT_IS[container]


def _copied_stream(target: OutputContainer, source: Stream, facts: Facts, container: str) -> Stream:
    try:
        return target.add_stream_from_template(source, opaque=True)
    except ValueError as error:
        codec = spoken_codec(codec_of(source, facts.path))
        raise MediaError(
            f"{shown(Path(facts.path).name)}: {codec} cannot be put into {container.upper()}.",
            path=facts.path,
            safe="The original is untouched; nothing was written.",
            do="Choose another container, or convert it.",
        ) from error


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


def _read_back(part: Path, digests: list[TrackDigest | SampleDigest]) -> bool:
    """Whether the output gives back the same packets, each container's framing undone, and the same samples."""
    with opened([part]) as media, decoding(part):
        tracks = tracks_of(media)
        if len(tracks) != len(digests):
            return False
        again: list[TrackDigest | SampleDigest] = [
            SampleDigest()
            if isinstance(digest, SampleDigest)
            else TrackDigest(codec_of(stream, str(part)), stream.codec_context.extradata)
            for stream, digest in zip(tracks, digests, strict=True)
        ]
        place = {stream.index: number for number, stream in enumerate(tracks)}
        for packet in media.demux(tracks):
            taker = again[place[packet.stream_index]]
            if isinstance(taker, TrackDigest):
                if packet.size:
                    taker.take(bytes(packet))
                continue
            for frame in packet.decode():
                taker.take(frame.to_ndarray())  # type: ignore[arg-type,union-attr]  # sound frames
    return all(mine.value() == theirs.value() for mine, theirs in zip(digests, again, strict=True))
