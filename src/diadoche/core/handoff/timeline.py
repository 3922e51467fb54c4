"""The hand-off as OpenTimelineIO: one timeline in order of time.

Each clip comes with its original, its edit-ready file and its proxy, where it has them.
"""

from __future__ import annotations

from collections import Counter
from collections.abc import Sequence
from dataclasses import dataclass
from datetime import datetime
from fractions import Fraction
from pathlib import Path

import opentimelineio as otio

from diadoche.core.diskfiles import write_whole
from diadoche.core.errors import writing
from diadoche.core.identify.facts import Facts
from diadoche.core.sizes import count_text
from diadoche.core.timecode import counting_base

ORIGINAL, EDIT_READY, PROXY = "original", "edit-ready", "proxy"


@dataclass(frozen=True, slots=True)
class HandedClip:
    """A clip as it is handed over. `edit_ready` is None where the original is cut itself."""

    name: str
    group: str
    start: datetime | None
    facts: Facts
    originals: tuple[Path, ...]
    edit_ready: Path | None
    proxy: Path | None


@dataclass(frozen=True, slots=True)
class HandedOff:
    """What a timeline holds: how many clips, and how many of them with an edit-ready file."""

    clips: int
    edit_ready: int

    def words(self) -> str:
        """What it holds, in words."""
        if not self.edit_ready:
            return f"{count_text(self.clips, 'clip')}, as recorded."
        beside = "each" if self.edit_ready == self.clips else f"{self.edit_ready} of them"
        return f"{count_text(self.clips, 'clip')}, {beside} with an edit-ready file beside the original."


def hand_off(shoot: str, clips: Sequence[HandedClip], target: Path) -> HandedOff:
    """Writes the timeline, and tells what is in it.

    Raises:
        TargetError: it cannot be written.
    """
    timeline = otio.schema.Timeline(name=shoot)
    rate, size = majority(clips)
    timeline.metadata["diadoche"] = {
        "rate": f"{rate.numerator}/{rate.denominator}",
        "width": size[0],
        "height": size[1],
    }
    timeline.global_start_time = otio.opentime.RationalTime(0, float(rate))
    ordered = sorted((clip for clip in clips if clip.facts.video), key=_order)
    track = otio.schema.Track(name="All clips", kind=otio.schema.TrackKind.Video)
    for clip in ordered:
        track.append(_clip(clip))
    timeline.tracks.append(track)
    groups: dict[str, list[str]] = {}
    for clip in ordered:
        groups.setdefault(clip.group, []).append(clip.name)
    timeline.metadata["diadoche"]["groups"] = groups
    with writing(target):
        target.parent.mkdir(parents=True, exist_ok=True)
        write_whole(target, otio.adapters.write_to_string(timeline, "otio_json").encode())
    return HandedOff(len(ordered), sum(clip.edit_ready is not None for clip in ordered))


def majority(clips: Sequence[HandedClip]) -> tuple[Fraction, tuple[int, int]]:
    """The rate and size that most clips have: the timeline's."""
    shapes = Counter(
        (clip.facts.video[0].frame_rate, (clip.facts.video[0].width, clip.facts.video[0].height))
        for clip in clips
        if clip.facts.video
    )
    return shapes.most_common(1)[0][0] if shapes else (Fraction(25), (1920, 1080))


def _order(clip: HandedClip) -> tuple[float, str]:
    return (clip.start.timestamp() if clip.start else float("inf"), clip.name)


def _clip(clip: HandedClip) -> otio.schema.Clip:
    video = clip.facts.video[0]
    rate = float(video.frame_rate)
    frames = clip.facts.frames or round(clip.facts.duration_s * rate)
    first = video.labels.midnight if video.labels is not None else 0
    span = otio.opentime.TimeRange(otio.opentime.RationalTime(first, rate), otio.opentime.RationalTime(frames, rate))
    references = {ORIGINAL: _reference(clip.originals[0], span)}
    if len(clip.originals) > 1:
        references[ORIGINAL].metadata["diadoche"] = {"spans": [_url(path) for path in clip.originals]}
    if clip.edit_ready is not None:
        references[EDIT_READY] = _reference(clip.edit_ready, span)
    if clip.proxy is not None:
        references[PROXY] = _reference(clip.proxy, span)
    made = otio.schema.Clip(name=clip.name, source_range=span)
    made.set_media_references(references, EDIT_READY if clip.edit_ready is not None else ORIGINAL)
    made.metadata["diadoche"] = {
        "group": clip.group,
        "timecode": video.timecode or "",
        "labels_a_second": counting_base(video.timecode_rate or video.frame_rate),
        "route": clip.facts.route.name,
    }
    return made


def _reference(path: Path, span: otio.opentime.TimeRange) -> otio.schema.ExternalReference:
    return otio.schema.ExternalReference(target_url=_url(path), available_range=span)


def _url(path: Path) -> str:
    return path.resolve().as_uri()
