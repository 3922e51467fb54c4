"""Clips compared line by line: every fact of each, and where they differ."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass

from diadoche.core.codecnames import spoken_codec
from diadoche.core.identify.facts import Facts, VideoFacts
from diadoche.core.identify.sphere import arc_text
from diadoche.core.rates import rate_text
from diadoche.core.sizes import clock_text, size_text


@dataclass(frozen=True, slots=True)
class ComparedLine:
    """One fact of all clips; `differs` where they do not agree."""

    name: str
    texts: tuple[str, ...]
    differs: bool


def compare(many: Sequence[Facts | None]) -> tuple[ComparedLine, ...]:
    """All facts of some clips, in the order in which people ask; lines that are empty for all are left out."""
    found = []
    for name, words in _LINES:
        texts = tuple(words(facts) if facts is not None else "not looked at yet" for facts in many)
        if any(texts):
            found.append(ComparedLine(name, texts, len(set(texts)) > 1))
    return tuple(found)


def _video(words: Callable[[VideoFacts], str]) -> Callable[[Facts], str]:
    return lambda facts: words(facts.video[0]) if facts.video else ""


def _scan(video: VideoFacts) -> str:
    order = f", {video.field_order} field first" if video.field_order else ""
    flag = f" (flagged {video.scan_flagged})" if video.scan_flagged not in {video.scan, "undecided"} else ""
    film = ", film by 2:3 pulldown" if video.pulldown else ""
    return f"{video.scan}{order}{film}{flag}"


def _rate_mode(video: VideoFacts) -> str:
    if video.rate_range is None:
        return video.frame_rate_mode
    slowest, fastest = video.rate_range
    return f"variable, {float(slowest):.5g} to {float(fastest):.5g}"


def _sound(facts: Facts) -> str:
    return "; ".join(
        f"{spoken_codec(track.codec)} {track.layout} {track.sample_rate / 1000:g} kHz"
        + (f" {track.bit_depth} bits" if track.bit_depth else "")
        for track in facts.audio
    )


def _origin(facts: Facts) -> str:
    return {"camera": "a camera", "converted": "a program"}.get(facts.origin, "")


def _orientation(video: VideoFacts) -> str:
    turned = f"{video.rotation}°" if video.rotation else ""
    return ", ".join(filter(None, ("mirrored" if video.mirrored else "", turned)))


def _sphere(facts: Facts) -> str:
    if facts.projection == "flat" and facts.spatial == "none":
        return ""
    marks = {"present": "metadata there", "missing": "metadata missing", "wrong": "metadata wrong", "none": ""}
    seen = arc_text(facts.field_of_view_deg) if facts.field_of_view_deg else ""
    return ", ".join(filter(None, (facts.projection, facts.stereo, seen, marks[facts.spatial])))


_LINES: tuple[tuple[str, Callable[[Facts], str]], ...] = (
    ("Needs", lambda facts: facts.route.name),
    ("Container", lambda facts: facts.container),
    ("Codec", _video(lambda video: f"{spoken_codec(video.codec)} {video.profile}".strip())),
    ("Size", _video(lambda video: f"{video.width}×{video.height}")),
    ("Pixel shape", _video(lambda video: f"{video.pixel_aspect.numerator}:{video.pixel_aspect.denominator}")),
    ("Rotation", _video(_orientation)),
    ("Rate", _video(lambda video: rate_text(video.frame_rate))),
    ("Pace", _video(_rate_mode)),
    ("Scan", _video(_scan)),
    ("Depth", _video(lambda video: f"{video.bit_depth} bits {video.chroma}" if video.bit_depth else video.chroma)),
    ("Pictures", _video(lambda video: "every one whole" if video.intra_only else "long-GOP")),
    ("Bit rate", _video(lambda video: f"{video.bit_rate / 1e6:.1f} Mbit/s" if video.bit_rate else "")),
    ("Primaries", _video(lambda video: video.color.primaries)),
    ("Curve", _video(lambda video: "likely log" if video.log_curve else video.color.transfer)),
    ("Levels", _video(lambda video: video.color.range)),
    ("Timecode", _video(lambda video: video.timecode or "none")),
    ("Sphere", _sphere),
    ("Sound", _sound),
    ("Other tracks", lambda facts: ", ".join(facts.data)),
    ("Length", lambda facts: clock_text(facts.duration_s)),
    ("Count", lambda facts: f"{facts.frames:,}" if facts.frames else ""),
    ("Bytes", lambda facts: size_text(facts.size_bytes)),
    ("Camera", lambda facts: facts.camera),
    ("Written by", _origin),
)
