"""What no muxer takes along from one ISO base media file to another: tracks of data, and boxes beside the picture.

Telemetry, timecode, captions and every other track that is neither picture nor sound come along byte for byte; so do
the boxes in the picture's sample entry and track that tell of mastering, light level and sphere. They are written into
the finished file before it is checked: samples behind the others, and a movie box that knows of them.

Source: [14496-12] ISO/IEC 14496-12:2022, clauses 4.2, 8.3 to 8.7; [QTFF] for the timecode track and its reference.
"""

from __future__ import annotations

import errno
import itertools
import struct
from collections import Counter
from collections.abc import Iterator, Sequence
from dataclasses import dataclass, field, replace
from fractions import Fraction
from pathlib import Path
from typing import BinaryIO

import xxhash

from diadoche.core.boxes import edits_of, find, inner_boxes, is_fragmented, movie_payload, timescale_of, top_boxes
from diadoche.core.diskfiles import unseen_file
from diadoche.core.sampletable import sample_places, sample_ticks
from diadoche.core.spatial import V1_UUID

_PICTURE_OR_SOUND = {b"vide", b"soun", b"hint", b"alis"}
_SPHERE_BOXES = ("st3d", "sv3d")
# In the picture's sample entry: mastering, light level, ambient light, content colours, spheres and eyes.
_ENTRY_BOXES = ("mdcv", "clli", "amve", "cclv", "st3d", "sv3d", "SmDm", "CoLL")
_LEVEL_BOXES = {"mdcv", "clli", "amve", "cclv", "SmDm", "CoLL"}
_ENTRY_HEAD_BYTES = 78
# User data that is written anew, or holds no more: tags, names, chapters, hints, a place [14496-12; 3GPP TS 26.244].
_COMMON_USER_DATA = {
    *("meta", "name", "chpl", "hnti", "hinf"),
    *("loci", "titl", "auth", "cprt", "dscp", "desc", "perf", "gnre", "albm", "yrrc", "kywd", "rtng", "clsf"),
}
_TIMECODE = b"tmcd"
_COPY_BYTES = 4 * 1024 * 1024
# What tells of channels in a sound entry, in the order in which it is written, and how much of it there is at least.
_SMALLEST_PAYLOADS = {"chan": 16, "SA3D": 12}
_LIST, _BITMAP = 0, 0x10000
# Plain PCM in QuickTime files [QTFF].
_PLAIN_SOUND = {"lpcm", "in24", "in32", "sowt", "twos", "fl32", "fl64", "raw ", "NONE"}


@dataclass(frozen=True, slots=True)
class Sample:
    """A sample of a track: where it stands in its file, and how long it lasts in ticks."""

    path: Path
    offset: int
    size: int
    ticks: int


@dataclass(slots=True)
class DataTrack:
    """A track of a clip, its parts one after another, with the boxes of the first part."""

    handler: bytes
    boxes: bytes
    tick_s: Fraction
    begins_s: Fraction
    samples: list[Sample] = field(default_factory=list)

    @property
    def ticks(self) -> int:
        """How long it lasts."""
        return sum(sample.ticks for sample in self.samples)


@dataclass(frozen=True, slots=True)
class Kept:
    """What comes along. `lost` names what cannot, in words."""

    tracks: tuple[DataTrack, ...] = ()
    entry_boxes: tuple[tuple[str, bytes], ...] = ()
    sphere: bytes = b""
    # Of each sound track, the boxes of its entry that tell what its channels are.
    sound_boxes: tuple[tuple[tuple[str, bytes], ...], ...] = ()
    # Boxes of the camera's own beside the tracks, which nobody here reads.
    user_data: tuple[tuple[str, bytes], ...] = ()
    # Whether nothing is to be said of a sphere, whatever a muxer took along.
    is_flat: bool = False
    lost: tuple[str, ...] = ()

    @property
    def is_empty(self) -> bool:
        """Whether there is nothing to write."""
        told = any(self.sound_boxes) or self.user_data
        return not (self.tracks or self.entry_boxes or self.sphere or told or self.is_flat)

    @property
    def ambisonic(self) -> tuple[bytes, ...]:
        """Of each sound track the payload of its `SA3D` box: how its channels stand for directions; or nothing."""
        return tuple(dict(boxes).get("SA3D", b"") for boxes in self.sound_boxes)

    @property
    def has_timecode(self) -> bool:
        """Whether the clip brings a timecode track of its own."""
        return any(track.handler == _TIMECODE for track in self.tracks)

    def without(self, *, timecode: bool, levels: bool) -> Kept:
        """The same without timecode tracks, or without what is said of brightness."""
        tracks = tuple(track for track in self.tracks if not (timecode and track.handler == _TIMECODE))
        boxes = tuple(box for box in self.entry_boxes if not (levels and box[0] in _LEVEL_BOXES))
        return replace(self, tracks=tracks, entry_boxes=boxes)

    def of_a_part(self) -> Kept:
        """What holds for a part of the pictures too: what is said of them, without tracks that run beside them."""
        return replace(self, tracks=(), user_data=(), lost=())

    def without_sphere(self) -> Kept:
        """The same, and flat."""
        return replace(self.with_sphere((), b""), is_flat=True)

    def with_sphere(self, entry_boxes: tuple[tuple[str, bytes], ...], sphere: bytes) -> Kept:
        """The same with another sphere."""
        others = tuple(box for box in self.entry_boxes if box[0] not in _SPHERE_BOXES)
        return replace(self, entry_boxes=(*others, *entry_boxes), sphere=sphere)


def what_to_keep(paths: Sequence[Path], begins_s: Sequence[Fraction]) -> Kept:
    """Looks for what the muxer leaves behind.

    Args:
        paths: the parts of a clip, each an ISO base media file.
        begins_s: when each part begins, from the first picture of all.
    """
    movies = [movie_payload(path) for path in paths]
    first = movies[0]
    if first is None or any(movie is None or is_fragmented(movie) for movie in movies):
        return Kept(lost=("data tracks of a file in fragments",))
    tracks, lost = [], []
    numbers = [place for place, track in enumerate(find(first, "trak")) if _handler(track) not in _PICTURE_OR_SOUND]
    for number in numbers:
        made = _joined([movie or b"" for movie in movies], paths, begins_s, number)
        if made is not None:
            tracks.append(made)
        else:
            lost.append(f"the track {_handler(list(find(first, 'trak'))[number]).decode('latin-1')!r}")
    picture = next((track for track in find(first, "trak") if _handler(track) == b"vide"), b"")
    entry = next(find(picture, "mdia", "minf", "stbl", "stsd"), b"")[8:]
    body = next((payload for _kind, payload in inner_boxes(entry)), b"")[_ENTRY_HEAD_BYTES:]
    boxes = tuple((kind, payload) for kind, payload in inner_boxes(body) if kind in _ENTRY_BOXES)
    sphere = next((payload for payload in find(picture, "uuid") if payload[:16] == V1_UUID), b"")
    sounds = tuple(_sound_boxes(track) for track in find(first, "trak") if _handler(track) == b"soun")
    return Kept(tuple(tracks), boxes, sphere, sounds, _user_data(first), lost=tuple(lost))


def _user_data(movie: bytes) -> tuple[tuple[str, bytes], ...]:
    """Boxes of a camera's own; what common ones tell, a muxer writes itself [14496-12, 8.10.1; QTFF, user data]."""
    inner = inner_boxes(next(find(movie, "udta"), b""))
    return tuple((kind, payload) for kind, payload in inner if kind[:1] != "\xa9" and kind not in _COMMON_USER_DATA)


def _sound_boxes(track: bytes) -> tuple[tuple[str, bytes], ...]:
    """What the entry of a sound track tells of its channels."""
    # Where both are told, readers go by the later one.
    found = ((kind, _sound_box(track, kind)) for kind in _SMALLEST_PAYLOADS)
    return tuple((kind, payload) for kind, payload in found if payload)


def _sound_box(track: bytes, kind: str) -> bytes:
    """The payload of a box in a sound track's entry, looked for by its name: heads of these entries differ."""
    entry = next(find(track, "mdia", "minf", "stbl", "stsd"), b"")[8:]
    place = entry.find(kind.encode())
    size = int.from_bytes(entry[place - 4 : place], "big") if place >= 4 else 0
    payload = entry[place + 4 : place - 4 + size]
    # The name may stand there by chance, or the box be cut off.
    return payload if len(payload) == size - 8 and len(payload) >= _SMALLEST_PAYLOADS[kind] else b""


def _channels_told(kind: str, payload: bytes) -> int:
    """Of how many channels such a box tells [QTFF, channel layouts: a list, a bit for each, or a tag with a count]."""
    if kind == "SA3D":
        return int.from_bytes(payload[8:12], "big")
    tag, bits, listed = struct.unpack(">III", payload[4:16])
    count: int = {_LIST: listed, _BITMAP: bits.bit_count()}.get(tag, tag & 0xFFFF)
    return count


def _joined(
    movies: Sequence[bytes], paths: Sequence[Path], begins_s: Sequence[Fraction], number: int
) -> DataTrack | None:
    """One track through all parts; None where a part has none like it."""
    made: DataTrack | None = None
    for movie, path, begin_s in zip(movies, paths, begins_s, strict=True):
        tracks = list(find(movie, "trak"))
        if number >= len(tracks) or (made is not None and _handler(tracks[number]) != made.handler):
            return None
        track = tracks[number]
        scale = timescale_of(next(find(track, "mdia", "mdhd"), b""))
        if not scale:
            return None
        edits = edits_of(track, timescale_of(next(find(movie, "mvhd"), b"")), scale)
        late_s = sum((edit.duration_s for edit in edits[:1] if edit.from_s is None), Fraction(0))
        if made is None:
            made = DataTrack(_handler(track), track, Fraction(1, scale), begin_s + late_s)
        elif Fraction(1, scale) != made.tick_s:
            return None
        elif made.samples:
            # What comes between two parts belongs to the last sample before.
            here = round((begin_s + late_s - made.begins_s) / made.tick_s)
            last = made.samples[-1]
            made.samples[-1] = Sample(last.path, last.offset, last.size, max(0, last.ticks + here - made.ticks))
        made.samples += _samples(track, path)
    return made if made is not None and made.samples else None


def _handler(track: bytes) -> bytes:
    return next(find(track, "mdia", "hdlr"), b"")[8:12]


def _samples(track: bytes, path: Path) -> Iterator[Sample]:
    """The samples of a track by its tables; none where those do not agree."""
    places = sample_places(track)
    if places is None:
        return
    lengths = sample_ticks(track)
    for number, (offset, size) in enumerate(zip(places.offsets.tolist(), places.sizes.tolist(), strict=True)):
        yield Sample(path, offset, size, lengths[number] if number < len(lengths) else 0)


def _pieces(track: DataTrack) -> Iterator[tuple[Sample, bytes]]:
    """What the samples of a track hold, each in pieces; a file is opened once for all that follow each other in it.

    Raises:
        OSError: one cannot be read, or ends before its table says.
    """
    for path, samples in itertools.groupby(track.samples, key=lambda sample: sample.path):
        with unseen_file(path) as source:
            for sample in samples:
                source.seek(sample.offset)
                left = sample.size
                while left:
                    data = source.read(min(left, _COPY_BYTES))
                    if not data:
                        raise OSError(errno.EIO, f"{path.name} ends before its table says")
                    yield sample, data
                    left -= len(data)


def track_digest(track: DataTrack) -> str:
    """A digest of all samples of a track, with their lengths in bytes and in time.

    Raises:
        OSError: one cannot be read.
    """
    digest = xxhash.xxh3_128()
    for sample in track.samples:
        digest.update(struct.pack(">QQ", sample.size, sample.ticks))
    for _sample, data in _pieces(track):
        digest.update(data)
    return digest.hexdigest()


def is_all_there(path: Path, kept: Kept) -> bool:
    """Whether a finished file holds what was kept, to the byte: it is read again for that."""
    again = what_to_keep([path], [Fraction(0)])
    mine, theirs = ([track_digest(track) for track in each.tracks] for each in (kept, again))
    # The muxer may have written a timecode track of its own beside them.
    boxes = set(kept.entry_boxes) <= set(again.entry_boxes) and kept.sphere in {b"", again.sphere}
    sounds = [track for track in find(movie_payload(path) or b"", "trak") if _handler(track) == b"soun"]
    # Where channels were mixed there is nothing to say of them; else it must be said, and as it was.
    heard = all(_sound_track(track, told) == track for track, told in zip(sounds, kept.sound_boxes, strict=False))
    own = set(kept.user_data) <= set(again.user_data)
    return boxes and heard and own and not Counter(mine) - Counter(theirs)


def says_sphere(path: Path) -> bool:
    """Whether a finished file says that its picture is part of a sphere, in any way."""
    again = what_to_keep([path], [Fraction(0)])
    return bool(again.sphere) or any(kind in _SPHERE_BOXES for kind, _payload in again.entry_boxes)


# -- writing -----------------------------------------------------------------------------------


def write_kept(path: Path, kept: Kept) -> bool:
    """Adds what is kept to a finished ISO base media file whose movie box stands at its end.

    Returns:
        Whether it could be; the file is as it was where not.

    Raises:
        OSError: a sample cannot be read, or the file not written.
    """
    if kept.is_empty:
        return True
    with path.open("r+b") as file:
        boxes = list(top_boxes(file))
        if not boxes or boxes[-1].kind != "moov" or boxes[-1].cut_off:
            return False
        file.seek(boxes[-1].start)
        movie = file.read(boxes[-1].size_bytes)
        # From here on the old movie box is written over; the file is a temporary one, and is checked afterwards.
        file.seek(boxes[-1].start - 8)
        places = [_write_samples(file, track) for track in kept.tracks]
        file.write(_box("moov", _with_tracks(movie, kept, places)))
        file.truncate()
    return True


def _write_samples(file: BinaryIO, track: DataTrack) -> list[int]:
    """Writes a track's samples in a box of their own, and tells where each stands."""
    total = sum(sample.size for sample in track.samples)
    file.write(struct.pack(">I4sQ", 1, b"mdat", total + 16))
    begin = file.tell()
    for _sample, data in _pieces(track):
        file.write(data)
    sizes = (sample.size for sample in track.samples[:-1])
    return list(itertools.accumulate(sizes, initial=begin))


def _box(kind: str, payload: bytes) -> bytes:
    return struct.pack(">I4s", len(payload) + 8, kind.encode("latin-1")) + payload


def _with_tracks(movie: bytes, kept: Kept, places: Sequence[Sequence[int]]) -> bytes:
    children = list(inner_boxes(movie))
    scale = timescale_of(next(find(movie, "mvhd"), b""))
    numbers = [_track_number(payload) for kind, payload in children if kind == "trak"]
    following = max(numbers, default=0) + 1
    new = []
    timecode = 0
    for track, where in zip(kept.tracks, places, strict=True):
        new.append(("trak", _track(track, where, following, scale)))
        timecode = following if track.handler == _TIMECODE and not timecode else timecode
        following += 1
    sounds = iter(kept.sound_boxes)
    out, picture_met = [], False
    for kind, payload in children:
        if kind == "mvhd":
            payload = payload[:-4] + struct.pack(">I", following)
        elif kind == "trak" and _handler(payload) == b"vide" and not picture_met:
            payload, picture_met = _picture_track(payload, kept, timecode), True
        elif kind == "trak" and _handler(payload) == b"soun":
            payload = _sound_track(payload, next(sounds, ()))
        elif kind == "udta":
            continue
        out.append((kind, payload))
    if data := next(find(movie, "udta"), b"") + b"".join(_box(*each) for each in kept.user_data):
        out.append(("udta", data))
    last = max(place for place, (kind, _payload) in enumerate(out) if kind == "trak")
    return b"".join(_box(kind, payload) for kind, payload in (*out[: last + 1], *new, *out[last + 1 :]))


def _track_number(track: bytes) -> int:
    head = next(find(track, "tkhd"), b"")
    place = 20 if head[:1] == b"\x01" else 12
    return int.from_bytes(head[place : place + 4], "big")


def _replaced(payload: bytes, path: Sequence[str], change: dict[str, bytes]) -> bytes:
    """A payload in which boxes below a path of types have other payloads; the first of each."""
    out, left = [], dict(change)
    entered = False
    for kind, inner in inner_boxes(payload):
        if path and kind == path[0] and not entered:
            inner, entered = _replaced(inner, path[1:], change), True
        elif not path and kind in left:
            inner = left.pop(kind)
        out.append(_box(kind, inner))
    return b"".join(out)


def _picture_track(track: bytes, kept: Kept, timecode: int) -> bytes:
    description = next(find(track, "mdia", "minf", "stbl", "stsd"), b"")
    entry_kind, entry = next(inner_boxes(description[8:]), ("", b""))
    head, inner = entry[:_ENTRY_HEAD_BYTES], list(inner_boxes(entry[_ENTRY_HEAD_BYTES:]))
    if kept.is_flat or any(kind in _SPHERE_BOXES for kind, _payload in kept.entry_boxes):
        # The muxer may have written what the source said of a sphere; what is to be kept of it counts.
        inner = [box for box in inner if box[0] not in _SPHERE_BOXES]
    there = {kind for kind, _payload in inner}
    inner += [(kind, payload) for kind, payload in kept.entry_boxes if kind not in there]
    entry = head + b"".join(_box(kind, payload) for kind, payload in inner)
    # Only the first description is written anew: a clip has one.
    rest = description[8 + 8 + len(next(inner_boxes(description[8:]), ("", b""))[1]) :]
    track = _replaced(track, ("mdia", "minf", "stbl"), {"stsd": description[:8] + _box(entry_kind, entry) + rest})
    if timecode:
        others = b"".join(_box(kind, payload) for kind, payload in inner_boxes(track) if kind != "tref")
        track = others + _box("tref", _box("tmcd", struct.pack(">I", timecode)))
    if kept.sphere and not any(payload[:16] == kept.sphere[:16] for payload in find(track, "uuid")):
        track += _box("uuid", kept.sphere)
    return track


def _sound_track(track: bytes, told: Sequence[tuple[str, bytes]]) -> bytes:
    """A sound track that says what its channels are, as it was told."""
    description = next(find(track, "mdia", "minf", "stbl", "stsd"), b"")
    kind, entry = next(inner_boxes(description[8:]), ("", b""))
    changed = entry
    for name, payload in told:
        # Of sound that was mixed to other channels it is true no more; of coded sound its codec tells.
        if _channels(entry) == _channels_told(name, payload) and (name == "SA3D" or kind in _PLAIN_SOUND):
            old = _sound_box(track, name)
            if old and old != payload:
                changed = changed.replace(_box(name, old), b"")
            changed += b"" if old == payload else _box(name, payload)
    rest = description[8 + 8 + len(entry) :]
    return _replaced(track, ("mdia", "minf", "stbl"), {"stsd": description[:8] + _box(kind, changed) + rest})


def _channels(entry: bytes) -> int:
    """Of a sound entry of any version [QTFF, sound sample descriptions]."""
    place = (40, 44) if entry[8:10] == b"\0\2" else (16, 18)
    return int.from_bytes(entry[slice(*place)], "big")


def _track(track: DataTrack, places: Sequence[int], number: int, movie_scale: int) -> bytes:
    """The boxes of a track, with tables that point to where its samples stand now."""
    length = round(track.ticks * track.tick_s * movie_scale)
    late = round(track.begins_s * movie_scale)
    head = _patched(next(find(track.boxes, "tkhd"), b""), number, length + late)
    media_head = _with_duration(next(find(track.boxes, "mdia", "mdhd"), b""), track.ticks)
    table = next(find(track.boxes, "mdia", "minf", "stbl"), b"")
    sizes = b"".join(struct.pack(">I", sample.size) for sample in track.samples)
    offsets = b"".join(struct.pack(">Q", place) for place in places)
    stbl = b"".join(
        (
            _box("stsd", next(find(table, "stsd"), b"")),
            _box("stts", _durations([sample.ticks for sample in track.samples])),
            _box("stsc", struct.pack(">IIIII", 0, 1, 1, 1, 1)),
            _box("stsz", struct.pack(">III", 0, 0, len(places)) + sizes),
            _box("co64", struct.pack(">II", 0, len(places)) + offsets),
        )
    )
    minf = b"".join(
        _box(kind, stbl if kind == "stbl" else payload)
        for kind, payload in inner_boxes(next(find(track.boxes, "mdia", "minf"), b""))
    )
    mdia = b"".join(
        _box(kind, {"mdhd": media_head, "minf": minf}.get(kind, payload))
        for kind, payload in inner_boxes(next(find(track.boxes, "mdia"), b""))
    )
    edits = struct.pack(">II", 0, 2 if late > 0 else 1)
    edits += struct.pack(">IiI", late, -1, 65_536) if late > 0 else b""
    edits += struct.pack(">IiI", length, 0, 65_536)
    out = []
    for kind, payload in inner_boxes(track.boxes):
        if kind not in {"tref", "edts"}:
            out.append((kind, {"tkhd": head, "mdia": mdia}.get(kind, payload)))
        if kind == "tkhd":
            out.append(("edts", _box("elst", edits)))
    return b"".join(_box(kind, payload) for kind, payload in out)


def _durations(ticks: Sequence[int]) -> bytes:
    runs: list[list[int]] = []
    for each in ticks:
        if runs and runs[-1][1] == each:
            runs[-1][0] += 1
        else:
            runs.append([1, each])
    return struct.pack(">II", 0, len(runs)) + b"".join(struct.pack(">II", *run) for run in runs)


def _patched(head: bytes, number: int, length: int) -> bytes:
    """A track header with another number and length [14496-12, 8.3.2]."""
    if head[:1] == b"\x01":
        return head[:20] + struct.pack(">I", number) + head[24:28] + struct.pack(">Q", length) + head[36:]
    return head[:12] + struct.pack(">I", number) + head[16:20] + struct.pack(">I", length) + head[24:]


def _with_duration(head: bytes, ticks: int) -> bytes:
    """A media header with another length [14496-12, 8.4.2]."""
    if head[:1] == b"\x01":
        return head[:24] + struct.pack(">Q", ticks) + head[32:]
    return head[:16] + struct.pack(">I", ticks) + head[20:]
