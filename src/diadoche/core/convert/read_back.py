"""An output of copied packets is read again, packet by packet: whether they are those of its source, and when shown.

Boxes are read by their tables here, without the media library that wrote them; unless the instants of the source are
read by the same tables, which would then agree with themselves.
"""

from __future__ import annotations

import os
from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from fractions import Fraction
from pathlib import Path
from typing import Any, Protocol, cast

import av
import numpy as np
from av.container import InputContainer
from av.stream import Stream
from av.video.stream import VideoStream

from diadoche.core.boxes import find, is_fragmented, movie_payload
from diadoche.core.convert.copied_track import CopiedTrack, codec_of
from diadoche.core.convert.packet_fingerprints import FingerprintReader, PacketFingerprints
from diadoche.core.convert.picture_head import PictureHead
from diadoche.core.convert.proof import TrackDigest
from diadoche.core.convert.sound import SampleDigest, Samples
from diadoche.core.convert.source_index import Instants
from diadoche.core.diskfiles import unseen_file
from diadoche.core.errors import writing
from diadoche.core.identify.container import container_of
from diadoche.core.media import decoding, opened, samples_of, sound_frame, sound_layouts
from diadoche.core.run import Run, tracks_of
from diadoche.core.sampletable import SamplePlaces, sample_places, sample_table

_ISO = {"MP4", "MOV"}


@dataclass(frozen=True, slots=True)
class ReadBack:
    """What an output holds.

    `instants_s` are those of its pictures, in the order of coding; `layouts` what it says that its sound channels are.
    `decoded_otherwise` and `shown_otherwise` is what it says of its pictures that its source does not say.
    """

    equal: bool
    instants_s: Instants
    tick_s: Fraction
    layouts: list[str]
    decoded_otherwise: tuple[str, ...] = ()
    shown_otherwise: tuple[str, ...] = ()


class _PacketReader(Protocol):
    """Takes the packets of one track of an output."""

    def take(self, data: bytes | memoryview) -> None:
        """The next one."""

    @property
    def is_equal(self) -> bool:
        """Whether they are those of the source."""


def read_back(part: Path, tracks: Sequence[CopiedTrack], run: Run) -> ReadBack:
    """Reads every packet of an output.

    Args:
        part: the output.
        tracks: as they were written, in their order.
        run: the source; it is read again where what was noted of its packets does not settle whether they are the same.

    Raises:
        MediaError: one cannot be read.
        TargetError: the disk does not give the output.
    """
    with opened([part]) as media, decoding(part):
        streams = _streams(media)
        tick_s, layouts = Fraction(streams[0].time_base or 1), sound_layouts(media)
        if len(streams) != len(tracks):
            return ReadBack(False, np.empty(0), tick_s, layouts)
        readers = {
            number: _reader(track, stream, part)
            for number, (track, stream) in enumerate(zip(tracks, streams, strict=True))
        }
        heads = [
            (track.head, PictureHead.of(stream))
            for track, stream in zip(tracks, streams, strict=True)
            if track.head is not None and isinstance(stream, VideoStream)
        ]
        decoded_otherwise = tuple(told for source, output in heads for told in source.decoded_otherwise(output))
        shown_otherwise = tuple(told for source, output in heads for told in source.shown_otherwise(output))
        by_table = {number: each for number, each in readers.items() if not isinstance(each, _SampleReader)}
        boxes = None
        if container_of(run.paths[0]) not in _ISO:
            boxes = _Boxes.of(part, {number: streams[number] for number in by_table})
        if boxes is not None:
            stamps = boxes.stamps
            boxes.read(part, by_table)
            left = {number: stream for number, stream in enumerate(streams) if number not in by_table}
            _demux(media, left, readers)
        else:
            stamps = _demux(media, dict(enumerate(streams)), readers)
    # Packets that differ may only be framed in a way that nobody guessed.
    unsure = {number for number, each in readers.items() if isinstance(each, FingerprintReader) and not each.is_equal}
    equal = all(reader.is_equal for number, reader in readers.items() if number not in unsure)
    equal = equal and (not unsure or _are_equal_by_digests(part, tracks, run, unsure))
    return ReadBack(
        equal, np.array(stamps, np.float64) * float(tick_s), tick_s, layouts, decoded_otherwise, shown_otherwise
    )


def _streams(media: InputContainer) -> list[Stream]:
    return tracks_of(media, every_picture=True)


# -- by the tables of boxes ------------------------------------------------------------------------


@dataclass(frozen=True, slots=True)
class _Boxes:
    """Where the samples of an output lie, by track; when its pictures are shown, in ticks, in the order of coding."""

    places: dict[int, SamplePlaces]
    stamps: Sequence[int]

    @classmethod
    def of(cls, part: Path, streams: dict[int, Stream]) -> _Boxes | None:
        """None for a file that is no boxes, or whose tables are not whole, or that has its samples out of order.

        Args:
            part: the file.
            streams: the tracks that are asked for, by their numbers; the first is the picture. Of plain PCM each sample
                would have a place of its own.
        """
        movie = movie_payload(part) if container_of(part) in _ISO else None
        if movie is None or is_fragmented(movie):
            return None
        by_number = {_track_number(track): track for track in find(movie, "trak")}
        if not all(stream.id in by_number for stream in streams.values()):
            return None
        found = {number: sample_places(by_number[stream.id]) for number, stream in streams.items()}
        table = sample_table(movie, by_number[streams[0].id])
        # They are read as they lie in the file, which has to be the order of the table: else it tells of another film.
        places = {number: each for number, each in found.items() if each is not None and _rises(each)}
        if table is None or len(places) != len(streams) or table.tick_s != streams[0].time_base:
            return None
        return cls(places, table.stamps_as_coded)

    def read(self, part: Path, readers: dict[int, _PacketReader]) -> None:
        """Reads the samples of some tracks as they follow each other in the file, or up to where it ends too early.

        Raises:
            TargetError: the disk does not give them.
        """
        numbers = list(readers)
        if not numbers:
            return
        offsets = np.concatenate([self.places[number].offsets for number in numbers])
        sizes = np.concatenate([self.places[number].sizes for number in numbers])
        owners = np.repeat(numbers, [self.places[number].sizes.size for number in numbers])
        order = np.argsort(offsets, kind="stable")
        with writing(part), unseen_file(part) as file:
            descriptor = file.fileno()
            if int((offsets + sizes).max(initial=0)) > os.fstat(descriptor).st_size:
                return
            buffer = memoryview(bytearray(int(sizes.max(initial=0))))
            rows = (offsets[order].tolist(), sizes[order].tolist(), owners[order].tolist())
            for offset, size, owner in zip(*rows, strict=True):
                if os.preadv(descriptor, [buffer[:size]], offset) != size:
                    return
                readers[owner].take(buffer[:size])


def _rises(places: SamplePlaces) -> bool:
    return bool(np.all(np.diff(places.offsets) > 0))


def _track_number(track: bytes) -> int:
    """A track's number, from its head [14496-12, 8.3.2]."""
    head = next(find(track, "tkhd"), b"")
    place = 20 if head[:1] == b"\x01" else 12
    return int.from_bytes(head[place : place + 4], "big")


# -- by the media library --------------------------------------------------------------------------


def _demux(
    media: InputContainer, streams: dict[int, Stream], readers: Mapping[int, _PacketReader | _SampleReader]
) -> list[int]:
    """Reads some tracks, by their numbers; the stamps of the first one's packets that are shown."""
    stamps: list[int] = []
    numbers = {stream.index: number for number, stream in streams.items()}
    for packet in media.demux(list(streams.values())) if streams else ():
        # The empty packet at the end of each track has no index of its own.
        number = numbers[packet.stream.index]
        reader = readers[number]
        if isinstance(reader, _SampleReader):
            reader.decode(packet)
        elif packet.size:
            reader.take(memoryview(packet))
            if number == 0 and packet.pts is not None and not packet.is_discard:
                stamps.append(packet.pts)
    return stamps


def _reader(track: CopiedTrack, stream: Stream, part: Path) -> _PacketReader | _SampleReader:
    if isinstance(track.noted, SampleDigest):
        return _SampleReader(track.noted)
    codec, extradata = codec_of(stream, str(part)), cast(Any, stream.codec_context).extradata
    if isinstance(track.noted, PacketFingerprints):
        return FingerprintReader(track.noted, codec, extradata)
    return _DigestReader(track.noted, TrackDigest(codec, extradata))


@dataclass(frozen=True, slots=True)
class _DigestReader:
    _noted: TrackDigest
    _found: TrackDigest

    def take(self, data: bytes | memoryview) -> None:
        self._found.take(data)

    @property
    def is_equal(self) -> bool:
        return self._noted.value() == self._found.value()


class _SampleReader:
    """Plain PCM has no packets of its own: it is decoded, and compared by its samples."""

    def __init__(self, noted: SampleDigest) -> None:
        self._noted, self._found = noted, SampleDigest()

    def decode(self, packet: av.Packet[Any]) -> None:
        """The next packet; the last is empty."""
        for frame in packet.decode():
            self._found.take(cast(Samples, samples_of(sound_frame(cast(av.AudioFrame, frame)))))

    @property
    def is_equal(self) -> bool:
        return self._noted.value() == self._found.value()


def _are_equal_by_digests(part: Path, tracks: Sequence[CopiedTrack], run: Run, numbers: set[int]) -> bool:
    """Reads both again, and undoes the framing of both."""
    before = {number: TrackDigest(tracks[number].codec, tracks[number].extradata) for number in numbers}
    for timed in run.packets():
        if timed.track in numbers:
            before[timed.track].take(timed.data)
    after: dict[int, _DigestReader] = {}
    with opened([part]) as media, decoding(part):
        streams = {number: stream for number, stream in enumerate(_streams(media)) if number in numbers}
        for number, stream in streams.items():
            digest = TrackDigest(codec_of(stream, str(part)), cast(Any, stream.codec_context).extradata)
            after[number] = _DigestReader(before[number], digest)
        _demux(media, streams, after)
    return all(reader.is_equal for reader in after.values())
