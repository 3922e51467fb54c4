"""The first picture of each clip, straight from the card, before anything is copied."""

from __future__ import annotations

import base64
import time
from dataclasses import dataclass
from pathlib import Path

from diadoche.core.cards.clips import Clip
from diadoche.core.footage.trial import first_picture
from diadoche.core.watch import Progress, Watch
from diadoche.services.queue.kinds import JobKind

# What a person takes in at a glance; a slow card is not kept in for more.
_MOST = 24
_LONGEST_S = 30.0


@dataclass(frozen=True, slots=True)
class PictureRequest:
    """Which clips of which card."""

    source: Path
    clips: tuple[Clip, ...]


@dataclass(frozen=True, slots=True)
class Pictures:
    """Small JPEGs in base64, by the clip's name; clips without a picture that decodes are not among them."""

    source: Path
    by_clip: dict[str, str]


def perform_pictures(request: PictureRequest, watch: Watch) -> Pictures:
    """Decodes the first picture of the first clips.

    Raises:
        Cancelled: the watch was stopped, as it is when copying begins.
    """
    found: dict[str, str] = {}
    clips = request.clips[:_MOST]
    until_s = time.monotonic() + _LONGEST_S
    for number, clip in enumerate(clips):
        watch.step(Progress(number, len(clips), f"looking at {clip.name}"))
        if time.monotonic() > until_s:
            break
        if picture := first_picture(request.source / clip.spans[0]):
            found[clip.name] = base64.b64encode(picture).decode("ascii")
    return Pictures(request.source, found)


KIND = JobKind("pictures", PictureRequest, Pictures, perform_pictures, rank=1)
