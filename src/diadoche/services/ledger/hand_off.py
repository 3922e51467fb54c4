"""The hand-off to the editing program: the use case behind `handoff`."""

from __future__ import annotations

from pathlib import Path

from diadoche.core.convert.recipes import Recipe
from diadoche.core.handoff.timeline import HandedClip, hand_off
from diadoche.services.ledger.kept_clips import KeptClip, kept_clips
from diadoche.services.ledger.ledger import Ledger
from diadoche.services.ledger.shoots import Shoot

_PROXY_ROLE = "low-resolution"


def hand_off_shoot(ledger: Ledger, shoot: Shoot, target: Path) -> int:
    """Writes the hand-off of a shoot, and gives the number of clips in it.

    Raises:
        TargetError: it cannot be written.
    """
    clips = [_handed(clip) for clip in kept_clips(ledger, shoot.id) if clip.facts is not None]
    return hand_off(shoot.name, [clip for clip in clips if clip is not None], target)


def delivered(clip: KeptClip) -> Path | None:
    """The newest output of a clip that passed its checks and is there."""
    for output in reversed(clip.outputs):
        if output.output and Path(output.output).exists():
            return Path(output.output)
    return None


def _edit_ready(clip: KeptClip) -> Path | None:
    """The newest output that an editing program is to take: no review copy, and no folder of stills."""
    for output in reversed(clip.outputs):
        recipe = output.record.recipe if output.record is not None else ""
        if isinstance(recipe, Recipe) and not recipe.edit_ready:
            continue
        if output.output and Path(output.output).is_file():
            return Path(output.output)
    return None


def _handed(clip: KeptClip) -> HandedClip | None:
    if clip.facts is None or not clip.facts.video:
        return None
    proxy = next((path for role, path in clip.companions if role == _PROXY_ROLE), None)
    return HandedClip(
        f"{clip.card} {clip.clip.name}", clip.card, clip.clip.start, clip.facts, clip.paths, _edit_ready(clip), proxy
    )
