"""Footage that has just been proven: its clips are looked at from the copy, not from the card."""

from __future__ import annotations

from diadoche.services.jobs.identify import ClipToIdentify, IdentifyRequest
from diadoche.services.ledger.kept_clips import kept_clips
from diadoche.services.ledger.ledger import Ledger
from diadoche.services.machine.state_places import StatePlaces
from diadoche.services.queue.runner import Job, Runner


class NewFootage:
    """Asks for every new clip to be looked at, once."""

    def __init__(self, ledger: Ledger, runner: Runner, places: StatePlaces) -> None:
        self._ledger = ledger
        self._runner = runner
        self._places = places
        self._looked_at: set[int] = set()

    def look_at(self, offload: Job, profile: str) -> None:
        """Looks at what an offload that is done has brought.

        Args:
            offload: the job.
            profile: name of the editor profile that the clips are judged for.
        """
        new = [
            clip
            for clip in kept_clips(self._ledger, offload.request.shoot_id)
            if clip.facts is None and clip.id not in self._looked_at
        ]
        if not new:
            return
        self._looked_at.update(clip.id for clip in new)
        request = IdentifyRequest(
            tuple(ClipToIdentify(clip.paths, clip.id, clip.sounds) for clip in new),
            profile,
            own_profiles=self._places.own_profiles,
            facts_memory=self._places.facts_memory,
        )
        self._runner.add("identify", f"Look at {len(new)} clips of {offload.result.name}", "facts", request)
