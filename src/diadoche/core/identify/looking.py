"""A few pictures from three places of a clip, decoded: how they were scanned, what they look like, where they fail."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import replace
from fractions import Fraction
from pathlib import Path

import av
from av.container import InputContainer
from av.video.stream import VideoStream

from diadoche.core.errors import DiadocheError
from diadoche.core.identify.damage import broken_pictures
from diadoche.core.identify.facts import Facts, VideoFacts
from diadoche.core.identify.looks import Seen, luma_of
from diadoche.core.identify.scan import Fields, ScanVerdict, fields_of, judge
from diadoche.core.identify.tracks import picture_streams
from diadoche.core.media import pictures_near

_PLACES = (Fraction(1, 10), Fraction(1, 2), Fraction(9, 10))
_PICTURES_A_LOOK = 7
# Nothing is scanned in more than 60 fields a second, two of them a picture [BT709-6, part 2, 4; BT601-7].
_MOST_INTERLACED = Fraction(31)


def looked_at(facts: Facts, paths: Sequence[Path], media: InputContainer, seen: Seen) -> Facts:
    """The facts with what a few pictures of the first track show."""
    first = facts.video[0]
    verdict, broken = _look(media, facts.duration_s, seen)
    log = "" if first.color.transfer in {"PQ", "HLG", "linear"} else seen.log_words(first.color.transfer)
    video = replace(_seen(first, verdict), log_curve=log)
    problems = (*facts.problems, broken_pictures(paths[0], broken)) if broken else facts.problems
    return replace(facts, video=(video, *facts.video[1:]), problems=problems)


def _look(media: InputContainer, duration_s: float, seen: Seen) -> tuple[ScanVerdict, list[float]]:
    """The verdict on the scan, and near which seconds pictures fail to decode."""
    broken: list[float] = []
    stream = picture_streams(media)[0]
    windows = [_window(media, stream, float(place) * duration_s, seen, broken) for place in _PLACES]
    return judge(windows), broken


def _window(media: InputContainer, stream: VideoStream, at_s: float, seen: Seen, broken: list[float]) -> list[Fields]:
    found: list[Fields] = []
    if stream.time_base is None:
        return found
    start = stream.start_time or 0
    try:
        for frame in pictures_near(media, stream, start + int(at_s / stream.time_base)):
            luma, bits = luma_of(frame)
            if frame.is_corrupt:
                broken.append(at_s)
            elif not found:
                seen.add(frame, luma, bits)
            found.append(fields_of(float(frame.time or 0) - float(start * stream.time_base), luma, bits))
            if len(found) >= _PICTURES_A_LOOK:
                break
    except (av.error.FFmpegError, DiadocheError, ValueError):
        broken.append(at_s)
    return found


def _seen(video: VideoFacts, verdict: ScanVerdict) -> VideoFacts:
    if video.frame_rate > _MOST_INTERLACED and verdict.scan in {"interlaced", "mixed"}:
        # What looks like fields is a fine pattern that moves, where the file says nothing of them either.
        verdict = ScanVerdict("undecided" if video.scan_flagged == "interlaced" else "progressive")
    order = verdict.field_order
    if verdict.scan == "undecided":
        order = video.field_order
    elif verdict.scan == "progressive":
        order = None
    return replace(video, scan=verdict.scan, field_order=order, evidence=verdict.evidence, pulldown=verdict.pulldown)
