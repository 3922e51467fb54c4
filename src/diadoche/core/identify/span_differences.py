"""Spans of one clip are of one recording, and alike; where one is not, the joined clip would be false about it."""

from __future__ import annotations

from collections.abc import Sequence
from fractions import Fraction
from pathlib import Path

from diadoche.core.boxes import TrackHead
from diadoche.core.codecnames import spoken_codec
from diadoche.core.errors import Problem
from diadoche.core.identify.facts import AudioFacts, Facts, VideoFacts
from diadoche.core.names import shown
from diadoche.core.rates import spoken_rate

# Heads tell rates that were rounded, of few pictures; any two that exist lie further apart, but for film and video.
_NEAR = Fraction(1, 200)
_SEEN_OR_HEARD = {"vide": "pictures", "soun": "sound"}


def span_differences(spans: Sequence[Facts]) -> tuple[Problem, ...]:
    """What later spans of a clip say otherwise than the first, a problem for each span."""
    first = _told(spans[0])
    found = []
    for span in spans[1:]:
        told = _told(span)
        words = [
            f"{thing} {told.get(thing) or 'none'}, not {first.get(thing) or 'none'}"
            for thing in dict.fromkeys((*first, *told))
            if told.get(thing) != first.get(thing)
        ]
        if spans[0].video and span.video and not _as_fast(spans[0].video[0], span.video[0]):
            rates = [spoken_rate(each.video[0].frame_rate) for each in (span, spans[0])]
            words.append(f"rate {rates[0]}, not {rates[1]}")
        if spans[0].video and span.video and not words and _head(spans[0]) != _head(span):
            words.append("other parameters for its decoder")
        if words:
            path = Path(span.path)
            found.append(
                Problem(
                    f"{shown(path.name)} is not like {shown(Path(spans[0].path).name)}, before it in the same clip: "
                    f"{'; '.join(words)}.",
                    span.path,
                    "Each file is whole by itself.",
                    "Rewrap or convert them one by one, if they are not one recording.",
                )
            )
    return tuple(found)


def several_kinds(path: Path, heads: Sequence[TrackHead]) -> tuple[Problem, ...]:
    """Tracks whose heads name several codecs, one after the other: the media library gives what is of the first."""
    found = []
    for head in heads:
        kinds = dict.fromkeys((head.entry, *head.more_entries))
        if len(kinds) > 1 and head.handler in _SEEN_OR_HEARD:
            found.append(
                Problem(
                    f"{shown(path.name)} holds {_SEEN_OR_HEARD[head.handler]} of several kinds in one track "
                    f"({', '.join(kinds)}): what is of the first alone can be read here.",
                    str(path),
                    "It is untouched.",
                    "Have the program that wrote it export it in one kind.",
                )
            )
    return tuple(found)


def _head(facts: Facts) -> str:
    return facts.video[0].decoder_head


def _as_fast(one: VideoFacts, other: VideoFacts) -> bool:
    return abs(one.frame_rate - other.frame_rate) <= _NEAR * one.frame_rate


def _told(facts: Facts) -> dict[str, str]:
    told = {} if facts.video else {"picture": "none"}
    for video in facts.video[:1]:
        aspect, color = video.pixel_aspect, video.color
        turned = f"{video.rotation}°" + (" mirrored" if video.mirrored else "")
        told = {
            "codec": f"{spoken_codec(video.codec)} {video.profile}".strip(),
            "size": f"{video.width}×{video.height}",
            "samples": f"{video.bit_depth} bits {video.chroma}",
            "shape of a pixel": f"{aspect.numerator}:{aspect.denominator}",
            "rotation": turned,
            "primaries": color.primaries,
            "transfer": color.transfer,
            "matrix": color.matrix,
            "range": color.range,
        }
    return told | {f"sound track {number}": _sound(track) for number, track in enumerate(facts.audio, start=1)}


def _sound(track: AudioFacts) -> str:
    depth = f" {track.bit_depth} bits" if track.bit_depth else ""
    return f"{spoken_codec(track.codec)}{depth} {track.layout} {track.sample_rate:,} Hz"
