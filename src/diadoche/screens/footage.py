"""The footage of a shoot as a table, with the facts and the player's clip of what is selected."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, replace
from datetime import tzinfo

from diadoche.core.codecnames import spoken_codec
from diadoche.core.errors import DiadocheError
from diadoche.core.identify.facts import Facts, VideoFacts
from diadoche.core.rates import rate_text, spoken_rate
from diadoche.core.sizes import clock_text, count_text, size_text
from diadoche.core.timecode import Timecode
from diadoche.services.identifying import IdentifiedClip
from diadoche.services.ledger.ledger import Ledger
from diadoche.services.ledger.waybills import KeptClip, kept_clips
from diadoche.services.station import Station

COLUMNS = ("Card", "Clip", "Began", "Length", "Picture", "Rate", "Scan", "Route")
TOOLTIPS = (
    "The card the clip came off",
    "The name the camera gave it",
    "When the recording began, by the camera's clock",
    "Hours, minutes and seconds",
    "Width and height in pixels",
    "Pictures a second",
    "Whole pictures (progressive) or fields (interlaced), decided by looking",
    "What must happen before it can be cut",
)


@dataclass(frozen=True, slots=True)
class Detail:
    """What the panel beside the table says of a clip."""

    title: str
    reasons: str
    facts: tuple[str, ...]
    kept: str
    problems: tuple[str, ...]


class FootageScreen:
    """Rows in order of time; one of them may be selected."""

    def __init__(self, station: Station, ledger: Ledger) -> None:
        self._station = station
        self._ledger = ledger
        self.clips: list[KeptClip] = []
        self.selected: int | None = None
        self.on_change: Callable[[], None] = lambda: None
        self.refresh()

    def refresh(self) -> None:
        """Reads the ledger anew; the selection stays with its clip."""
        self.clips = kept_clips(self._ledger, self._station.shoot.id)
        if self.selected not in {clip.id for clip in self.clips}:
            self.selected = None
        self.on_change()

    def clip_identified(self, found: IdentifiedClip) -> None:
        """Takes in what has just been found of one clip."""
        for row, clip in enumerate(self.clips):
            if clip.id == found.clip_id:
                self.clips[row] = replace(clip, facts=found.facts)
                self.on_change()

    def summary(self) -> str:
        """The words under the view's name."""
        return count_text(len(self.clips), "clip")

    def headline(self) -> str:
        """How much there is."""
        seconds = sum(clip.facts.duration_s if clip.facts else clip.clip.duration_s or 0 for clip in self.clips)
        return f"{count_text(len(self.clips), 'clip')} · {clock_text(seconds)} of footage" if self.clips else ""

    def texts(self, row: int) -> tuple[str, ...]:
        """One row of the table."""
        clip = self.clips[row]
        video = clip.facts.video[0] if clip.facts and clip.facts.video else None
        began = f"{clip.clip.start.astimezone(self._zone()):%H:%M:%S}" if clip.clip.start else "not known"
        length = clip.facts.duration_s if clip.facts else clip.clip.duration_s
        return (
            clip.card,
            clip.clip.name,
            began,
            clock_text(length) if length is not None else "",
            f"{video.width}×{video.height}" if video else "",
            spoken_rate(video.frame_rate) if video else "",
            scan_words(video) if video else "",
            clip.facts.route.name if clip.facts else "being looked at",
        )

    def _zone(self) -> tzinfo | None:
        """The zone that a camera of this shoot names; else the machine's own. Many write UTC and no zone."""
        named = (clip.clip.start.tzinfo for clip in self.clips if clip.clip.start and clip.clip.start.utcoffset())
        return next(named, None)

    def has_problem(self, row: int) -> bool:
        """Whether something about the clip needs a person."""
        facts = self.clips[row].facts
        return facts is not None and bool(facts.problems)

    def select(self, row: int | None) -> KeptClip | None:
        """Selects a row, and gives the clip for the player."""
        clip = self.clips[row] if row is not None and 0 <= row < len(self.clips) else None
        self.selected = clip.id if clip else None
        return clip

    def row_of_selected(self) -> int | None:
        """Where the selected clip stands now."""
        return next((row for row, clip in enumerate(self.clips) if clip.id == self.selected), None)

    def detail(self) -> Detail | None:
        """The panel's text for the selected clip."""
        clip = next((each for each in self.clips if each.id == self.selected), None)
        if clip is None:
            return None
        if clip.facts is None:
            return Detail(clip.clip.name, "It is being looked at.", (), _kept(clip), ())
        facts = clip.facts
        return Detail(
            f"{facts.route.name.capitalize()}: {clip.card}, {clip.clip.name}",
            " ".join(facts.route.reasons),
            _facts_lines(facts),
            _kept(clip),
            tuple(problem.sentence() for problem in facts.problems),
        )

    def combing_words(self) -> str:
        """What the enlarged place shows, or nothing where no fields were seen."""
        clip = next((each for each in self.clips if each.id == self.selected), None)
        evidence = clip.facts.video[0].evidence if clip and clip.facts and clip.facts.video else None
        if evidence is None:
            return ""
        return f"Seen at {clock_text(evidence.time_s)}: two moments woven line by line, three times enlarged."


def scan_words(video: VideoFacts) -> str:
    """The scan in words that fit a column: fields are counted, for that is what people ask."""
    if video.interlaced:
        return f"{spoken_rate(video.frame_rate * 2)} fields"
    return {"progressive": "progr.", "undecided": "still"}.get(video.scan, video.scan)


def _facts_lines(facts: Facts) -> tuple[str, ...]:
    lines = []
    for video in facts.video[:1]:
        order = f", {video.field_order} field first" if video.field_order else ""
        frames = "every picture whole" if video.intra_only else "long-GOP"
        codec = f"{spoken_codec(video.codec)} {video.profile}".strip()
        lines.append(f"{facts.container} · {codec} · {frames} · {video.bit_depth} bits {video.chroma}")
        lines.append(
            f"{video.width}×{video.height} · {rate_text(video.frame_rate)} {video.frame_rate_mode} · "
            f"{video.scan}{order} · {video.color.primaries}"
        )
        if video.scan not in {"undecided", video.scan_flagged} and video.scan_flagged != "undecided":
            lines.append(f"The file says {video.scan_flagged}, the pictures show {video.scan}.")
    sounds = [f"{spoken_codec(each.codec)} {each.layout} {each.sample_rate / 1000:g} kHz" for each in facts.audio]
    timecode = f"timecode {facts.video[0].timecode}" if facts.video and facts.video[0].timecode else ""
    frames = count_text(facts.frames, "picture") if facts.frames else ""
    lines.append(" · ".join(filter(None, [*sounds, timecode, frames, size_text(facts.size_bytes)])))
    return tuple(lines)


def _kept(clip: KeptClip) -> str:
    places = [copy.destination.rpartition("/")[2] for copy in clip.copies if copy.status == "proven"]
    return f"Proven in {' and '.join(places)}" if places else "Not proven anywhere"


def label_at(facts: Facts, moment: int, fields: int) -> str:
    """The timecode of a moment, or its number where the clip has none."""
    picture = moment // fields
    video = facts.video[0]
    if video.timecode:
        try:
            return str(Timecode.parse(video.timecode, video.frame_rate).plus(picture))
        except (ValueError, DiadocheError):
            return str(picture)
    return str(picture)
