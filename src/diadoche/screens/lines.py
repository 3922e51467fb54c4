"""Clips as lines of the footage table: every column's words, what it is sorted by, and the words it is found by."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Mapping, Sequence
from dataclasses import dataclass
from datetime import UTC, datetime, tzinfo
from pathlib import PurePath
from typing import Any

from diadoche.core.codecnames import spoken_codec
from diadoche.core.identify.alike import Majority, Tally, majority_of, make_of, odd_in
from diadoche.core.identify.facts import Facts, VideoFacts
from diadoche.core.rates import spoken_rate
from diadoche.core.sizes import clock_text, size_text
from diadoche.services.ledger.kept_clips import KeptClip
from diadoche.services.ledger.opinions import Opinion

_LAST = datetime.max.replace(tzinfo=UTC)


@dataclass(frozen=True, slots=True)
class Said:
    """What a person says, as columns have it: the same for all of whom the same is said.

    Attributes:
        texts: what those columns say.
        keys: what they sort by.
        words: what is found by it, in small letters.
    """

    texts: dict[str, str]
    keys: dict[str, Any]
    words: str


@dataclass(slots=True, eq=False)
class Line:
    """One clip. Like its clip, nothing of it changes but what the person says.

    Attributes:
        clip: what the ledger knows of it.
        said: what the person says of it.
        texts: what each column says that is of the clip itself.
        keys: what those sort by.
        words: everything that it can be found by there, in small letters.
        odd: in what it differs from most clips of its card.
        make: container, codec, size, rate and sound, in words.
        majority: what most clips of its card have in common.
    """

    clip: KeptClip
    said: Said
    texts: dict[str, str]
    keys: dict[str, Any]
    words: str
    odd: tuple[str, ...]
    make: str
    majority: Majority | None

    def text(self, column: str) -> str:
        """What a column says of it, by the column's name."""
        return self.said.texts[column] if column in self.said.texts else self.texts[column]

    def key(self, column: str) -> Any:
        """What it is sorted by in a column, by the column's name."""
        return self.said.keys[column] if column in self.said.keys else self.keys[column]

    @property
    def has_problem(self) -> bool:
        """Whether something about it needs a person."""
        return self.clip.facts is not None and bool(self.clip.facts.problems)

    @property
    def route(self) -> str:
        """The route's name, or nothing before it is known."""
        return self.clip.facts.route.name if self.clip.facts is not None else ""


@dataclass(frozen=True, slots=True)
class Column:
    """A column: what it says of a clip, and how it sorts. It is as wide as its sample."""

    name: str
    tip: str
    sample: str
    text: Callable[[KeptClip, tzinfo | None], str]
    key: Callable[[KeptClip], Any]


def scan_words(video: VideoFacts) -> str:
    """The scan in words that fit a column: fields are counted, for that is what people ask."""
    if video.interlaced:
        return f"{spoken_rate(video.frame_rate * 2)} fields"
    return {"progressive": "progr.", "undecided": "still"}.get(video.scan, video.scan)


def _video(clip: KeptClip) -> VideoFacts | None:
    return clip.facts.video[0] if clip.facts and clip.facts.video else None


def _of_video(words: Callable[[VideoFacts], str]) -> Callable[[KeptClip, tzinfo | None], str]:
    return lambda clip, _zone: words(video) if (video := _video(clip)) is not None else ""


def _key_of_video(key: Callable[[VideoFacts], Any], otherwise: Any) -> Callable[[KeptClip], Any]:
    return lambda clip: key(video) if (video := _video(clip)) is not None else otherwise


def length_s(clip: KeptClip) -> float | None:
    """How long it is, in seconds: as measured, else as its camera says."""
    return clip.facts.duration_s if clip.facts else clip.clip.duration_s


def _length_text(clip: KeptClip, _zone: tzinfo | None) -> str:
    length = length_s(clip)
    return clock_text(length) if length is not None else ""


def _began(clip: KeptClip, zone: tzinfo | None) -> str:
    return f"{clip.clip.start.astimezone(zone):%H:%M:%S}" if clip.clip.start else "not known"


def _day(clip: KeptClip, zone: tzinfo | None) -> str:
    return f"{clip.clip.start.astimezone(zone):%Y-%m-%d}" if clip.clip.start else "day not known"


def _sound(clip: KeptClip, _zone: tzinfo | None) -> str:
    tracks = clip.facts.audio if clip.facts else ()
    return ", ".join(f"{spoken_codec(track.codec)} {track.layout}" for track in tracks)


def _timecode(clip: KeptClip, _zone: tzinfo | None) -> str:
    video = _video(clip)
    return video.timecode or "" if video is not None else ""


def _files(clip: KeptClip, _zone: tzinfo | None) -> str:
    pictures = f"{len(clip.clip.spans)} pictures" if clip.clip.kind == "sequence" else str(len(clip.clip.spans))
    return f"{pictures}, {1 + len(clip.clip.lenses)} lenses" if clip.clip.lenses else pictures


def _route(clip: KeptClip, _zone: tzinfo | None) -> str:
    return clip.facts.route.name if clip.facts else "not looked at yet"


def _origin(clip: KeptClip, _zone: tzinfo | None = None) -> str:
    return {"camera": "camera", "converted": "converted"}.get(clip.facts.origin, "") if clip.facts else ""


def _container(clip: KeptClip, _zone: tzinfo | None = None) -> str:
    return clip.facts.container if clip.facts else ""


def _size(clip: KeptClip, _zone: tzinfo | None) -> str:
    return size_text(clip.clip.size_bytes)


def _card(clip: KeptClip, _zone: tzinfo | None) -> str:
    return clip.card


def _name(clip: KeptClip, _zone: tzinfo | None = None) -> str:
    return clip.clip.name


def _verdict(clip: KeptClip, _zone: tzinfo | None) -> str:
    return clip.opinion.verdict


def _verdict_key(clip: KeptClip) -> int:
    return ("keep", "maybe", "", "no").index(clip.opinion.verdict)


def _tags(clip: KeptClip, _zone: tzinfo | None = None) -> str:
    return ", ".join(clip.opinion.tags)


def _note(clip: KeptClip, _zone: tzinfo | None = None) -> str:
    return clip.opinion.note


def _moment(clip: KeptClip) -> datetime:
    return clip.clip.start or _LAST


_size_words = _of_video(lambda video: f"{video.width}×{video.height}")
_rate_words = _of_video(lambda video: scan_words(video) if video.interlaced else spoken_rate(video.frame_rate))
_codec_words = _of_video(lambda video: spoken_codec(video.codec))
_pixels = _key_of_video(lambda video: video.width * video.height, 0)
_rate_key = _key_of_video(lambda video: video.frame_rate, 0)

COLUMNS = (
    Column("Card", "The card the clip came off", "Supply b", _card, lambda clip: clip.card.lower()),
    Column("Clip", "The name the camera gave it", "DRON00001", _name, _name),
    Column("Day", "The day of the recording", "2026-06-14", _day, _moment),
    Column("Began", "When the recording began, by the camera's clock", "00:00:00", _began, _moment),
    Column("Length", "Hours, minutes and seconds", "Length", _length_text, lambda clip: length_s(clip) or 0.0),
    Column("Picture", "Width and height in pixels", "1920×1080", _size_words, _pixels),
    Column("Rate", "Pictures a second; fields where two moments are woven", "50 fields", _rate_words, _rate_key),
    Column(
        "Scan",
        "Whole pictures (progressive) or fields (interlaced), decided by looking",
        "50 fields",
        _of_video(scan_words),
        _key_of_video(scan_words, ""),
    ),
    Column("Codec", "How the picture is coded", "MPEG-2 …", _codec_words, _key_of_video(lambda each: each.codec, "")),
    Column("Container", "What holds picture and sound together", "Container ▾", _container, _container),
    Column("Sound", "Codec and channels of the sound", "PCM 2 channels", _sound, lambda clip: _sound(clip, None)),
    Column("Timecode", "The label of the first picture", "00:00:00:00", _timecode, lambda clip: _timecode(clip, None)),
    Column("Files", "How many files the camera cut it into", "1, 2 lenses", _files, lambda clip: len(clip.clip.spans)),
    Column("Size", "All files of the clip", "100.0 GB", _size, lambda clip: clip.clip.size_bytes),
    Column("Written by", "A camera, or a program that converted it", "Written by ▾", _origin, _origin),
    Column("Needs", "What must happen before it can be cut", "convert", _route, lambda clip: _route(clip, None)),
    Column("Keep", "Keep, maybe or no: your word on it", "maybe", _verdict, _verdict_key),
    Column("Tags", "Your own words for it", "two, three", _tags, _tags),
    Column("Note", "Your own note", "a few words of yours", _note, _note),
)
STANDS_OUT = Column(
    "Stands out", "In what it differs from most clips of its card", "size, rate", lambda _clip, _zone: "", _name
)
ALL_COLUMNS = (*COLUMNS, STANDS_OUT)
# What the person says of a clip.
SAID_COLUMNS = ("Keep", "Tags", "Note")
_OF_PERSON = tuple(column for column in COLUMNS if column.name in SAID_COLUMNS)
_OF_CLIP = tuple(column for column in COLUMNS if column.name not in SAID_COLUMNS)
USUAL_COLUMNS = ("Card", "Clip", "Began", "Length", "Picture", "Rate", "Needs", "Keep")


def zone_of(clips: Sequence[KeptClip]) -> tzinfo | None:
    """The zone that a camera of the shoot names; else the machine's own. Many write UTC and no zone."""
    named = (clip.clip.start.tzinfo for clip in clips if clip.clip.start and clip.clip.start.utcoffset())
    return next(named, None)


def line_of(clip: KeptClip, zone: tzinfo | None, majority: Majority | None) -> Line:
    """A clip as a line. `majority` is that of its card."""
    texts = {column.name: column.text(clip, zone) for column in _OF_CLIP}
    odd = odd_in(clip.facts, majority) if clip.facts is not None else ()
    texts[STANDS_OUT.name] = ", ".join(odd)
    keys = {column.name: column.key(clip) for column in _OF_CLIP} | {STANDS_OUT.name: (-len(odd), odd)}
    names = " ".join(PurePath(span).name for span in clip.clip.spans[:8])
    make = make_of(clip.facts).words if clip.facts is not None else "not looked at yet"
    words = " ".join([*texts.values(), names, make, clip.facts.camera if clip.facts else ""]).lower()
    return Line(clip, _said_of(clip), texts, keys, words, odd, make, majority)


def say_of(lines: Iterable[Line], opinions: Mapping[int, Opinion]) -> None:
    """Takes in what the person says of clips now, by their ids."""
    # Ten thousand are judged by one key, and it is the same of all of them.
    last: Opinion | None = None
    said: Said | None = None
    for line in lines:
        clip = line.clip
        opinion = clip.opinion = opinions[clip.id]
        if said is None or opinion is not last:
            last, said = opinion, _said_of(clip)
        line.said = said


def _said_of(clip: KeptClip) -> Said:
    texts = {column.name: column.text(clip, None) for column in _OF_PERSON}
    keys = {column.name: column.key(clip) for column in _OF_PERSON}
    return Said(texts, keys, " ".join(texts.values()).lower())


def majorities(clips: Sequence[KeptClip]) -> dict[str, Majority]:
    """What most clips of each card have in common; cards of whose clips no half agrees have none."""
    by_card: dict[str, list[Facts]] = {}
    for clip in clips:
        if clip.facts is not None:
            by_card.setdefault(clip.card, []).append(clip.facts)
    found = {card: majority_of(facts) for card, facts in by_card.items()}
    return {card: each for card, each in found.items() if each is not None and 2 * each.clips > each.of}


@dataclass(frozen=True, slots=True)
class ReadLines:
    """All clips of a shoot as lines.

    Attributes:
        lines: in their order.
        tally: how many are of which size and rate.
        zone: in which their times are told.
    """

    lines: list[Line]
    tally: Tally
    zone: tzinfo | None


def lines_of(clips: Sequence[KeptClip], known: Sequence[Line] = (), known_zone: tzinfo | None = None) -> ReadLines:
    """All clips as lines. Those that were lines before, and of which nothing is new, stay the very same.

    Args:
        clips: as they were read.
        known: lines of an earlier reading; nothing of them is changed.
        known_zone: the zone that their times are told in.
    """
    zone = zone_of(clips)
    by_card = majorities(clips)
    tally = Tally(clip.facts for clip in clips if clip.facts is not None)
    before = {line.clip.id: line for line in known} if zone == known_zone else {}
    lines = []
    for clip in clips:
        line, majority = before.get(clip.id), by_card.get(clip.card)
        if line is None or line.majority != majority or not _is_same(line.clip, clip):
            line = line_of(clip, zone, majority)
        lines.append(line)
    return ReadLines(lines, tally, zone)


def _is_same(known: KeptClip, clip: KeptClip) -> bool:
    """Whether nothing is new of a clip; the same facts are the very same value, whoever read them."""
    return (
        known.facts is clip.facts
        and known.clip is clip.clip
        and known.opinion == clip.opinion
        and known.outputs == clip.outputs
        and (known.card, known.root, known.copies) == (clip.card, clip.root, clip.copies)
    )
