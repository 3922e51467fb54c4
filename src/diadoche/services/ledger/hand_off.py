"""The hand-off to the editing program: the use case behind `handoff`."""

from __future__ import annotations

from collections.abc import Sequence
from pathlib import Path

from diadoche.core.cards.layout import Layout
from diadoche.core.convert.recipes import Recipe
from diadoche.core.handoff.timeline import HandedClip, HandedOff, hand_off
from diadoche.services.ledger.kept_clips import KeptClip, kept_clips
from diadoche.services.ledger.ledger import Ledger
from diadoche.services.ledger.shoots import Shoot
from diadoche.services.ledger.takes import Take, takes_of

_PROXY_ROLE = "low-resolution"


def hand_off_shoot(ledger: Ledger, shoot: Shoot, target: Path, layouts: Sequence[Layout] = ()) -> HandedOff:
    """Writes the hand-off of a shoot, and tells what is in it.

    Args:
        ledger: that knows its clips.
        shoot: which.
        target: the file.
        layouts: of cards; by them lenses on cards of their own are known as one take.

    Raises:
        TargetError: it cannot be written.
    """
    clips = [clip for clip in kept_clips(ledger, shoot.id) if clip.facts is not None]
    return hand_off(shoot.name, handed_clips(clips, layouts), target)


def handed_clips(clips: Sequence[KeptClip], layouts: Sequence[Layout]) -> list[HandedClip]:
    """Clips as they are handed over: of a take of several lenses one, with what was stitched of it.

    The camera's own stitched version is its proxy, where there is no other.
    """
    takes = {take.clip.id: take for take in takes_of(clips, layouts)}
    inside = {clip.id for take in takes.values() for clip in take.clips if clip.id != take.clip.id}
    inside |= {take.stitched.id for take in takes.values() if take.stitched is not None}
    found = (_handed(clip, takes.get(clip.id)) for clip in clips if clip.id not in inside)
    return [each for each in found if each is not None]


def _edit_ready(clip: KeptClip) -> Path | None:
    """The newest output that an editing program is to take: no review copy, and no folder of stills."""
    for output in reversed(clip.outputs):
        recipe = output.record.recipe if output.record is not None else ""
        if isinstance(recipe, Recipe) and not recipe.edit_ready:
            continue
        if output.output and Path(output.output).is_file():
            return Path(output.output)
    return None


def _handed(clip: KeptClip, take: Take | None) -> HandedClip | None:
    if clip.facts is None or not clip.facts.video:
        return None
    proxy = next((path for role, path in clip.companions if role == _PROXY_ROLE), None)
    if proxy is None and take is not None and take.stitched is not None:
        proxy = take.stitched.paths[0]
    name = take.name if take is not None else f"{clip.card} {clip.clip.name}"
    return HandedClip(name, clip.card, clip.clip.start, clip.facts, clip.paths, _edit_ready(clip), proxy)
