"""Tracks that are neither picture nor sound, by name: timecode, telemetry, subtitles, and those nobody knows."""

from __future__ import annotations

import re

from diadoche.core.boxes import TrackHead

MOTION = "Camera Motion Metadata"
# Source: the Camera Motion Metadata specification, for `camm`; QuickTime File Format for `tmcd`, `text`, `mebx`;
# ISO/IEC 14496-12 for `mett`, `metx`, `urim`.
_ENTRIES = {
    "tmcd": "timecode",
    "camm": MOTION,
    "tx3g": "subtitles",
    "text": "subtitles",
    "wvtt": "subtitles",
    "c608": "captions",
    "mebx": "timed metadata",
    "mett": "text metadata",
    "metx": "XML metadata",
    "urim": "metadata by address",
}
_PLACES = re.compile(
    r"(lat(itude)?\W{1,4}-?\d+\.\d+)|(gps\W{0,4}\(?\s*-?\d+\.\d+)|(-?\d{1,2}\.\d{4,}\W{1,4}-?\d{1,3}\.\d{4,})",
    re.IGNORECASE,
)


def has_places(text: str) -> bool:
    """Whether a subtitle tells where the camera was."""
    return bool(_PLACES.search(text))


def track_name(head: TrackHead) -> str:
    """What a track is, for people; unknown ones by their four letters and the name they carry."""
    known = _ENTRIES.get(head.entry)
    if known:
        return known
    name = f" ({head.name})" if head.name else ""
    return f"track {head.entry or head.handler!r}{name}"
